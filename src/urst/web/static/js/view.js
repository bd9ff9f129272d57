// The controls over the stage: what is shown, from where, in what light; measuring; stills and movies.
import { Refused } from './api.js';
import { Measure } from './measure.js';
import { all, byId, field, first, form, input, menu } from './page.js';
import { Picture } from './picture.js';
import { Sources } from './sources.js';
import { toast } from './toast.js';

/** @import { Clock } from './clock.js' */
/** @import { Session } from './session.js' */
/** @import { Stage } from './stage.js' */
/** @import { Command } from './types' */
/**
 * @typedef {object} Doing
 * @property {() => void} show
 * @property {() => { first: number, last: number }} baked the range of frames that something in view is baked for
 * @property {(frame: number) => Promise<void>} see resolves when a frame has been drawn
 * @property {(piece: number) => void} openPiece
 * @property {() => void} results
 */

// frames of a movie, as the server takes them
const MOST = 1000;
const MODES = ['material', 'fragment', 'speed', 'strain', 'load', 'rest'], LOOKS = ['free', 'front', 'side', 'top'];

export class View {
  /**
   * @param {Stage} stage
   * @param {Clock} clock
   * @param {Session} session
   * @param {Doing} doing
   */
  constructor(stage, clock, session, doing) {
    this.stage = stage;
    this.clock = clock;
    this.session = session;
    this.doing = doing;
    this.filming = false;
    this.picture = new Picture(stage, byId('mask'), byId('clipped-share'));
    this.sources = new Sources(stage);
    this.measure = new Measure(stage, byId('in-hand'), {
      open: piece => doing.openPiece(piece), redraw: () => doing.show(), toast,
      chosenDomain: () => session.meta?.domains[session.chosen],
      move: (piece, [x, y, z]) => session.act(`pieces/${piece}/move`, { x, y, z }),
    });
    this.seeSources = false;
    for (const b of all('[data-mode]')) b.addEventListener('click', () => this.colour(b.dataset.mode || ''));
    for (const b of all('[data-show]')) b.addEventListener('click', () => this.reveal(b.dataset.show || ''));
    for (const b of all('[data-look]')) b.addEventListener('click', () => this.look(b.dataset.look || ''));
    for (const b of all('[data-tool]')) b.addEventListener('click', () => this.tool(b.dataset.tool || ''));
    input('explode').addEventListener('input', () => { stage.explode = Number(input('explode').value); doing.show(); });
    for (const id of ['cut', 'cut-at', 'slice']) byId(id).addEventListener('input', () => this.cut());
    input('exposure').addEventListener('change', () => this.setExposure(input('exposure').value));
    menu('through').addEventListener('change', () => session.act('seen', { path: 'through', value: menu('through').value }).then(() => this.throughCamera()));
    form('movie-form').addEventListener('submit', event => { event.preventDefault(); this.movie(); });
  }

  /** The document is another: cameras, exposure, sources follow. */
  load() {
    const { camera, cameras, picture } = this.session.meta;
    menu('through').replaceChildren(...cameras.map(name => new Option(name, name, false, name === camera.name)));
    byId('lens').textContent = `${camera.lens} mm`;
    if (document.activeElement !== input('exposure')) input('exposure').value = String(picture.exposure);
    this.picture.expose(picture.exposure);
    this.measure.draw();
    this.frame();
  }

  // Another frame or layer is in view.
  frame() {
    const { state, chosen, base } = this.session, layer = state?.layers.find(x => x.id === chosen);
    if (!this.seeSources || !layer) { if (this.sources.asked) this.sources.clear(); return; }
    const hue = getComputedStyle(first(`.kind-${layer.kind}`)).getPropertyValue('--hue').trim();
    this.sources.show(base, layer.id, this.clock.frame, state.revision, hue).catch(error => toast(error.message));
  }

  /**
   * @param {string} selector
   * @param {boolean} on
   */
  pressed(selector, on) { first(selector).setAttribute('aria-pressed', String(on)); }

  /** @param {string} mode */
  colour(mode) {
    this.stage.mode = mode;
    for (const m of MODES) this.pressed(`[data-mode="${m}"]`, m === mode);
    this.doing.show();
  }

  /** @param {string} what */
  reveal(what) {
    this.stage.shown[what] = !this.stage.shown[what];
    this.pressed(`[data-show="${what}"]`, this.stage.shown[what]);
    if (what === 'contacts' && this.stage.shown.contacts && !this.stage.live.some(b => b.frame?.touch_point)) {
      toast('These frames hold no contacts: let Fall keep "contacts and their forces", and bake it.');
    }
    this.measure.draw();
    this.doing.show();
  }

  /** @param {string} view */
  look(view) {
    this.stage.seeFrom(view);
    for (const v of LOOKS) this.pressed(`[data-look="${v}"]`, v === view);
    this.measure.draw();
  }

  throughCamera() {
    this.look('free');
    this.stage.seeThroughCamera();
  }

  /** @param {string} name */
  tool(name) {
    const exposure = Number(input('exposure').value);
    /** @type {Record<string, () => unknown>} */
    const run = {
      ruler: () => this.rule(!this.measure.ruling), sources: () => this.showSources(!this.seeSources), clipped: () => this.markClipped(!this.stage.composite.light.mark),
      camera: () => this.throughCamera(), 'from-here': () => this.useView(true), 'put-here': () => this.useView(false), still: () => this.still(),
      movie: () => this.openMovie(), brighter: () => this.setExposure(exposure + 0.5), darker: () => this.setExposure(exposure - 0.5),
    };
    run[name]();
  }

  /** @param {boolean} on */
  rule(on) {
    this.measure.rule(on);
    this.pressed('[data-tool="ruler"]', on);
  }

  /** @param {boolean} on */
  showSources(on) {
    this.seeSources = on;
    this.pressed('[data-tool="sources"]', on);
    this.frame();
  }

  /** @param {boolean} on */
  markClipped(on) {
    this.picture.markClipped(on);
    this.pressed('[data-tool="clipped"]', on);
  }

  cut() {
    const axis = menu('cut').value;
    input('cut-at').hidden = !axis;
    this.stage.cutAt(axis, Number(input('cut-at').value));
    this.offerSlices();
    this.doing.show();
  }

  // What may be shown on the cut of the result that has most to show: the one that is chosen, else the first.
  offerSlices() {
    const { meta: { sliced }, chosen } = this.session, { options } = menu('slice'), of = sliced[chosen] || Object.values(sliced)[0] || [];
    byId('slice-of').hidden = !menu('cut').value || !of.length;
    if (options.length - 1 === of.length && of.every((s, n) => options[n + 1].value === s.name)) return;
    menu('slice').replaceChildren(new Option('nothing on it', ''), ...of.map(s => new Option(s.title, s.name)));
  }

  sliced() { return menu('cut').value ? menu('slice').value : ''; }

  /** @param {string | number} text */
  setExposure(text) { this.session.act('seen', { path: 'picture.exposure', value: String(text) }); }

  /** @param {boolean} fresh whether it is a camera of its own */
  useView(fresh) {
    if (this.stage.eye.isStraight) { toast('A straight view has no camera to keep: go back to the free view (1) first.'); return; }
    const { eye, target } = this.stage.eye.place();
    this.session.act('camera', { eye: eye.join(', '), target: target.join(', '), new: fresh });
  }

  // Escape: what is in hand is put down, one thing at a time; false if nothing was.
  putDown() {
    if (!form('movie-form').hidden) form('movie-form').hidden = true;
    else if (this.measure.ruling) this.rule(false);
    else if (this.measure.piece !== null) this.doing.results();
    else return false;
    return true;
  }

  still() {
    const { name } = this.session.state;
    return this.picture.still(`${name} ${String(this.clock.frame).padStart(4, '0')}.png`);
  }

  openMovie() {
    const asked = form('movie-form'), range = this.doing.baked();
    asked.hidden = !asked.hidden;
    field(asked, 'from').value = String(range.first);
    field(asked, 'to').value = String(range.last);
    if (!asked.hidden) field(asked, 'from').focus();
  }

  async movie() {
    const asked = form('movie-form'), { start, end } = this.clock, [from, to] = ['from', 'to'].map(n => Number(field(asked, n).value)), { base, quality } = this.session;
    if (!(Number.isInteger(from) && Number.isInteger(to) && start <= from && from <= to && to <= end)) {
      toast(`A movie runs from frame ${start} to ${end} at most: write two whole numbers, the smaller first.`);
      return;
    }
    if (to - from >= MOST) { toast(`A movie has at most ${MOST} frames, these are ${to - from + 1}: choose a shorter range.`); return; }
    const button = first('button', asked), text = button.textContent, back = this.clock.frame;
    if (this.filming) { this.filming = false; return; }
    this.filming = true;
    this.clock.pause();
    try {
      const frames = Array.from({ length: to - from + 1 }, (_, i) => from + i);
      const made = await this.picture.movie(base, frames, quality, f => this.doing.see(f), (done, total) => {
        button.textContent = done < total ? `Stop, ${done} of ${total}` : 'Writing…';
        return this.filming;
      });
      if (made) {
        asked.hidden = true;
        toast(`The movie of ${made.frames} frames is kept with version ${made.version}.`, { text: 'Download', href: `${base}/handover/${made.file}` });
      }
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      toast(error.message);
    } finally {
      this.filming = false;
      button.textContent = text;
      this.clock.go(back);
    }
  }

  /** @returns {Command[]} */
  commands() {
    return [
      { name: 'See through the camera', key: 'Home', run: () => this.throughCamera() },
      { name: 'Camera from here', run: () => this.useView(true) },
      { name: 'Put the camera where the view is', run: () => this.useView(false) },
      ...LOOKS.map((v, i) => ({ name: v === 'free' ? 'Free view' : `View from the ${v}, without perspective`, key: String(i + 1), run: () => this.look(v) })),
      { name: 'Save the picture in view', key: 'P', run: () => this.still() },
      { name: 'Movie of what is in view', key: 'M', run: () => this.openMovie() },
      { name: 'Ruler between two points', key: 'R', run: () => this.rule(!this.measure.ruling) },
      { name: 'Sources: what gives off, how fast, how much', run: () => this.showSources(!this.seeSources) },
      { name: 'Mark clipped pixels', run: () => this.markClipped(!this.stage.composite.light.mark) },
      { name: 'Half a stop brighter', run: () => this.tool('brighter') },
      { name: 'Half a stop darker', run: () => this.tool('darker') },
      ...MODES.map(m => ({ name: `Colour by ${m}`, run: () => this.colour(m) })),
      ...Object.keys(this.stage.shown).map(w => ({ name: `Show or hide ${w}`, key: w === 'outlines' ? 'O' : '', run: () => this.reveal(w) })),
    ];
  }

  /** @returns {Record<string, () => unknown>} */
  keys() {
    return {
      Home: () => this.throughCamera(), p: () => this.still(), m: () => this.openMovie(), r: () => this.rule(!this.measure.ruling), o: () => this.reveal('outlines'),
      ...Object.fromEntries(LOOKS.map((v, i) => [String(i + 1), () => this.look(v)])),
    };
  }
}
