// What the page knows of a shot and asks of the server about it: the one owner of that. Others read it and are told when
// it is another.
import { getJson, post, Refused, seen } from './api.js';
import { toast } from './toast.js';

/** @import { Against, Layer, Meta, Progress, State } from './types' */

/**
 * `meta`: the set is another, given what was known before; `panel`: the panel shows what was before; `state`: there is an
 * answer; `view`: other layers are in view; `news`: a frame of a layer has been baked; `refused`: a change was not made.
 * @typedef {'meta' | 'panel' | 'state' | 'view' | 'news' | 'refused'} Event
 */

export class Session {
  /**
   * @param {string} shotId
   * @param {string} chosen id of the layer that is worked on
   */
  constructor(shotId, chosen) {
    this.shotId = shotId;
    this.base = `/shots/${shotId}`;
    this.chosen = chosen;
    /** health, gauges, findings and runs, as the server told them last @type {State} */
    this.state = /** @type {any} */ (null);
    /** what the stage must know of the set @type {Meta} */
    this.meta = /** @type {any} */ (null);
    /** the last news of a running bake @type {Progress | null} */
    this.latest = null;
    /** an earlier state that is looked at in place of the present one, never changed @type {Against | null} */
    this.against = null;
    /** results of the shot's own quality or drafts, never both in view */
    this.quality = localStorage.getItem(`urst-quality-${shotId}`) === 'draft' ? 'draft' : 'shot';
    /** whether each change bakes a draft */
    this.live = false;
    /** layers left out of the view, on this browser @type {Set<string>} */
    this.hidden = new Set(JSON.parse(localStorage.getItem(`urst-hidden-${shotId}`) || '[]'));
    // what was asked for while an answer is under way is asked for once more after it, so that the last word is the newest
    this.due = { again: false, meta: true, panel: false };
    /** the answer that is under way @type {Promise<void> | null} */
    this.refreshing = null;
    /** @type {Record<Event, ((...about: any[]) => unknown)[]>} */
    this.listeners = { meta: [], panel: [], state: [], view: [], news: [], refused: [] };
  }

  /**
   * @param {Event} what
   * @param {(...about: any[]) => unknown} listener
   */
  on(what, listener) { this.listeners[what].push(listener); }

  /**
   * @param {Event} what
   * @param {...any} about
   */
  async tell(what, ...about) { for (const listener of this.listeners[what]) await listener(...about); }

  /** The layer that is worked on, else the first; none in a shot without layers. */
  get layer() { return this.state.layers.find(x => x.id === this.chosen) || this.state.layers[0]; }

  /**
   * Layers of which something is on disk and in view, by what the stage draws of them.
   * @param {string} representation
   */
  drawn(representation) { return this.state.layers.filter(x => x.representation === representation && x.done && this.inView(x)); }

  // What is in view.

  /** @param {Layer} x */
  inView(x) { return !this.hidden.has(x.id); }

  /** @param {string} id */
  reveal(id) {
    if (!this.hidden.delete(id)) this.hidden.add(id);
    this.seen();
  }

  /** @param {string} id */
  alone(id) {
    const others = this.state.layers.map(x => x.id).filter(x => x !== id);
    const already = !this.hidden.has(id) && others.every(x => this.hidden.has(x));
    this.hidden.clear();
    if (!already) for (const x of others) this.hidden.add(x);
    this.seen();
  }

  seen() {
    localStorage.setItem(`urst-hidden-${this.shotId}`, JSON.stringify([...this.hidden]));
    this.tell('view');
  }

  // The document.

  /**
   * Ask the server to do something, and see what has become of the shot.
   * @param {string} path
   * @param {Record<string, any>} [fields]
   * @param {(reply: any) => void} [then]
   */
  async act(path, fields, then = () => {}) {
    const changes = !/^(bake|stop)/.test(path), left = Boolean(this.against);
    this.against = null;
    try {
      then(await post(`${this.base}/${path}`, fields));
      await this.refresh(changes || left, changes);
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      toast(error.message);
      this.tell('refused');
    }
  }

  /**
   * A change of the list of layers; the layer it is about is worked on from then on.
   * @param {string} path
   * @param {Record<string, any>} [fields]
   */
  arrange(path, fields) { return this.act(path, fields, reply => this.work(reply.layer)); }

  /**
   * Undo or redo; where it was somebody else's change, that is said.
   * @param {'undo' | 'redo'} way
   */
  retrace(way) {
    const [done, back] = way === 'undo' ? ['Undone', 'Redo'] : ['Done again', 'Undo'];
    return this.act(`history/${way}`, undefined, reply => {
      if (reply.elsewhere) toast(`${done}, and made in another browser: ${reply.what}. ${back} takes that back.`);
    });
  }

  /** @param {string} id */
  work(id) {
    this.chosen = id;
    history.replaceState(null, '', id ? `${this.base}?layer=${id}` : this.base);
  }

  /**
   * See how things stand.
   * @param {boolean} [changed] whether the document is another
   * @param {boolean} [panel] whether the panel on the left shows what was before and must be asked for anew
   */
  refresh(changed = false, panel = changed) {
    this.due.again = true;
    this.due.meta ||= changed;
    this.due.panel ||= panel;
    this.refreshing ||= this.asking().finally(() => { this.refreshing = null; });
    return this.refreshing;
  }

  async asking() {
    while (this.due.again) {
      try { await this.ask(); } catch (error) {
        // an earlier state that is gone, such as a version just forgotten, gives way to the present one
        this.due.meta = true;
        if (!this.against || !(error instanceof Refused)) throw error;
        this.against = null;
        this.due.again = true;
        toast(error.message);
      }
    }
  }

  async ask() {
    this.due.again = false;
    if (this.due.meta) await this.askMeta();
    const { quality, against } = this, got = await getJson(`${this.base}/state?quality=${quality}&at=${against?.at || ''}`);
    if (quality !== this.quality || against !== this.against) return;
    this.state = got;
    if (!against) seen.revision = got.revision;
    if (!this.due.again) this.settle();
    // a page opened in mid-bake goes by what the run has told so far
    const told = this.latest || this.state.runs.map(r => r.progress).find(p => p.layer) || null;
    this.markRunning(this.state.runs.length ? told : null);
    this.tell('state');
  }

  async askMeta() {
    this.due.meta = false;
    const before = this.meta;
    this.meta = await getJson(`${this.base}/stage?quality=${this.quality}&at=${this.against?.at || ''}`);
    await this.tell('meta', before);
  }

  /** There is nothing newer to ask for. */
  settle() {
    // undo may have taken the layer away that was worked on
    if (!this.against && this.layer?.id !== this.chosen) this.work(this.state.layers[0]?.id || '');
    if (!this.due.panel) return;
    this.due.panel = false;
    this.tell('panel');
  }

  // Other states and qualities.

  /**
   * This against before: an earlier state by its path, or the present one.
   * @param {string} path
   */
  async see(path) {
    try {
      this.against = path ? await getJson(`${this.base}/${path}`) : null;
      await this.refresh(true, false);
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      toast(error.message);
    }
  }

  flip() { return this.see(this.against ? '' : `before?quality=${this.quality}`); }

  /** @param {string} to */
  setQuality(to) {
    if (this.quality === to) return this.refresh();
    this.takeQuality(to);
    return this.refresh(true, false).catch(error => { toast(error.message); });
  }

  /** @param {string} to */
  takeQuality(to) {
    this.quality = to;
    localStorage.setItem(`urst-quality-${this.shotId}`, to);
    this.latest = null;
  }

  /** @param {boolean} on */
  setLive(on) {
    this.live = on;
    if (on) this.bakeLive();
    else this.tell('view');
  }

  // Bakes.

  bake() {
    if (this.state.runs.length) this.act('stop');
    else if (this.chosen) { this.latest = null; this.act(`bake/${this.chosen}`, { quality: this.quality }); }
  }

  /** @param {number} frame */
  bakeTo(frame) {
    if (this.state.runs.length || !this.chosen) return;
    this.latest = null;
    this.act(`bake/${this.chosen}`, { quality: this.quality, to: frame });
  }

  /** The bake is asked for first, the page follows. */
  bakeLive() {
    if (!this.chosen) { this.refresh(true, false); return; }
    this.takeQuality('draft');
    post(`${this.base}/bake/${this.chosen}`, { quality: this.quality, instead: true }).catch(error => { toast(error.message); }).finally(() => this.refresh(true, false));
  }

  /** What is done before the first frame: kernels compiled, once on a machine; water coming to rest. */
  preparing() {
    const p = this.state.runs.map(r => r.progress).find(x => x.doing);
    return p ? `${p.doing}: ${Math.floor((100 * p.done) / Math.max(1, p.total))} %` : '';
  }

  /**
   * Layers that act on each other are baked together, so news of one is news of all.
   * @param {Progress | null} news
   */
  markRunning(news) {
    const current = news && news.done < news.total && this.state.layers.find(x => x.id === news.layer)?.wanted === news.key ? news : null;
    for (const x of this.state.layers) x.running = current && (x.id === current.layer || x.together.includes(current.layer)) ? current : null;
  }

  /**
   * A frame has been baked; false if more than that is another, so that one has to ask.
   * @param {Progress} news
   */
  take(news) {
    const x = this.state.layers.find(l => l.id === news.layer);
    // what is baked of another quality, or of the document as it was, changes nothing here
    if (!x || news.key !== x.wanted) return true;
    this.latest = news;
    this.markRunning(news);
    if (x.key !== news.key || !x.moving || x.state === 'absent' || x.state === 'stale') return false;
    if (!x.frames.includes(news.frame)) {
      x.frames.push(news.frame);
      for (const [name, values] of Object.entries(x.gauges)) values.push(news.gauges[name] ?? 0);
    }
    x.done = x.frames.length;
    x.state = x.done >= x.total ? 'fresh' : 'partial';
    this.tell('news', x, news.frame);
    return true;
  }
}
