// The strata: one band a layer over the frame ruler. A band is the layer's health.

import { isOut } from './gauges.js';
import { all, first, target } from './page.js';

/** @import { Clock } from './clock.js' */
/** @import { Cue, Layer, State } from './types' */
/**
 * @typedef {object} Doing
 * @property {(id: string) => void} choose
 * @property {(id: string, place: number) => void} move
 * @property {(id: string) => void} reveal
 * @property {(id: string) => void} alone
 * @property {() => void} add
 * @property {(layer: Layer) => boolean} inView
 */

const SVG = 'http://www.w3.org/2000/svg';
/**
 * @param {string} name
 * @param {Record<string, string | number>} attributes
 */
const make = (name, attributes) => {
  const node = document.createElementNS(SVG, name);
  for (const [k, v] of Object.entries(attributes)) node.setAttribute(k, String(v));
  return node;
};

// More bands than this are drawn on one line each.
const ROOMY = 6, TALL = 37, SHORT = 23;
// A press that moves less than this is a click.
const CLICK = 4;

export class Strata {
  /**
   * @param {HTMLElement} element
   * @param {Clock} clock
   * @param {Doing} actions
   */
  constructor(element, clock, actions) {
    this.element = element;
    this.clock = clock;
    this.actions = actions;
    /** the band that is pointed at or has the focus */
    this.near = '';
    this.chosen = '';
    /** @type {State} */
    this.state = /** @type {any} */ (null);
    /** what the bands were drawn from */
    this.told = '';
    this.row = TALL;
    element.innerHTML = `<div class="ruler"><div class="clock"><button id="play" title="Play or pause (Space)" aria-label="Play or pause"></button>
      <span class="num" id="now-frame"></span><span class="num quiet" id="now-seconds"></span><button id="add-layer" title="Add a layer (A)" aria-label="Add a layer">+</button></div><div class="lane" id="ruler-lane"></div></div><div id="bands"></div>`;
    this.play = first('#play', element);
    this.play.addEventListener('click', () => clock.toggle());
    first('#add-layer', element).addEventListener('click', () => actions.add());
    this.ruler = first('#ruler-lane', element);
    this.bands = first('#bands', element);
    element.addEventListener('pointerdown', event => {
      const lane = target(event).closest('.lane'), name = target(event).closest('.band > .name');
      if (lane) this.scrub(event, lane);
      else if (name && event.button === 0) this.carry(event, /** @type {HTMLElement} */ (name.parentNode));
    });
    for (const kind of ['pointerover', 'focusin']) {
      element.addEventListener(kind, event => {
        const band = /** @type {HTMLElement | null} */ (target(event).closest?.('.band'));
        this.look(band?.dataset.id || '');
      });
    }
    element.addEventListener('pointerleave', () => this.look(''));
    clock.onFrame(() => this.tick());
  }

  /**
   * Follow the pointer until it is let go.
   * @param {PointerEvent} event
   * @param {(event: PointerEvent) => void} move called once it has gone farther than a click
   * @param {(moved: boolean, event: PointerEvent | null) => void} end told whether it had
   */
  follow(event, move, end) {
    const element = this.element;
    let moved = false;
    element.setPointerCapture(event.pointerId);
    element.onpointermove = e => {
      moved ||= Math.hypot(e.clientX - event.clientX, e.clientY - event.clientY) > CLICK;
      if (moved) move(e);
    };
    element.onpointerup = e => { element.onpointermove = element.onpointerup = element.onpointercancel = null; end(moved, e); };
    element.onpointercancel = () => { element.onpointermove = element.onpointerup = element.onpointercancel = null; end(false, null); };
  }

  /**
   * The ruler goes to the frame at once; a band is chosen by a click and scrubbed by a drag.
   * @param {PointerEvent} event
   * @param {Element} lane
   */
  scrub(event, lane) {
    const { clock } = this, { id } = /** @type {HTMLElement} */ (lane.parentNode).dataset;
    const go = (/** @type {PointerEvent} */ e) => {
      const box = lane.getBoundingClientRect();
      clock.seek(clock.start + (e.clientX - box.left - 10) / (box.width - 20) * (clock.end - clock.start));
    };
    if (!id) go(event);
    this.follow(event, go, (moved, e) => { if (id && !moved && e) this.actions.choose(id); });
  }

  /**
   * A band carried up or down by its name is put where it is let go.
   * @param {PointerEvent} event
   * @param {HTMLElement} band
   */
  carry(event, band) {
    const { id = '' } = band.dataset;
    /** @type {number | null} */
    let place = null;
    const mark = (/** @type {PointerEvent} */ e) => {
      const box = this.bands.getBoundingClientRect(), from = this.state.layers.findIndex(x => x.id === id);
      place = Math.max(0, Math.min(this.state.layers.length - 1, Math.floor((e.clientY - box.top) / this.row)));
      for (const [i, node] of this.bands.querySelectorAll('.band').entries()) {
        node.classList.toggle('before', i === place && place < from);
        node.classList.toggle('after', i === place && place > from);
      }
      band.classList.add('carried');
    };
    this.follow(event, mark, (moved, e) => {
      for (const node of this.bands.querySelectorAll('.band')) node.classList.remove('before', 'after', 'carried');
      if (!moved) { if (e) this.actions.choose(id); } else if (place !== null) this.actions.move(id, place);
    });
  }

  /**
   * Where a frame lies across a lane, in percent of its width.
   * @param {number} frame
   */
  at(frame) {
    const span = Math.max(1, this.clock.end - this.clock.start), width = this.ruler.clientWidth || 1;
    return (10 + (frame - this.clock.start) / span * (width - 20)) / width * 100;
  }

  /**
   * @param {State} state
   * @param {string} chosen
   */
  draw(state, chosen) {
    this.state = state;
    const { start, end } = state;
    this.ruler.replaceChildren();
    const step = [1, 2, 5, 10, 20, 25, 50, 100, 200, 500, 1000].find(s => (end - start) / s <= 14) || 5000;
    for (let f = Math.ceil(start / step) * step; f <= end; f += step) this.label(f);
    if (start % step) this.label(start);
    for (const cue of state.cues) {
      const flag = document.createElement('button');
      flag.className = 'flag';
      flag.textContent = cue.name;
      flag.title = `Cue at frame ${cue.frame}`;
      flag.style.left = `${this.at(cue.frame)}%`;
      flag.addEventListener('pointerdown', event => { event.stopPropagation(); this.clock.seek(cue.frame); });
      this.ruler.append(flag);
    }
    this.chosen = chosen;
    this.element.dataset.quality = state.quality;
    this.row = state.layers.length > ROOMY ? SHORT : TALL;
    this.bands.classList.toggle('compact', this.row === SHORT);
    const active = document.activeElement, part = active?.className;
    const focused = /** @type {HTMLElement | null | undefined} */ (active?.closest?.('.band'))?.dataset.id;
    // what would look the same is not drawn again, or a press that is under way would be lost
    const told = JSON.stringify([state, chosen, state.layers.map(x => this.actions.inView(x)), this.ruler.clientWidth]);
    if (told !== this.told) this.bands.replaceChildren(...state.layers.map(layer => this.band(layer, layer.id === chosen)), this.links(state.layers));
    this.told = told;
    if (focused) first(`.band[data-id="${focused}"] > .${part}`, this.bands)?.focus();
    this.look(this.near);
    this.tick();
  }

  /** @param {number} frame */
  label(frame) {
    const tick = document.createElement('span');
    tick.className = 'tick';
    tick.style.left = `${this.at(frame)}%`;
    tick.textContent = String(frame);
    this.ruler.append(tick);
  }

  /**
   * Which band reads which: an arc from each layer down to its readers, those of the chosen one bright.
   * @param {Layer[]} layers
   */
  links(layers) {
    const { row } = this, svg = make('svg', { class: 'links', width: 24, height: row * layers.length, 'aria-hidden': 'true' });
    const places = new Map(layers.map((x, i) => [x.id, i])), off = row / 9;
    const at = (/** @type {string} */ id) => places.get(id) ?? 0;
    for (const layer of layers) {
      for (const source of [...layer.reads, ...layer.coupled.filter(x => at(x) < at(layer.id))]) {
        const from = at(source), to = at(layer.id), down = from < to ? 1 : -1;
        const a = from * row + row / 2 + down * off, b = to * row + row / 2 - down * off, x = 22 - 6 * Math.min(3, Math.abs(to - from));
        const both = layer.coupled.includes(source) ? ` M22,${a} m-3,-3 l3,3 l-3,3` : '';
        const arc = make('path', { d: `M22,${a} C${x},${a} ${x},${b} 22,${b} m-3,-3 l3,3 l-3,3${both}` });
        arc.setAttribute('data-from', source);
        arc.setAttribute('data-to', layer.id);
        svg.append(arc);
      }
    }
    // layers that are baked together stand in one bracket
    for (const group of new Set(layers.filter(x => x.together.length).map(x => [x.id, ...x.together].sort().join(' ')))) {
      const rows = group.split(' ').map(x => at(x) * row + row / 2);
      const [top, end] = [Math.min(...rows) - row / 3, Math.max(...rows) + row / 3];
      svg.append(make('path', { class: 'bracket', d: `M6,${top} H2.5 V${end} H6 ${rows.map(y => `M2.5,${y} H5`).join(' ')}` }));
    }
    return svg;
  }

  /**
   * What reads what, told of the band that is pointed at or has the focus, else of the chosen one.
   * @param {string} near
   */
  look(near) {
    this.near = near;
    if (!this.state) return;
    const about = near || this.chosen, layer = this.state.layers.find(x => x.id === about);
    for (const arc of all('.links path[data-to]', this.bands)) arc.classList.toggle('mine', arc.dataset.from === about || arc.dataset.to === about);
    for (const band of all('.band', this.bands)) {
      const { id = '' } = band.dataset, other = this.state.layers.find(x => x.id === id);
      const told = !near || !layer || !other ? '' : layer.coupled.includes(id) ? 'coupled' : layer.reads.includes(id) ? 'is read' : other.reads.includes(about) ? 'reads it' : '';
      first('.name', band).dataset.told = told;
    }
  }

  /**
   * @param {Layer} layer
   * @param {boolean} chosen
   */
  band(layer, chosen) {
    const row = document.createElement('div');
    row.className = `band kind-${layer.kind}${chosen ? ' chosen' : ''}`;
    row.dataset.id = layer.id;
    row.dataset.state = layer.state;
    const name = document.createElement('button');
    name.className = 'name';
    const title = document.createElement('span'), told = document.createElement('small');
    name.append(title, told);
    title.textContent = layer.name;
    const draft = this.state.quality === 'draft';
    told.textContent = layer.running ? String(layer.running.frame) : layer.state === 'partial' ? `${layer.done}/${layer.total}` : draft && layer.state === 'fresh' ? 'draft' : layer.state;
    name.setAttribute('aria-pressed', String(chosen));
    const called = (/** @type {string[]} */ ids) => ids.map(x => this.state.layers.find(y => y.id === x)?.name).join(', ');
    name.title = `${[layer.name, layer.reads.length ? `reads ${called(layer.reads)}` : 'reads no other layer', ...(layer.coupled.length ? [`coupled with ${called(layer.coupled)}`] : [])].join('; ')}. Drag it up or down to put it elsewhere`;
    // a press of the mouse is followed from its start; what is left are clicks from the keyboard
    name.addEventListener('click', event => { if (!event.detail) this.actions.choose(layer.id); });
    const eye = document.createElement('button'), seen = this.actions.inView(layer);
    eye.className = 'eye';
    eye.textContent = seen ? '●' : '○';
    eye.setAttribute('aria-pressed', String(seen));
    eye.setAttribute('aria-label', `${layer.name} in view`);
    eye.title = 'In view or not (H); with Alt this one alone (S)';
    eye.addEventListener('click', event => (event.altKey ? this.actions.alone(layer.id) : this.actions.reveal(layer.id)));
    const lane = document.createElement('div');
    lane.className = 'lane';
    lane.append(this.drawing(layer));
    const word = document.createElement('span');
    word.className = 'word';
    word.textContent = words(layer);
    if (layer.moving && layer.frames.length && layer.state !== 'stale') {
      const front = this.at(layer.frames[layer.frames.length - 1]);
      if (front < 75) word.style.left = `calc(${front}% + 8px)`;
      else Object.assign(word.style, { left: 'auto', right: `calc(${100 - front}% + 8px)` });
    }
    if (layer.state === 'fresh' && layer.moving) word.textContent = '';
    lane.append(word);
    const now = document.createElement('span');
    now.className = 'line-now';
    lane.append(now);
    row.append(name, eye, lane);
    return row;
  }

  /** @param {Layer} layer */
  drawing(layer) {
    const { start, end } = this.state, span = Math.max(1, end - start), svg = make('svg', { viewBox: '0 0 1000 100', preserveAspectRatio: 'none', 'aria-hidden': 'true' });
    const x = (/** @type {number} */ f) => this.at(f) * 10;
    if (layer.state === 'stale') {
      const id = `hatch-${layer.id}`;
      const pattern = make('pattern', { id, width: 8, height: 100, patternUnits: 'userSpaceOnUse', patternTransform: 'skewX(-24)' });
      pattern.append(make('rect', { width: 3, height: 100, fill: 'var(--hue)', opacity: 0.35 }));
      svg.append(pattern, make('rect', { x: x(start), y: 8, width: x(layer.moving ? end : start + span / 120) - x(start), height: 84, fill: `url(#${id})` }));
    }
    if (!layer.moving) {
      if (layer.state === 'fresh') svg.append(make('rect', { x: x(start) - 4, y: 20, width: 12, height: 60, fill: 'var(--hue)' }));
      return svg;
    }
    const { frames } = layer, last = frames[frames.length - 1];
    if (!frames.length) {
      svg.append(make('line', { x1: x(start), x2: x(end), y1: 88, y2: 88, stroke: 'var(--line)', 'stroke-width': 3 }));
      return svg;
    }
    const values = layer.gauges[layer.chief || ''] || [], most = Math.max(1e-9, ...values);
    const top = frames.map((f, i) => `${x(f).toFixed(1)},${(92 - 74 * values[i] / most).toFixed(1)}`).join(' ');
    svg.append(make('rect', { x: x(frames[0]), y: 92, width: Math.max(1, x(last) - x(frames[0])), height: 8, fill: 'var(--hue)', opacity: layer.state === 'stale' ? 0.3 : 1 }));
    svg.append(make('polygon', { points: `${x(frames[0])},92 ${top} ${x(last)},92`, fill: 'var(--hue)', opacity: layer.state === 'stale' ? 0.3 : 0.72 }));
    if (layer.state === 'partial') svg.append(make('rect', { x: x(last) - 1, y: 0, width: 2.5, height: 100, fill: 'var(--ink)' }));
    for (const scale of layer.scales) {
      layer.gauges[scale.name].forEach((v, i) => {
        if (isOut(v, scale) && layer.state !== 'stale') svg.append(make('rect', { x: x(frames[i]) - 1, y: 2, width: 2.5, height: 16, fill: 'var(--bad)' }));
      });
    }
    return svg;
  }

  tick() {
    const left = `${this.at(this.clock.frame)}%`;
    for (const line of all('.line-now', this.element)) line.style.left = left;
    if (!this.ruler.querySelector('.line-now')) this.ruler.insertAdjacentHTML('beforeend', '<span class="line-now"></span>');
    first('.line-now', this.ruler).style.left = left;
    first('#now-frame', this.element).textContent = String(this.clock.frame);
    first('#now-seconds', this.element).textContent = `${((this.clock.frame - this.clock.start) / this.clock.rate).toFixed(2)} s`;
    const icon = this.clock.playing ? '<path d="M2 1h3v10H2zM7 1h3v10H7z"/>' : '<path d="M2 1l9 5-9 5z"/>';
    if (this.play.dataset.icon !== icon) {
      this.play.dataset.icon = icon;
      this.play.innerHTML = `<svg viewBox="0 0 12 12">${icon}</svg>`;
    }
  }
}

/** @param {Layer} layer */
function words(layer) {
  if (layer.running) {
    const { seconds, done, total } = layer.running, left = Math.round(seconds * (total - done));
    return `${seconds.toFixed(2)} s a frame · ${Math.floor(left / 60)}:${String(left % 60).padStart(2, '0')} left`;
  }
  if (layer.state === 'absent') return 'not baked yet';
  if (layer.state === 'stale') return 'stale: a setting changed since this was baked';
  if (layer.state === 'partial') return 'stopped here';
  return layer.summary;
}
