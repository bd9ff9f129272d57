// Everything that can be done on the bench, by the palette, by keys and by pressing.
import { byId, first, target } from './page.js';
import { Palette } from './palette.js';
import { toast } from './toast.js';

/** @import { Clock } from './clock.js' */
/** @import { Gauges } from './gauges.js' */
/** @import { Panel } from './panel.js' */
/** @import { Session } from './session.js' */
/** @import { Command } from './types' */
/** @import { View } from './view.js' */

export class Actions {
  /**
   * @param {Session} session
   * @param {Clock} clock
   * @param {Panel} panel
   * @param {View} view
   * @param {Gauges} gauges
   * @param {string[][]} kinds names and titles of the kinds of layers
   * @param {(id: string) => void} choose
   */
  constructor(session, clock, panel, view, gauges, kinds, choose) {
    this.session = session;
    this.clock = clock;
    this.panel = panel;
    this.view = view;
    this.gauges = gauges;
    this.kinds = kinds;
    this.choose = choose;
    /** number of the finding that was gone to last */
    this.findingAt = -1;
    this.palette = new Palette(/** @type {HTMLDialogElement} */ (byId('palette')), () => this.commands());
    document.addEventListener('keydown', event => this.key(event));
    this.press();
  }

  // Layers.

  /** @param {string} kind */
  add(kind) { this.session.arrange('layers', { kind }); }

  copy() { if (this.session.chosen) this.session.arrange(`layers/${this.session.chosen}/copy`); }

  remove() {
    const { session } = this;
    if (!session.chosen) return;
    const { name } = session.layer;
    session.act(`layers/${session.chosen}/remove`, undefined, reply => {
      session.work(reply.layer);
      toast(`${name} is taken out. Undo (Ctrl Z) brings it back, with what was baked.`);
    });
  }

  /** @param {number} by */
  shift(by) {
    const { layers } = this.session.state, to = layers.findIndex(x => x.id === this.session.chosen) + by;
    if (to >= 0 && to < layers.length) this.session.arrange(`layers/${this.session.chosen}/move`, { to });
  }

  /**
   * Work on the layer before or after.
   * @param {number} by
   */
  step(by) {
    const { layers } = this.session.state, next = layers[layers.findIndex(x => x.id === this.session.chosen) + by];
    if (next) this.choose(next.id);
  }

  // Frames.

  /** @param {1 | -1} way */
  jump(way) {
    const { start, end, cues } = this.session.state, { clock } = this;
    const marks = [...new Set([start, ...cues.map(c => c.frame), end])].sort((a, b) => a - b);
    const next = way > 0 ? marks.find(m => m > clock.frame) : marks.findLast(m => m < clock.frame);
    if (next !== undefined) clock.seek(next);
  }

  nextFinding() {
    const found = this.session.state.findings.filter(f => !f.accepted);
    if (!found.length) return;
    this.findingAt = (this.findingAt + 1) % found.length;
    const { layer, frame } = found[this.findingAt];
    if (layer) this.choose(layer);
    if (frame !== null) this.clock.seek(frame);
    this.gauges.point(found[this.findingAt]);
  }

  addCue() { this.session.act('cues', { frame: this.clock.frame }); }

  otherQuality() { this.session.setQuality(this.session.quality === 'draft' ? 'shot' : 'draft'); }

  /** @returns {Command[]} */
  commands() {
    const { session, clock, panel, view } = this, { layer, chosen } = session;
    return [
      { name: 'Play or pause', key: 'Space', run: () => clock.toggle() },
      { name: 'Bake this layer, or stop', key: 'Ctrl Enter', run: () => session.bake() },
      { name: 'Bake to the frame in view', key: 'Ctrl Shift Enter', run: () => session.bakeTo(clock.frame) },
      { name: session.quality === 'draft' ? 'Results of the shot\'s own quality' : 'Drafts', key: 'Q', run: () => this.otherQuality() },
      { name: session.live ? 'Live off' : 'Live: bake a draft at each change', key: 'L', run: () => session.setLive(!session.live) },
      { name: session.against ? 'Back to the present state' : 'This against before', key: 'B', run: () => session.flip() },
      { name: 'Keep a version', key: 'K', run: () => panel.versions('POST') },
      { name: 'Versions', run: () => panel.versions() },
      { name: 'First frame', key: 'Ctrl Home', run: () => clock.seek(clock.start) },
      { name: 'Last frame', key: 'End', run: () => clock.seek(clock.end) },
      { name: 'Next cue', key: 'Ctrl →', run: () => this.jump(1) },
      { name: 'Cue before', key: 'Ctrl ←', run: () => this.jump(-1) },
      { name: 'Next finding', key: 'F8', run: () => this.nextFinding() },
      { name: 'Undo', key: 'Ctrl Z', run: () => session.retrace('undo') },
      { name: 'Redo', key: 'Ctrl Shift Z', run: () => session.retrace('redo') },
      { name: 'Add a cue at this frame', run: () => this.addCue() },
      ...view.commands(),
      ...this.kinds.map(([kind, title]) => ({ name: `Add a ${title} layer`, run: () => this.add(kind) })),
      ...session.state.layers.map(x => ({ name: `Work on ${x.name}`, run: () => this.choose(x.id) })),
      ...session.state.layers.map(x => ({ name: `${session.inView(x) ? 'Hide' : 'Show'} ${x.name}`, key: x.id === chosen ? 'H' : '', run: () => session.reveal(x.id) })),
      ...(layer ? [
        { name: `Show ${layer.name} alone, or all`, key: 'S', run: () => session.alone(chosen) },
        { name: `Copy ${layer.name}`, key: 'Ctrl D', run: () => this.copy() },
        { name: `Remove ${layer.name}`, key: 'Del', run: () => this.remove() },
        { name: `Put ${layer.name} one up`, key: 'Alt ↑', run: () => this.shift(-1) },
        { name: `Put ${layer.name} one down`, key: 'Alt ↓', run: () => this.shift(1) },
      ] : []),
      { name: 'Set pieces and frame range', run: () => panel.set() },
      { name: 'Hand over files', run: () => { location.href = `${session.base}/handover`; } },
      { name: 'Theme: light or dark', run: () => first('[data-theme-switch]').click() },
      { name: 'Queue', run: () => { location.href = '/queue'; } },
      { name: 'All shots', run: () => { location.href = '/'; } },
    ];
  }

  /**
   * What keys do while nothing is typed, by their names.
   * @param {KeyboardEvent} event
   * @returns {Record<string, () => unknown>}
   */
  keys(event) {
    const { session, clock, panel, view } = this, control = event.ctrlKey || event.metaKey, by = event.shiftKey ? 10 : 1;
    return {
      ...view.keys(),
      ' ': () => clock.toggle(),
      ArrowRight: () => (control ? this.jump(1) : clock.seek(clock.frame + by)),
      ArrowLeft: () => (control ? this.jump(-1) : clock.seek(clock.frame - by)),
      ArrowUp: () => (event.altKey ? this.shift(-1) : this.step(-1)),
      ArrowDown: () => (event.altKey ? this.shift(1) : this.step(1)),
      End: () => clock.seek(clock.end),
      ...(control ? { Home: () => clock.seek(clock.start) } : {}),
      Delete: () => this.remove(),
      q: () => this.otherQuality(),
      l: () => session.setLive(!session.live),
      b: () => session.flip(),
      k: () => panel.versions('POST'),
      a: () => this.palette.open('Add a '),
      h: () => session.chosen && session.reveal(session.chosen),
      s: () => session.chosen && session.alone(session.chosen),
    };
  }

  /** @param {KeyboardEvent} event */
  key(event) {
    if (!this.session.state) return;
    const typing = target(event).matches('input:not([type="range"]), select, textarea'), run = this.always(event) || (typing ? null : this.free(event));
    if (!run) return;
    event.preventDefault();
    run();
  }

  /**
   * What keys do whatever is typed.
   * @param {KeyboardEvent} event
   * @returns {(() => unknown) | null}
   */
  always(event) {
    const control = event.ctrlKey || event.metaKey, { session, clock } = this;
    if (control && event.key === 'Enter') {
      // what is typed is put first
      target(event).blur?.();
      return () => (event.shiftKey ? session.bakeTo(clock.frame) : session.bake());
    }
    if (control && event.key.toLowerCase() === 'k') return () => this.palette.open();
    return event.key === 'F8' ? () => this.nextFinding() : null;
  }

  /**
   * What they do while nothing is typed.
   * @param {KeyboardEvent} event
   * @returns {(() => unknown) | null}
   */
  free(event) {
    const at = target(event), control = event.ctrlKey || event.metaKey, letter = event.key.toLowerCase();
    if (control && letter === 'd') return () => this.copy();
    if (control && letter === 'z') return () => this.session.retrace(event.shiftKey ? 'redo' : 'undo');
    if (event.key === 'Escape') return this.view.putDown() ? () => {} : null;
    // sliders and buttons have keys of their own
    if (at.matches('input[type="range"]') || (event.key === ' ' && at.matches('button, a'))) return null;
    return this.keys(event)[event.key] || null;
  }

  /** Buttons of the page, and of the panel, which is drawn anew at each change. */
  press() {
    const { session, panel, view } = this;
    /** @type {Record<string, () => unknown>} */
    const buttons = {
      set: () => panel.set(), commands: () => this.palette.open(), flip: () => session.flip(), versions: () => panel.versions(),
      undo: () => session.retrace('undo'), redo: () => session.retrace('redo'), 'findings-count': () => this.nextFinding(),
    };
    for (const [id, run] of Object.entries(buttons)) byId(id).addEventListener('click', run);
    /** @type {Record<string, (pressed: HTMLElement) => unknown>} */
    const within = {
      '#bake': () => session.bake(),
      '[data-see]': ({ dataset }) => session.see(`versions/${dataset.see}/seen`),
      '[data-back]': ({ dataset }) => session.act(`versions/${dataset.back}/back`),
      '[data-quality]': ({ dataset }) => session.setQuality(dataset.quality || ''),
      '#live': () => session.setLive(!session.live),
      '#to-here': () => session.bakeTo(this.clock.frame),
      '[data-copy]': () => this.copy(),
      '[data-remove]': () => this.remove(),
      '[data-add]': ({ dataset }) => this.add(dataset.add || ''),
      '#add-cue': () => this.addCue(),
      '[data-camera]': ({ dataset }) => view.useView(dataset.camera === 'new'),
    };
    byId('recipe').addEventListener('click', event => {
      for (const [selector, run] of Object.entries(within)) {
        const pressed = /** @type {HTMLElement | null} */ (target(event).closest(selector));
        if (pressed) run(pressed);
      }
    });
  }
}
