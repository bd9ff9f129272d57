// The controls over the stage: what is shown, from where, in what light; measuring; stills and movies.
import { Refused } from './api.js';
import { Measure } from './measure.js';
import { Picture } from './picture.js';
import { Sources } from './sources.js';

const $ = id => document.getElementById(id);
// frames of a movie, as the server takes them
const MOST = 1000;
const MODES = ['material', 'fragment', 'speed', 'strain', 'load', 'rest'], LOOKS = ['free', 'front', 'side', 'top'];

export class View {
  // bench: base, state(), meta(), quality(), chosen(), show(), refresh(), act(path, fields, then), toast(text), openPiece(n), results(), see(frame), baked()
  constructor(stage, clock, bench) {
    Object.assign(this, { stage, clock, bench });
    this.picture = new Picture(stage, $('mask'), $('clipped-share'));
    this.sources = new Sources(stage);
    this.measure = new Measure(stage, $('in-hand'), {
      open: piece => bench.openPiece(piece), redraw: () => bench.show(), toast: text => bench.toast(text),
      chosenDomain: () => bench.meta()?.domains[bench.chosen()],
      move: (piece, [x, y, z]) => bench.act(`pieces/${piece}/move`, { x, y, z }),
    });
    this.seeSources = false;
    for (const b of document.querySelectorAll('[data-mode]')) b.addEventListener('click', () => this.colour(b.dataset.mode));
    for (const b of document.querySelectorAll('[data-show]')) b.addEventListener('click', () => this.reveal(b.dataset.show));
    for (const b of document.querySelectorAll('[data-look]')) b.addEventListener('click', () => this.look(b.dataset.look));
    for (const b of document.querySelectorAll('[data-tool]')) b.addEventListener('click', () => this.tool(b.dataset.tool));
    $('explode').addEventListener('input', event => { stage.explode = Number(event.target.value); bench.show(); });
    for (const id of ['cut', 'cut-at', 'slice']) $(id).addEventListener('input', () => this.cut());
    $('exposure').addEventListener('change', () => this.setExposure($('exposure').value));
    $('through').addEventListener('change', event => bench.act('seen', { path: 'through', value: event.target.value }).then(() => this.throughCamera()));
    $('movie-form').addEventListener('submit', event => { event.preventDefault(); this.movie(); });
  }

  // The document is another: cameras, exposure, sources follow.
  load() {
    const { camera, cameras, picture } = this.bench.meta(), menu = $('through');
    menu.replaceChildren(...cameras.map(name => new Option(name, name, false, name === camera.name)));
    $('lens').textContent = `${camera.lens} mm`;
    if (document.activeElement !== $('exposure')) $('exposure').value = picture.exposure;
    this.picture.expose(picture.exposure);
    this.measure.draw();
    this.frame();
  }

  // Another frame or layer is in view.
  frame() {
    const state = this.bench.state(), layer = state?.layers.find(x => x.id === this.bench.chosen());
    if (!this.seeSources || !layer) { if (this.sources.asked) this.sources.clear(); return; }
    const hue = getComputedStyle(document.querySelector(`.kind-${layer.kind}`)).getPropertyValue('--hue').trim();
    this.sources.show(this.bench.base, layer.id, this.clock.frame, state.revision, hue).catch(error => this.bench.toast(error.message));
  }

  pressed(selector, on) { document.querySelector(selector).setAttribute('aria-pressed', String(on)); }

  colour(mode) {
    this.stage.mode = mode;
    for (const m of MODES) this.pressed(`[data-mode="${m}"]`, m === mode);
    this.bench.show();
  }

  reveal(what) {
    this.stage.shown[what] = !this.stage.shown[what];
    this.pressed(`[data-show="${what}"]`, this.stage.shown[what]);
    if (what === 'contacts' && this.stage.shown.contacts && !this.stage.live?.some(b => b.frame?.touch_point)) {
      this.bench.toast('These frames hold no contacts: let Fall keep "contacts and their forces", and bake it.');
    }
    this.measure.draw();
    this.bench.show();
  }

  look(view) {
    this.stage.seeFrom(view);
    for (const v of LOOKS) this.pressed(`[data-look="${v}"]`, v === view);
    this.measure.draw();
  }

  throughCamera() {
    this.look('free');
    this.stage.seeThroughCamera();
  }

  tool(name) {
    const run = {
      ruler: () => this.rule(!this.measure.ruling), sources: () => this.showSources(!this.seeSources), clipped: () => this.markClipped(!this.stage.light.mark),
      camera: () => this.throughCamera(), 'from-here': () => this.useView(true), 'put-here': () => this.useView(false), still: () => this.still(),
      movie: () => this.openMovie(), brighter: () => this.setExposure(Number($('exposure').value) + 0.5), darker: () => this.setExposure(Number($('exposure').value) - 0.5),
    };
    run[name]();
  }

  rule(on) {
    this.measure.rule(on);
    this.pressed('[data-tool="ruler"]', on);
  }

  showSources(on) {
    this.seeSources = on;
    this.pressed('[data-tool="sources"]', on);
    this.frame();
  }

  markClipped(on) {
    this.picture.markClipped(on);
    this.pressed('[data-tool="clipped"]', on);
  }

  cut() {
    const axis = $('cut').value;
    $('cut-at').hidden = !axis;
    this.stage.cutAt(axis, Number($('cut-at').value));
    this.offerSlices();
    this.bench.show();
  }

  // What may be shown on the cut of the result that has most to show: the one that is chosen, else the first.
  offerSlices() {
    const { sliced } = this.bench.meta(), menu = $('slice'), of = sliced[this.bench.chosen()] || Object.values(sliced)[0] || [];
    $('slice-of').hidden = !$('cut').value || !of.length;
    if (menu.options.length - 1 === of.length && of.every((s, n) => menu.options[n + 1].value === s.name)) return;
    menu.replaceChildren(new Option('nothing on it', ''), ...of.map(s => new Option(s.title, s.name)));
  }

  sliced() { return $('cut').value ? $('slice').value : ''; }

  setExposure(text) { this.bench.act('seen', { path: 'picture.exposure', value: String(text) }); }

  useView(fresh) {
    if ((this.stage.element.dataset.view || 'free') !== 'free') { this.bench.toast('A straight view has no camera to keep: go back to the free view (1) first.'); return; }
    const { eye, target } = this.stage.view();
    this.bench.act('camera', { eye: eye.join(', '), target: target.join(', '), new: fresh });
  }

  // Escape: what is in hand is put down, one thing at a time; false if nothing was.
  putDown() {
    if (!$('movie-form').hidden) $('movie-form').hidden = true;
    else if (this.measure.ruling) this.rule(false);
    else if (this.measure.piece !== null) this.bench.results();
    else return false;
    return true;
  }

  still() {
    const { name } = this.bench.state();
    return this.picture.still(`${name} ${String(this.clock.frame).padStart(4, '0')}.png`);
  }

  openMovie() {
    const form = $('movie-form'), { first, last } = this.bench.baked();
    form.hidden = !form.hidden;
    form.elements.from.value = first;
    form.elements.to.value = last;
    if (!form.hidden) form.elements.from.focus();
  }

  async movie() {
    const form = $('movie-form'), { start, end } = this.clock, [from, to] = ['from', 'to'].map(n => Number(form.elements[n].value));
    if (!(Number.isInteger(from) && Number.isInteger(to) && start <= from && from <= to && to <= end)) {
      this.bench.toast(`A movie runs from frame ${start} to ${end} at most: write two whole numbers, the smaller first.`);
      return;
    }
    if (to - from >= MOST) { this.bench.toast(`A movie has at most ${MOST} frames, these are ${to - from + 1}: choose a shorter range.`); return; }
    const button = form.querySelector('button'), text = button.textContent, back = this.clock.frame;
    if (this.filming) { this.filming = false; return; }
    this.filming = true;
    this.clock.pause();
    try {
      const frames = Array.from({ length: to - from + 1 }, (_, i) => from + i);
      const made = await this.picture.movie(this.bench.base, frames, this.bench.quality(), f => this.bench.see(f), (done, all) => {
        button.textContent = done < all ? `Stop, ${done} of ${all}` : 'Writing…';
        return this.filming;
      });
      if (made) {
        form.hidden = true;
        this.bench.toast(`The movie of ${made.frames} frames is kept with version ${made.version}.`, { text: 'Download', href: `${this.bench.base}/handover/${made.file}` });
      }
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      this.bench.toast(error.message);
    } finally {
      this.filming = false;
      button.textContent = text;
      this.clock.go(back);
    }
  }

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
      { name: 'Mark clipped pixels', run: () => this.markClipped(!this.stage.light.mark) },
      { name: 'Half a stop brighter', run: () => this.tool('brighter') },
      { name: 'Half a stop darker', run: () => this.tool('darker') },
      ...MODES.map(m => ({ name: `Colour by ${m}`, run: () => this.colour(m) })),
      ...Object.keys(this.stage.shown).map(w => ({ name: `Show or hide ${w}`, key: w === 'outlines' ? 'O' : '', run: () => this.reveal(w) })),
    ];
  }

  keys() {
    return {
      Home: () => this.throughCamera(), p: () => this.still(), m: () => this.openMovie(), r: () => this.rule(!this.measure.ruling), o: () => this.reveal('outlines'),
      ...Object.fromEntries(LOOKS.map((v, i) => [String(i + 1), () => this.look(v)])),
    };
  }
}
