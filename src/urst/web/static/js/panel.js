// The panel on the left: the recipe of a layer, the set, or versions. What was asked for last is what is seen.
export class Panel {
  // chosen(): id of the layer that is worked on; drawn(): called whenever the panel is another
  constructor(element, base, chosen, drawn) {
    Object.assign(this, { element, base, chosen });
    this.name = 'recipe';
    this.piece = 0;
    let asked = 0, seen = 0;
    const orders = new WeakMap();
    document.body.addEventListener('htmx:beforeRequest', event => {
      asked += 1;
      if (event.detail.target === element) orders.set(event.detail.xhr, asked);
    });
    document.body.addEventListener('htmx:configRequest', event => {
      event.detail.headers['urst-revision'] = element.querySelector('[data-revision]')?.dataset.revision ?? '';
    });
    document.body.addEventListener('htmx:beforeSwap', event => {
      // a change that met another's comes back with both values told
      const { xhr } = event.detail;
      if (xhr.status === 409 && xhr.getResponseHeader('content-type')?.startsWith('text/html')) Object.assign(event.detail, { shouldSwap: true, isError: false });
      const order = orders.get(event.detail.xhr);
      if (order === undefined) return;
      // an answer that comes after a newer one is old news
      if (order < seen) event.detail.shouldSwap = false;
      else seen = order;
    });
    document.body.addEventListener('htmx:afterSwap', () => {
      const menu = document.getElementById('piece');
      if (menu) this.piece = Number(menu.value);
      drawn();
    });
  }

  ask(way, path) { return htmx.ajax(way, `${this.base}/${path}`, { target: '#recipe' }); }

  recipe() {
    this.name = 'recipe';
    return this.ask('GET', `recipe${this.chosen() ? `/${this.chosen()}` : ''}`);
  }

  set(piece = this.piece) {
    Object.assign(this, { name: 'set', piece });
    return this.ask('GET', `pieces/${piece}`);
  }

  versions(way = 'GET') {
    this.name = 'versions';
    return this.ask(way, 'versions');
  }

  again() { return this[this.name](); }
}
