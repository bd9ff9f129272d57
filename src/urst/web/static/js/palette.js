// A command palette: everything that can be done, by name.
import { first } from './page.js';

/** @import { Command } from './types' */

export class Palette {
  /**
   * @param {HTMLDialogElement} dialog
   * @param {() => Command[]} commands
   */
  constructor(dialog, commands) {
    this.dialog = dialog;
    this.commands = commands;
    this.input = /** @type {HTMLInputElement} */ (first('input', dialog));
    this.list = first('ul', dialog);
    /** @type {Command[]} */
    this.found = [];
    this.at = 0;
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

  /** @param {number} i */
  mark(i) {
    this.at = Math.max(0, Math.min(i, this.found.length - 1));
    [...this.list.children].forEach((item, n) => item.setAttribute('aria-selected', String(n === this.at)));
    this.list.children[this.at]?.scrollIntoView({ block: 'nearest' });
  }

  /** @param {number} i */
  run(i) {
    const command = this.found[i];
    if (!command) return;
    this.dialog.close();
    command.run();
  }
}
