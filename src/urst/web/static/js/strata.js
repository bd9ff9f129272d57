// The strata: one band a layer over the frame ruler. A band is the layer's health.

const SVG = 'http://www.w3.org/2000/svg';
const make = (name, attributes) => {
  const node = document.createElementNS(SVG, name);
  for (const [k, v] of Object.entries(attributes)) node.setAttribute(k, v);
  return node;
};

export class Strata {
  constructor(element, clock, choose) {
    this.element = element;
    this.clock = clock;
    this.choose = choose;
    element.innerHTML = `<div class="ruler"><div class="clock"><button id="play" title="Play or pause (Space)" aria-label="Play or pause"></button>
      <span class="num" id="now-frame"></span><span class="num quiet" id="now-seconds"></span></div><div class="lane" id="ruler-lane"></div></div><div id="bands"></div>`;
    this.play = element.querySelector('#play');
    this.play.addEventListener('click', () => clock.toggle());
    this.ruler = element.querySelector('#ruler-lane');
    this.bands = element.querySelector('#bands');
    element.addEventListener('pointerdown', event => {
      const lane = event.target.closest('.lane');
      if (!lane) return;
      const move = e => {
        const box = lane.getBoundingClientRect();
        clock.go(clock.start + (e.clientX - box.left - 10) / (box.width - 20) * (clock.end - clock.start));
      };
      move(event);
      element.setPointerCapture(event.pointerId);
      element.onpointermove = move;
      element.onpointerup = element.onpointercancel = () => { element.onpointermove = null; };
    });
    clock.onFrame(() => this.tick());
  }

  // Where a frame lies across a lane, in percent of its width.
  at(frame) {
    const span = Math.max(1, this.clock.end - this.clock.start), width = this.ruler.clientWidth || 1;
    return (10 + (frame - this.clock.start) / span * (width - 20)) / width * 100;
  }

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
      flag.addEventListener('pointerdown', event => { event.stopPropagation(); this.clock.go(cue.frame); });
      this.ruler.append(flag);
    }
    this.bands.replaceChildren(...state.layers.map(layer => this.band(layer, layer.id === chosen)), this.links(state.layers, chosen));
    this.tick();
  }

  label(frame) {
    const tick = document.createElement('span');
    tick.className = 'tick';
    tick.style.left = `${this.at(frame)}%`;
    tick.textContent = frame;
    this.ruler.append(tick);
  }

  // Which band reads which: an arc from each layer down to its readers, those of the chosen one bright.
  links(layers, chosen) {
    const row = 37, svg = make('svg', { class: 'links', width: 24, height: row * layers.length, 'aria-hidden': 'true' });
    const at = new Map(layers.map((x, i) => [x.id, i]));
    for (const layer of layers) {
      for (const source of [...layer.reads, ...layer.coupled.filter(x => at.get(x) < at.get(layer.id))]) {
        const a = at.get(source) * row + row / 2 + 4, b = at.get(layer.id) * row + row / 2 - 4, x = 22 - 6 * Math.min(3, Math.abs(at.get(layer.id) - at.get(source)));
        const mine = layer.id === chosen || source === chosen;
        const both = layer.coupled.includes(source) ? ` M22,${a} m-3,-3 l3,3 l-3,3` : '';
        svg.append(make('path', { d: `M22,${a} C${x},${a} ${x},${b} 22,${b} m-3,-3 l3,3 l-3,3${both}`, class: mine ? 'mine' : '' }));
      }
    }
    return svg;
  }

  band(layer, chosen) {
    const row = document.createElement('div');
    row.className = `band kind-${layer.kind}${chosen ? ' chosen' : ''}`;
    row.dataset.id = layer.id;
    row.dataset.state = layer.state;
    const name = document.createElement('button');
    name.innerHTML = '<span></span><small></small>';
    name.firstChild.textContent = layer.name;
    name.lastChild.textContent = layer.running ? String(layer.running.frame) : layer.state === 'partial' ? `${layer.done}/${layer.total}` : layer.state;
    name.setAttribute('aria-pressed', String(chosen));
    name.title = [layer.reads.length ? `reads ${layer.reads.join(', ')}` : 'reads no other layer', ...(layer.coupled.length ? [`coupled with ${layer.coupled.join(', ')}`] : [])].join('; ');
    name.addEventListener('click', () => this.choose(layer.id));
    const lane = document.createElement('div');
    lane.className = 'lane';
    lane.append(this.drawing(layer));
    const word = document.createElement('span');
    word.className = 'word';
    word.textContent = words(layer);
    if (layer.moving && layer.frames.length && layer.state !== 'stale') {
      const front = this.at(layer.frames.at(-1));
      if (front < 75) word.style.left = `calc(${front}% + 8px)`;
      else Object.assign(word.style, { left: 'auto', right: `calc(${100 - front}% + 8px)` });
    }
    if (layer.state === 'fresh' && layer.moving) word.textContent = '';
    lane.append(word);
    const now = document.createElement('span');
    now.className = 'line-now';
    lane.append(now);
    row.append(name, lane);
    return row;
  }

  drawing(layer) {
    const { start, end } = this.state, span = Math.max(1, end - start), svg = make('svg', { viewBox: '0 0 1000 100', preserveAspectRatio: 'none', 'aria-hidden': 'true' });
    const x = f => this.at(f) * 10;
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
    const frames = layer.frames;
    if (!frames.length) {
      svg.append(make('line', { x1: x(start), x2: x(end), y1: 88, y2: 88, stroke: 'var(--line)', 'stroke-width': 3 }));
      return svg;
    }
    const values = layer.gauges[layer.chief] || [], most = Math.max(1e-9, ...values);
    const top = frames.map((f, i) => `${x(f).toFixed(1)},${(92 - 74 * values[i] / most).toFixed(1)}`).join(' ');
    svg.append(make('rect', { x: x(frames[0]), y: 92, width: Math.max(1, x(frames.at(-1)) - x(frames[0])), height: 8, fill: 'var(--hue)', opacity: layer.state === 'stale' ? 0.3 : 1 }));
    svg.append(make('polygon', { points: `${x(frames[0])},92 ${top} ${x(frames.at(-1))},92`, fill: 'var(--hue)', opacity: layer.state === 'stale' ? 0.3 : 0.72 }));
    if (layer.state === 'partial') svg.append(make('rect', { x: x(frames.at(-1)) - 1, y: 0, width: 2.5, height: 100, fill: 'var(--ink)' }));
    for (const scale of layer.scales) {
      layer.gauges[scale.name].forEach((v, i) => {
        const shown = v * scale.factor, out = (scale.most !== null && shown > scale.most) || (scale.least !== null && shown < scale.least);
        if (out && layer.state !== 'stale') svg.append(make('rect', { x: x(frames[i]) - 1, y: 2, width: 2.5, height: 16, fill: 'var(--bad)' }));
      });
    }
    return svg;
  }

  tick() {
    const left = `${this.at(this.clock.frame)}%`;
    for (const line of this.element.querySelectorAll('.line-now')) line.style.left = left;
    if (!this.ruler.querySelector('.line-now')) this.ruler.insertAdjacentHTML('beforeend', '<span class="line-now"></span>');
    this.ruler.querySelector('.line-now').style.left = left;
    this.element.querySelector('#now-frame').textContent = this.clock.frame;
    this.element.querySelector('#now-seconds').textContent = `${((this.clock.frame - this.clock.start) / this.clock.rate).toFixed(2)} s`;
    const icon = this.clock.playing ? '<path d="M2 1h3v10H2zM7 1h3v10H7z"/>' : '<path d="M2 1l9 5-9 5z"/>';
    if (this.play.dataset.icon !== icon) {
      this.play.dataset.icon = icon;
      this.play.innerHTML = `<svg viewBox="0 0 12 12">${icon}</svg>`;
    }
  }
}

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
