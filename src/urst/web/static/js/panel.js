// The panel on the left: the recipe of a layer, the set, or versions. What was asked for last is what is seen.
import { menu } from './page.js';

/** @typedef {CustomEvent<any>} Swap an event of the library that swaps parts of the page */
export class Panel {
  /**
   * @param {HTMLElement} element
   * @param {string} base
   * @param {() => string} chosen id of the layer that is worked on
   * @param {() => void} drawn called whenever the panel is another
   */
  constructor(element, base, chosen, drawn) {
    this.base = base;
    this.chosen = chosen;
    /** @type {'recipe' | 'set' | 'versions'} */
    this.name = 'recipe';
    this.piece = 0;
    let asked = 0, seen = 0;
    const orders = new WeakMap();
    /**
     * @param {string} name
     * @param {(event: Swap) => void} listener
     */
    const on = (name, listener) => document.body.addEventListener(name, event => listener(/** @type {Swap} */ (event)));
    on('htmx:beforeRequest', event => {
      asked += 1;
      if (event.detail.target === element) orders.set(event.detail.xhr, asked);
    });
    on('htmx:configRequest', event => {
      event.detail.headers['urst-revision'] = /** @type {HTMLElement | null} */ (element.querySelector('[data-revision]'))?.dataset.revision ?? '';
    });
    on('htmx:beforeSwap', event => {
      // a change that met another's comes back with both values told
      const { xhr } = event.detail;
      if (xhr.status === 409 && xhr.getResponseHeader('content-type')?.startsWith('text/html')) Object.assign(event.detail, { shouldSwap: true, isError: false });
      const order = orders.get(event.detail.xhr);
      if (order === undefined) return;
      // an answer that comes after a newer one is old news
      if (order < seen) event.detail.shouldSwap = false;
      else seen = order;
    });
    on('htmx:afterSwap', () => {
      const piece = menu('piece');
      if (piece) this.piece = Number(piece.value);
      drawn();
    });
  }

  /**
   * @param {'GET' | 'POST'} way
   * @param {string} path
   */
  ask(way, path) { return window.htmx.ajax(way, `${this.base}/${path}`, { target: '#recipe' }); }

  recipe() {
    this.name = 'recipe';
    return this.ask('GET', `recipe${this.chosen() ? `/${this.chosen()}` : ''}`);
  }

  set(piece = this.piece) {
    this.name = 'set';
    this.piece = piece;
    return this.ask('GET', `pieces/${piece}`);
  }

  /** @param {'GET' | 'POST'} way */
  versions(way = 'GET') {
    this.name = 'versions';
    return this.ask(way, 'versions');
  }

  again() { return this[this.name](); }
}
