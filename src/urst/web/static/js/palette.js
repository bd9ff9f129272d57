// A command palette: everything that can be done, by name.

export class Palette {
  constructor(dialog, commands) {
    this.dialog = dialog;
    this.commands = commands;
    this.input = dialog.querySelector('input');
    this.list = dialog.querySelector('ul');
    this.input.addEventListener('input', () => this.filter());
    dialog.addEventListener('keydown', event => {
      if (event.key === 'Enter') { event.preventDefault(); this.run(this.at); }
      if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
        event.preventDefault();
        this.mark(this.at + (event.key === 'ArrowDown' ? 1 : -1));
      }
      event.stopPropagation();
    });
  }

  open(text = '') {
    this.input.value = text;
    this.dialog.showModal();
    this.filter();
  }

  filter() {
    const words = this.input.value.toLowerCase().split(/\s+/).filter(Boolean);
    this.found = this.commands().filter(c => words.every(w => c.name.toLowerCase().includes(w)));
    this.list.replaceChildren(...this.found.map((c, i) => {
      const item = document.createElement('li');
      item.setAttribute('role', 'option');
      const name = document.createElement('span'), key = document.createElement('span');
      name.textContent = c.name;
      key.textContent = c.key || '';
      key.className = 'num';
      item.append(name, key);
      item.addEventListener('click', () => this.run(i));
      return item;
    }));
    this.mark(0);
  }

  mark(i) {
    this.at = Math.max(0, Math.min(i, this.found.length - 1));
    [...this.list.children].forEach((item, n) => item.setAttribute('aria-selected', String(n === this.at)));
    this.list.children[this.at]?.scrollIntoView({ block: 'nearest' });
  }

  run(i) {
    const command = this.found[i];
    if (!command) return;
    this.dialog.close();
    command.run();
  }
}
