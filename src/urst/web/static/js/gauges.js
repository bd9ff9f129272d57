// The gauges of the chosen layer at this frame, and what looks wrong.
import { all, first } from './page.js';

/** @import { Clock } from './clock.js' */
/** @import { Finding, Layer, Scale, State } from './types' */
/**
 * @typedef {{ mend: (name: string) => void, go: (finding: Finding) => void, accept: (finding: Finding, reason: string) => void }} Doing
 */

/**
 * @param {number} value
 * @param {Scale} scale
 */
function shown(value, { factor, unit }) {
  const x = value * factor;
  const text = Math.abs(x) < 0.0005 ? '0' : Math.abs(x) >= 1000 ? Math.round(x).toLocaleString('en').replaceAll(',', '\u2009') : Number(x.toPrecision(3)).toString();
  return unit ? `${text} ${unit.replace('m3', 'm³').replace('m2', 'm²')}` : text;
}

/**
 * Whether a value lies outside what is plausible.
 * @param {number} value
 * @param {Scale} scale
 */
export function isOut(value, { factor, least, most }) {
  return (most !== null && value * factor > most) || (least !== null && value * factor < least);
}

export class Gauges {
  /**
   * @param {HTMLElement} element
   * @param {Clock} clock
   * @param {Doing} doing
   */
  constructor(element, clock, doing) {
    this.element = element;
    this.clock = clock;
    this.doing = doing;
    /** @type {Layer | undefined} */
    this.layer = undefined;
    /** @type {{ scale: Scale, node: HTMLElement }[]} */
    this.rows = [];
    this.head = element;
    /** name of the finding that is meant */
    this.pointed = '';
    clock.onFrame(() => this.numbers());
  }

  /**
   * @param {State} state
   * @param {Layer | undefined} layer
   */
  draw(state, layer) {
    this.layer = layer;
    // what looks wrong comes first: below the numbers nobody would see it
    const open = state.findings.filter(f => !f.accepted), accepted = state.findings.filter(f => f.accepted);
    this.element.replaceChildren(...open.map(f => this.finding(f)));
    if (!layer) { this.element.append(...accepted.map(f => this.finding(f))); return; }
    const head = document.createElement('div');
    head.className = 'gauge';
    head.innerHTML = '<div><span></span><span class="num"></span></div>';
    this.head = first('div', head);
    this.element.append(head);
    this.rows = layer.scales.map(scale => {
      const row = document.createElement('div');
      row.className = `gauge kind-${layer.kind}`;
      row.innerHTML = '<div><span></span><span class="num"></span></div>';
      first('span', row).textContent = scale.label;
      if (scale.about) row.title = scale.about;
      const values = layer.gauges[scale.name];
      if (layer.moving && values.length > 1 && values.some(v => v !== 0)) row.append(this.plot(values, scale, layer));
      this.element.append(row);
      return { scale, node: first('.num', row) };
    });
    this.element.append(...accepted.map(f => this.finding(f)));
    if (state.last?.message) {
      const log = document.createElement('p');
      log.className = `finding ${state.last.state === 'failed' ? 'bad' : 'quiet'}`;
      log.textContent = `Last run: ${state.last.message}`;
      this.element.append(log);
    }
    this.numbers();
  }

  /**
   * @param {number[]} values
   * @param {Scale} scale
   * @param {Layer} layer
   */
  plot(values, scale, layer) {
    const low = Math.min(0, ...values), most = Math.max(0, ...values), { start, end } = this.clock, span = Math.max(1, end - start);
    const x = (/** @type {number} */ f) => (f - start) / span * 200;
    const y = (/** @type {number} */ v) => (21 - 19 * (v - low) / (most - low)).toFixed(1);
    const points = layer.frames.map((f, i) => `${x(f).toFixed(1)},${y(values[i])}`).join(' ');
    const svg = document.createElementNS('http://www.w3.org/2000/svg', 'svg');
    svg.setAttribute('viewBox', '0 0 200 22');
    svg.setAttribute('preserveAspectRatio', 'none');
    const limits = [scale.least, scale.most].flatMap(v => (v !== null && v / scale.factor > low && v / scale.factor < most ? [v] : []));
    const floor = low < 0 ? y(0) : 22;
    svg.innerHTML = `<polygon points="${x(layer.frames[0])},${floor} ${points} ${x(layer.frames[layer.frames.length - 1])},${floor}" fill="var(--hue)" opacity="0.35"/>
      <polyline points="${points}" fill="none" stroke="var(--hue)" vector-effect="non-scaling-stroke"/>
      ${limits.map(v => `<line x1="0" x2="200" y1="${y(v / scale.factor)}" y2="${y(v / scale.factor)}" stroke="var(--bad)" stroke-dasharray="3 3" vector-effect="non-scaling-stroke"/>`).join('')}
      <line class="here" y1="0" y2="22" stroke="var(--ink)" vector-effect="non-scaling-stroke"/>`;
    return svg;
  }

  /**
   * Bring a finding into view, and mark it as the one that is meant.
   * @param {Finding} f
   */
  point(f) {
    this.pointed = f.name;
    for (const node of this.element.querySelectorAll('.finding')) {
      const meant = node instanceof HTMLElement && node.dataset.finding === f.name;
      node.classList.toggle('at', meant);
      if (meant) node.scrollIntoView({ block: 'nearest' });
    }
  }

  /** @param {Finding} f */
  finding(f) {
    const node = document.createElement('div');
    node.className = 'finding';
    node.dataset.finding = f.name;
    node.classList.toggle('at', f.name === this.pointed);
    const title = document.createElement('b');
    title.textContent = f.title;
    if (f.grave) title.className = 'bad';
    const why = document.createElement('span');
    why.className = 'quiet';
    why.textContent = ` ${f.why}`;
    node.append(title, why);
    if (f.accepted) {
      node.classList.add('accepted');
      node.append(this.word(`Accepted: ${f.accepted}`), this.button('Open again', () => this.doing.accept(f, '')));
      return node;
    }
    if (f.fix) {
      const button = document.createElement('button');
      button.textContent = f.fix;
      button.dataset.mend = f.name;
      button.addEventListener('click', () => this.doing.mend(f.name));
      node.append(button);
    }
    if (!f.grave) node.append(this.button('Accept…', button => this.ask(f, button)));
    if (f.frame !== null) title.addEventListener('click', () => this.doing.go(f));
    return node;
  }

  /** @param {string} text */
  word(text) {
    const node = document.createElement('p');
    node.textContent = text;
    return node;
  }

  /**
   * @param {string} text
   * @param {(button: HTMLButtonElement) => void} run
   */
  button(text, run) {
    const node = document.createElement('button');
    node.textContent = text;
    node.addEventListener('click', () => run(node));
    return node;
  }

  /**
   * A finding is accepted for a reason, typed where it stands.
   * @param {Finding} finding
   * @param {HTMLElement} button
   */
  ask(finding, button) {
    const form = document.createElement('form'), input = document.createElement('input');
    form.className = 'entry';
    input.placeholder = 'why is it all right?';
    input.maxLength = 200;
    input.setAttribute('aria-label', 'Why this finding is accepted');
    form.append(input);
    form.addEventListener('submit', event => { event.preventDefault(); if (input.value.trim()) this.doing.accept(finding, input.value); });
    button.replaceWith(form);
    input.focus();
  }

  numbers() {
    if (!this.layer) return;
    const { frames, gauges, moving, name, state } = this.layer, frame = this.clock.frame;
    // between baked frames the latest before is shown; before the first there is none
    let i = moving ? frames.findLastIndex(f => f <= frame) : frames.length - 1;
    if (moving && i >= 0 && frames[i] !== frame) i = -1;
    const [title, number] = all('span', this.head);
    title.textContent = moving ? `${name} at frame` : name;
    number.textContent = `${moving ? frame : ''}${state === 'stale' ? ' stale' : ''}`;
    for (const { scale, node } of this.rows) {
      const value = i >= 0 ? gauges[scale.name][i] : null;
      node.textContent = value === null ? '–' : shown(value, scale);
      node.classList.toggle('bad', value !== null && isOut(value, scale));
    }
    const at = String((frame - this.clock.start) / Math.max(1, this.clock.end - this.clock.start) * 200);
    for (const line of this.element.querySelectorAll('.here')) { line.setAttribute('x1', at); line.setAttribute('x2', at); }
  }
}
