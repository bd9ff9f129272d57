// The curve editor of the recipe: a small plot with points that are moved by mouse or keys, over what is measured.
import { getJson } from './api.js';
import { added, moved, placeOf, typed, valueAt } from './curve.js';
import { all, field, first, target } from './page.js';

/** @import { Point } from './curve.js' */
/** @import { Cue } from './types' */
/**
 * @typedef {object} World
 * @property {string} base
 * @property {() => string} layer
 * @property {() => number} frame
 * @property {() => { start: number, end: number }} range
 * @property {() => Cue[]} cues
 * @property {() => string} quality
 * @property {() => string} shown what the results are that measures are taken of
 */
/** @typedef {{ bars: number[], low: number, high: number, about: string }} Found what is measured of what a curve runs over */
/** @typedef {{ point?: number, field?: string }} Focus */

const NS = 'http://www.w3.org/2000/svg', WIDE = 262, TALL = 90;
/** @type {Record<string, string>} */
const UNIT = { frame: '', age: 's', speed: 'm/s', height: 'm', distance: 'm' };
/** @param {number | string} x */
const short = x => String(Number(Number(x).toPrecision(3)));

/**
 * @param {string} name
 * @param {Record<string, string | number>} attributes
 * @param {Element} [parent]
 */
function make(name, attributes, parent) {
  const node = document.createElementNS(NS, name);
  for (const [key, value] of Object.entries(attributes)) node.setAttribute(key, String(value));
  parent?.append(node);
  return node;
}

export class Curves {
  /**
   * @param {HTMLElement} root
   * @param {World} world
   */
  constructor(root, world) {
    this.root = root;
    this.world = world;
    /** number of the point in hand, by the path of the setting @type {Map<string, number>} */
    this.picked = new Map();
    /** what has the focus once the recipe is drawn anew @type {Focus & { path: string } | null} */
    this.focus = null;
    /** @type {Editor[]} */
    this.editors = [];
    root.addEventListener('click', event => {
      const button = /** @type {HTMLElement | null} */ (target(event).closest('[data-vary]'));
      if (button) this.begin(button);
    });
  }

  // Called whenever the recipe or the shot is another: an editor that stands already goes on with what is in hand.
  mount() {
    const before = new Map(this.editors.map(editor => [editor.node, editor]));
    this.editors = [...all('.curve[data-plot]', this.root)].map(node => before.get(node) || new Editor(node, this));
    for (const editor of this.editors) if (before.has(editor.node)) editor.follow();
  }

  frameChanged() {
    for (const editor of this.editors) editor.frameChanged();
  }

  /**
   * @param {string} path
   * @param {string} over
   * @param {number[] | null | undefined} origin
   * @returns {Promise<Found | null>}
   */
  async measured(path, over, origin) {
    const { base, layer, frame, quality, shown } = this.world;
    if (!layer()) return null;
    const query = new URLSearchParams({ path, over, frame: String(frame()), quality: quality(), origin: origin ? origin.join(' ') : '', shown: shown() });
    return getJson(`${base}/measured/${layer()}?${query}`);
  }

  /**
   * A number becomes a curve that is level over what there is.
   * @param {HTMLElement} button
   */
  async begin(button) {
    const form = formOf(button), input = field(form, 'value'), path = field(form, 'path').value, [over] = (button.dataset.vary || '').split(' ');
    const { start, end } = this.world.range();
    let [low, high] = over === 'frame' ? [start, end] : [0, 1];
    if (over !== 'frame' && !button.closest('[data-whole]')) {
      const found = await this.measured(path, over, null).catch(() => null);
      if (found?.bars.length) [low, high] = [0, Number(short(found.high)) || 1];
    }
    const value = input.value.replace(/^=.*$/, button.dataset.number || '');
    this.focus = { path, point: 0 };
    input.value = `over ${over} ${low}: ${value}, ${high > low ? high : low + 1}: ${value}`;
    form.requestSubmit();
  }
}

/** @param {HTMLElement} node */
const formOf = node => /** @type {HTMLFormElement} */ (node.closest('form'));

class Editor {
  /**
   * @param {HTMLElement} node
   * @param {Curves} every
   */
  constructor(node, every) {
    this.node = node;
    this.every = every;
    this.form = formOf(node);
    /** @type {{ over: string, points: Point[], origin?: number[] | null, least: number, most: number }} */
    this.plot = JSON.parse(node.dataset.plot || '');
    this.path = field(this.form, 'path').value;
    this.points = this.plot.points;
    this.cues = Object.fromEntries(every.world.cues().map(c => [c.name, c.frame]));
    this.picked = Math.min(every.picked.get(this.path) || 0, this.points.length - 1);
    /** what is measured @type {Found | null} */
    this.found = null;
    /** the scales as a drag began @type {{ span: { low: number, high: number }, levels: { low: number, high: number } } | null} */
    this.dragging = null;
    /** @type {number | undefined} */
    this.due = undefined;
    /** @type {number | undefined} */
    this.typing = undefined;
    this.svg = /** @type {Element} */ (node);
    this.build();
    this.measure();
    if (every.focus?.path === this.path) {
      const { point, field: part } = every.focus;
      every.focus = null;
      if (point !== undefined) this.picked = point;
      this.draw();
      (part ? this.part(part) : this.knots()[this.picked])?.focus();
    }
  }

  /** @param {string} name */
  part(name) { return /** @type {HTMLInputElement} */ (this.node.querySelector(`[data-part="${name}"]`)); }

  knots() { return all('.knot', this.svg); }

  build() {
    const { over } = this.plot, overs = (this.node.dataset.overs || '').split(' ');
    const menu = overs.length > 1 ? `<span class="entry"><select data-part="over" aria-label="Over what">${overs.map(o => `<option ${o === over ? 'selected' : ''}>${o}</option>`).join('')}</select></span>` : `<span>${over}</span>`;
    this.node.innerHTML = `<div class="curve-top"><span class="quiet">over</span>${menu}</div>
      <svg viewBox="0 0 ${WIDE} ${TALL}" role="group" aria-label="Curve over ${over}"></svg>
      <div class="curve-point"><span class="entry"><input data-part="at" aria-label="Where"><i>${UNIT[over]}</i></span><span class="entry"><input data-part="value" aria-label="Value"><i>${this.node.dataset.unit}</i></span>
      <button type="button" class="chip" data-part="add" title="Add a point ${over === 'frame' ? 'at the frame in view' : 'in the widest gap'} (Insert)">+</button><button type="button" class="chip" data-part="remove" title="Remove this point (Delete)">−</button><button type="button" class="chip" data-part="level" title="One number again">level</button></div>
      ${over === 'distance' ? '<div class="curve-from"><span class="quiet">from</span><span class="entry"><input data-part="origin" aria-label="Distance from x, y, z"><i>m</i></span></div>' : ''}`;
    this.svg = first('svg', this.node);
    // the form's own value changes only when a curve is done with
    this.node.addEventListener('change', event => { event.stopPropagation(); this.changed(/** @type {HTMLInputElement} */ (event.target)); });
    this.node.addEventListener('click', event => this.pressed(event));
    this.svg.addEventListener('dblclick', event => { if (!target(event).closest('.knot')) this.add(this.placeAt(/** @type {MouseEvent} */ (event)).at); });
    this.node.addEventListener('keydown', event => this.keyed(event));
    this.draw();
  }

  async measure() {
    try { this.found = await this.every.measured(this.path, this.plot.over, this.plot.origin); } catch { this.found = null; }
    if (this.node.isConnected) this.draw();
  }

  follow() {
    this.cues = Object.fromEntries(this.every.world.cues().map(c => [c.name, c.frame]));
    if (!this.dragging) this.measure();
  }

  frameChanged() {
    clearTimeout(this.due);
    if (this.plot.over === 'frame') this.draw();
    else this.due = setTimeout(() => this.measure(), 120);
  }

  // What is seen: all points, what is measured, and over frames the shot's range.
  span() {
    const places = this.points.map(p => p.at), { start, end } = this.every.world.range();
    if (this.plot.over === 'frame') places.push(start, end);
    else if (this.found?.bars.length) places.push(this.found.low, this.found.high);
    const low = Math.min(...places), high = Math.max(...places);
    return high > low ? { low, high } : { low, high: low + 1 };
  }

  levels() {
    const values = this.points.map(p => p.value), high = Math.max(...values), low = Math.min(0, ...values);
    return { low, high: high > low ? low + (high - low) * 1.12 : low + 1 };
  }

  scales() {
    const s = this.dragging?.span || this.span(), v = this.dragging?.levels || this.levels(), left = 34, wide = WIDE - 42, tall = TALL - 20;
    return {
      x: (/** @type {number} */ at) => left + (at - s.low) / (s.high - s.low) * wide,
      y: (/** @type {number} */ value) => 10 + (1 - (value - v.low) / (v.high - v.low)) * tall,
      at: (/** @type {number} */ x) => s.low + (x - left) / wide * (s.high - s.low),
      value: (/** @type {number} */ y) => v.low + (1 - (y - 10) / tall) * (v.high - v.low), s, v,
    };
  }

  draw() {
    const focused = this.svg.contains(document.activeElement), { x, y, s, v } = this.scales(), svg = this.svg, { over } = this.plot;
    svg.replaceChildren();
    if (this.found?.bars.length) this.drawMeasured(this.found, x);
    make('line', { x1: 30, x2: WIDE, y1: TALL - 10, y2: TALL - 10, class: 'axis' }, svg);
    if (over === 'frame') {
      for (const [name, frame] of Object.entries(this.cues)) {
        const line = make('line', { x1: x(frame), x2: x(frame), y1: 2, y2: TALL - 10, class: 'cue-line' }, svg);
        make('title', {}, line).textContent = name;
      }
      const now = this.every.world.frame();
      make('line', { x1: x(now), x2: x(now), y1: 10, y2: TALL - 10, class: 'now' }, svg);
    }
    const line = [];
    for (let i = 0; i <= 96; i += 1) {
      const at = s.low + (s.high - s.low) * i / 96;
      line.push(`${x(at).toFixed(1)},${y(valueAt(this.points, at)).toFixed(1)}`);
    }
    make('polyline', { points: line.join(' '), class: 'line' }, svg);
    this.points.forEach((p, i) => this.knot(p, i, x, y));
    const p = this.points[this.picked];
    this.part('at').value = placeOf(p, this.cues);
    this.part('value').value = String(Number(p.value.toPrecision(6)));
    this.part('remove').disabled = this.points.length < 2;
    if (this.part('origin')) this.part('origin').value = (this.plot.origin || [0, 0, 0]).join(', ');
    /** @type {(at: number, anchor: string, top: number, words: string) => void} */
    const text = (at, anchor, top, words) => { make('text', { x: at, y: top, 'text-anchor': anchor, class: 'label' }, svg).textContent = words; };
    text(34, 'start', TALL - 1, short(s.low));
    text(WIDE - 2, 'end', TALL - 1, `${short(s.high)} ${UNIT[over]}`);
    const top = Math.max(...this.points.map(q => q.value));
    text(27, 'end', y(top) + 4, short(top));
    if (v.low < top) text(27, 'end', TALL - 11, short(v.low));
    text(WIDE - 3, 'end', 8, this.found ? this.found.about : '');
    if (focused) this.knots()[this.picked]?.focus();
  }

  /**
   * @param {Found} found
   * @param {(at: number) => number} x
   */
  drawMeasured({ bars, low, high }, x) {
    const floor = TALL - 10, most = Math.max(...bars), tall = (/** @type {number} */ bar) => bar / most * (TALL - 20);
    /** @type {string} */
    let d;
    if (this.plot.over === 'frame') {
      const step = (high - low) / (bars.length - 1 || 1);
      d = `M${x(low)} ${floor} ${bars.map((b, i) => `L${x(low + i * step).toFixed(1)} ${(floor - tall(b)).toFixed(1)}`).join(' ')} L${x(high)} ${floor} Z`;
    } else {
      const step = (high - low) / bars.length, wide = Math.max(0.8, x(step) - x(0) - 0.6).toFixed(1);
      d = bars.map((b, i) => (b ? `M${x(low + i * step).toFixed(1)} ${floor} v${(-tall(b)).toFixed(1)} h${wide} V${floor} Z` : '')).join('');
    }
    make('path', { d, class: 'measured' }, this.svg);
  }

  /**
   * @param {Point} p
   * @param {number} i
   * @param {(at: number) => number} x
   * @param {(value: number) => number} y
   */
  knot(p, i, x, y) {
    const where = { cx: x(p.at), cy: y(p.value) };
    const node = p.cue
      ? make('rect', { x: where.cx - 4.5, y: where.cy - 4.5, width: 9, height: 9, transform: `rotate(45 ${where.cx} ${where.cy})` }, this.svg)
      : make('circle', { ...where, r: 4.6 }, this.svg);
    node.setAttribute('class', `knot${i === this.picked ? ' picked' : ''}`);
    node.setAttribute('tabindex', '0');
    node.setAttribute('role', 'slider');
    node.setAttribute('aria-label', `Point ${i + 1} of ${this.points.length}, at ${placeOf(p, this.cues)}`);
    node.setAttribute('aria-valuenow', String(Number(p.value.toPrecision(6))));
    node.addEventListener('focus', () => { if (this.picked !== i) { this.pick(i); this.knots()[i].focus(); } });
    node.addEventListener('pointerdown', event => this.drag(/** @type {PointerEvent} */ (event), i));
  }

  /** @param {number} i */
  pick(i) {
    this.picked = i;
    this.every.picked.set(this.path, i);
    this.draw();
  }

  /** @param {MouseEvent} event */
  placeAt(event) {
    const box = this.svg.getBoundingClientRect(), { at, value } = this.scales();
    return { at: this.snap(at((event.clientX - box.left) / box.width * WIDE)), value: value((event.clientY - box.top) / box.height * TALL) };
  }

  /** @param {number} at */
  snap(at) { return this.plot.over === 'frame' ? Math.round(at) : Number(at.toPrecision(4)); }

  limits() { return { gap: this.plot.over === 'frame' ? 1 : (this.span().high - this.span().low) * 1e-3, least: this.plot.least, most: this.plot.most }; }

  /**
   * @param {PointerEvent} event
   * @param {number} i
   */
  drag(event, i) {
    event.preventDefault();
    this.pick(i);
    this.knots()[i].focus();
    const before = JSON.stringify(this.points), limits = this.limits();
    this.dragging = { span: this.span(), levels: this.levels() };
    const move = (/** @type {PointerEvent} */ e) => {
      const to = this.placeAt(e);
      this.points = moved(this.points, i, to.at, Number(to.value.toPrecision(3)), limits);
      this.draw();
    };
    const done = () => {
      removeEventListener('pointermove', move);
      removeEventListener('pointerup', done);
      this.dragging = null;
      this.draw();
      if (JSON.stringify(this.points) !== before) this.submit({ point: i });
    };
    addEventListener('pointermove', move);
    addEventListener('pointerup', done);
  }

  /** @param {KeyboardEvent} event */
  keyed(event) {
    // what is asked of the page as a whole, such as to bake, is not the editor's
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    const at = target(event);
    if (!at.closest('.knot')) {
      if (event.key === 'Enter' && at.matches('input')) { event.preventDefault(); at.blur(); }
      return;
    }
    const { high, low } = this.span(), levels = this.levels(), by = event.shiftKey ? 10 : 1, i = this.picked, p = this.points[i];
    const sideways = this.plot.over === 'frame' ? by : (high - low) / 100 * by, up = (levels.high - levels.low) / 100 * by;
    /** @type {Record<string, number[]>} */
    const steps = { ArrowLeft: [-sideways, 0], ArrowRight: [sideways, 0], ArrowUp: [0, up], ArrowDown: [0, -up] };
    if (steps[event.key]) {
      const [dx, dy] = steps[event.key];
      this.points = moved(this.points, i, this.snap(p.at + dx), dy ? Number((p.value + dy).toPrecision(3)) : p.value, this.limits());
      this.draw();
      clearTimeout(this.typing);
      this.typing = setTimeout(() => this.submit({ point: this.picked }), 500);
    } else if (event.key === 'Delete' || event.key === 'Backspace') this.remove();
    else if (event.key === 'Insert' || event.key === 'Enter') this.add();
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  /** @param {MouseEvent} event */
  pressed(event) {
    const { part } = /** @type {HTMLElement | null} */ (target(event).closest('[data-part]'))?.dataset || {};
    if (part === 'add') this.add();
    if (part === 'remove') this.remove();
    if (part === 'level') {
      field(this.form, 'value').value = String(Number(this.points[this.picked].value.toPrecision(6)));
      this.form.requestSubmit();
    }
  }

  /** @param {HTMLInputElement} typedIn */
  changed(typedIn) {
    const { part } = typedIn.dataset, p = this.points[this.picked];
    if (part === 'over') {
      // the same values, over what the other quantity is said to reach
      this.every.measured(this.path, typedIn.value, this.plot.origin).catch(() => null).then(found => {
        const { low, high } = this.span(), { start, end } = this.every.world.range();
        const to = typedIn.value === 'frame' ? [start, end] : [0, found?.bars.length ? found.high : 1];
        const shift = (/** @type {number} */ at) => to[0] + (at - low) / (high - low) * (to[1] - to[0]);
        this.plot.over = typedIn.value;
        this.points = this.points.map(x => ({ ...x, cue: '', at: this.snap(shift(x.at)) }));
        this.submit({ field: 'over' });
      });
      return;
    }
    // what was typed goes to the server in the curve's own words, units and cues included
    const others = this.points.map((x, i) => [i === this.picked && part === 'at' ? typedIn.value : placeOf(x, this.cues), i === this.picked && part === 'value' ? typedIn.value : String(Number(x.value.toPrecision(6)))]);
    const origin = part === 'origin' ? typedIn.value.split(/[,;\s]+/).filter(Boolean) : this.plot.origin, from = this.plot.over === 'distance' && origin ? ` from ${origin.join(' ')}` : '';
    if (part === 'at' && !typedIn.value.trim()) { typedIn.value = placeOf(p, this.cues); return; }
    this.send(`over ${this.plot.over}${from} ${others.map(([at, value]) => `${at}: ${value}`).join(', ')}`, { point: this.picked, field: part });
  }

  /** @param {number} [at] */
  add(at) {
    let place = at;
    if (place === undefined && this.plot.over === 'frame') place = this.every.world.frame();
    if (place === undefined) {
      const gaps = this.points.slice(1).map((p, i) => ({ wide: p.at - this.points[i].at, middle: (p.at + this.points[i].at) / 2 }));
      place = gaps.length ? this.snap(gaps.reduce((a, b) => (b.wide > a.wide ? b : a)).middle) : this.points[0].at + 1;
    }
    const found = added(this.points, place);
    this.pick(this.picked);
    if (found.points === this.points) { this.pick(found.number); return; }
    this.points = found.points;
    this.picked = found.number;
    this.submit({ point: found.number });
  }

  remove() {
    if (this.points.length < 2) return;
    this.points = this.points.filter((_, i) => i !== this.picked);
    this.picked = Math.max(0, this.picked - 1);
    this.submit({ point: this.picked });
  }

  /** @param {Focus} focus */
  submit(focus) { this.send(typed({ ...this.plot, points: this.points }, this.cues), focus); }

  /**
   * @param {string} text
   * @param {Focus} focus
   */
  send(text, focus) {
    clearTimeout(this.typing);
    this.every.picked.set(this.path, this.picked);
    this.every.focus = { path: this.path, ...focus };
    field(this.form, 'value').value = text;
    this.form.requestSubmit();
  }
}
