// The piece in hand, with its sizes, moved by dragging or typing; and the ruler.
import * as THREE from '../vendor/three.js';
import { boxMarks, Marks, metres } from './marks.js';
import { all, byId, first, target } from './page.js';

/** @import { Bodies } from './bodies.js' */
/** @import { Label, Segment } from './marks.js' */
/** @import { Stage } from './stage.js' */
/** @import { Domain, Triple } from './types' */
/**
 * @typedef {object} Doing
 * @property {(piece: number) => void} open
 * @property {(piece: number, offset: number[]) => void} move
 * @property {() => void} redraw
 * @property {() => Domain | undefined} chosenDomain
 * @property {(text: string) => void} toast
 */
/** @typedef {NonNullable<ReturnType<Stage['hit']>>} Hit */

/** @type {Record<string, Triple>} */
const AXES = { x: [1, 0, 0], y: [0, 1, 0], z: [0, 0, 1] };
const STEP = 0.01, CLICK = 4;
/** @type {(a: number[], b: number[]) => Triple} */
const added = (a, b) => [a[0] + b[0], a[1] + b[1], a[2] + b[2]];

export class Measure {
  /**
   * @param {Stage} stage
   * @param {HTMLElement} bar
   * @param {Doing} world
   */
  constructor(stage, bar, world) {
    this.stage = stage;
    this.bar = bar;
    this.world = world;
    this.marks = new Marks(stage);
    /** the piece in hand @type {number | null} */
    this.piece = null;
    this.along = 'ground';
    this.ruling = false;
    /** of the ruler @type {THREE.Vector3[]} */
    this.ends = [];
    const canvas = stage.renderer.domElement;
    // before the orbit controls hear of it
    canvas.addEventListener('pointerdown', event => this.down(event), { capture: true });
    canvas.addEventListener('pointermove', event => { if (this.ruling && this.ends.length === 1 && !event.buttons) this.draw(stage.pointAt(event)); });
    bar.addEventListener('click', event => {
      const { along } = target(event).dataset;
      if (along) { this.along = along; this.draw(); }
    });
    bar.addEventListener('change', event => this.typed(/** @type {HTMLInputElement} */ (event.target)));
  }

  /**
   * A piece is in hand, or none: what is measured of it is shown.
   * @param {number | null} piece
   */
  take(piece) {
    this.piece = piece;
    byId('probe').hidden = true;
    this.draw();
  }

  /** @param {boolean} on */
  rule(on) {
    this.ruling = on;
    this.ends = [];
    this.stage.renderer.domElement.style.cursor = on ? 'crosshair' : '';
    this.draw();
  }

  /** @param {PointerEvent} event */
  down(event) {
    if (event.button !== 0 || event.shiftKey) return;
    const hit = this.stage.hit(event), piece = hit ? hit.bodies.info[hit.body].piece : null;
    if (!this.ruling && hit && piece !== null && piece === this.piece) { this.drag(event, hit, piece); return; }
    const start = [event.clientX, event.clientY];
    const up = (/** @type {PointerEvent} */ e) => {
      removeEventListener('pointerup', up);
      if (Math.hypot(e.clientX - start[0], e.clientY - start[1]) > CLICK) return;
      if (this.ruling) this.mark(e);
      else if (piece !== null && piece >= 0) this.world.open(piece);
    };
    addEventListener('pointerup', up);
  }

  /** @param {PointerEvent} event */
  mark(event) {
    if (this.ends.length === 2) this.ends = [];
    this.ends.push(this.stage.pointAt(event));
    this.draw();
  }

  /**
   * Along the ground, or in a straight view in its plane; else along one axis.
   * @param {PointerEvent} event
   * @param {Hit} hit
   * @param {number} piece
   */
  drag(event, hit, piece) {
    event.stopImmediatePropagation();
    event.preventDefault();
    const from = hit.point, { name } = this.stage.eye, axis = AXES[this.along];
    const normal = name === 'front' ? AXES.y : name === 'side' ? AXES.x : AXES.z;
    let offset = [0, 0, 0];
    const move = (/** @type {PointerEvent} */ e) => {
      const ray = this.stage.eye.ray(e);
      const to = axis ? nearestOnLine(from, new THREE.Vector3(...axis), ray) : ray.intersectPlane(new THREE.Plane().setFromNormalAndCoplanarPoint(new THREE.Vector3(...normal), from), new THREE.Vector3());
      if (!to) return;
      const step = e.shiftKey ? STEP / 10 : STEP;
      offset = to.sub(from).toArray().map(x => Math.round(x / step) * step);
      this.stage.nudge = { piece, offset };
      this.world.redraw();
      this.draw();
    };
    const done = (/** @type {Event} */ e) => {
      removeEventListener('pointermove', move);
      removeEventListener('pointerup', done);
      removeEventListener('keydown', stop, true);
      if (e.type === 'pointerup' && offset.some(x => x)) this.world.move(piece, offset);
      else { this.stage.nudge = null; this.world.redraw(); this.draw(); }
    };
    const stop = (/** @type {KeyboardEvent} */ e) => { if (e.key === 'Escape') { e.stopPropagation(); offset = [0, 0, 0]; done(e); } };
    addEventListener('pointermove', move);
    addEventListener('pointerup', done);
    addEventListener('keydown', stop, true);
  }

  /** @param {HTMLInputElement} input */
  typed(input) {
    const axis = 'xyz'.indexOf(input.dataset.axis || '?'), at = this.place();
    const to = Number(input.value.replace(',', '.').replace(/m$/, ''));
    if (axis < 0 || !at || this.piece === null) return;
    if (!Number.isFinite(to) || !input.value.trim()) {
      this.world.toast(`Stands at ${input.dataset.axis}: '${input.value}' is no length in metres; write a number like 1.25.`);
      input.blur();
      this.draw();
      return;
    }
    const offset = [0, 0, 0];
    offset[axis] = Number((to - at[axis]).toFixed(6));
    this.world.move(this.piece, offset);
  }

  /** Where the piece in hand stands: its base, as the set panel has it, with what it is being moved by. */
  place() {
    const at = this.piece === null ? null : this.stage.meta?.pieces[this.piece]?.position;
    if (!at) return null;
    return this.stage.nudge?.piece === this.piece ? added(at, this.stage.nudge.offset) : at;
  }

  /** @param {THREE.Vector3 | null} loose the ruler's other end, while it is not put down */
  draw(loose = null) {
    /** @type {Segment[]} */
    const segments = [];
    /** @type {Label[]} */
    const labels = [];
    const box = this.piece === null ? null : this.stage.boxes?.get(this.piece);
    if (box) {
      const by = this.stage.nudge?.piece === this.piece ? this.stage.nudge.offset : [0, 0, 0];
      const found = boxMarks({ low: added(box.low, by), high: added(box.high, by) });
      segments.push(...found.edges);
      labels.push(...found.labels);
    }
    const domain = this.stage.shown.domain ? this.world.chosenDomain() : null;
    if (domain) labels.push(...boxMarks({ low: domain.low, high: domain.low.map((x, i) => x + domain.cell * domain.shape[i]) }).labels);
    const ends = loose ? [...this.ends, loose] : this.ends;
    if (ends.length === 2) {
      const [a, b] = ends.map(e => e.toArray()), by = b.map((x, i) => x - a[i]);
      segments.push([a, b]);
      labels.push({ at: [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2], text: `${metres(Math.hypot(...by))}  (${by.map(x => x.toFixed(2)).join(', ')})` });
    }
    this.marks.set(segments, labels);
    this.showBar();
  }

  showBar() {
    const at = this.place();
    this.bar.hidden = !at;
    if (!at) return;
    const { name } = this.stage.meta.pieces[Number(this.piece)];
    if (!this.bar.children.length) {
      this.bar.innerHTML = `<b></b><span class="quiet">drag</span><span role="group" aria-label="Moved along">${['ground', 'x', 'y', 'z'].map(a => `<button data-along="${a}"></button>`).join('')}</span>
        <span class="quiet">stands at</span>${['x', 'y', 'z'].map(a => `<label>${a}<span class="entry"><input data-axis="${a}" aria-label="Stands at ${a}"><i>m</i></span></label>`).join('')}`;
    }
    first('b', this.bar).textContent = name;
    const flat = ['front', 'side'].includes(this.stage.eye.name);
    for (const b of all('[data-along]', this.bar)) {
      b.textContent = b.dataset.along === 'ground' ? (flat ? 'in view' : 'on the ground') : b.dataset.along || '';
      b.setAttribute('aria-pressed', String(b.dataset.along === this.along));
    }
    this.bar.querySelectorAll('input').forEach((node, i) => { if (node !== document.activeElement) node.value = at[i].toFixed(3).replace(/\.?0+$/, ''); });
  }
}

/**
 * The point on a line through `from` that is nearest to a ray, null if they run side by side.
 * @param {THREE.Vector3} from
 * @param {THREE.Vector3} axis
 * @param {THREE.Ray} ray
 */
function nearestOnLine(from, axis, ray) {
  const w = from.clone().sub(ray.origin), b = axis.dot(ray.direction), d = axis.dot(w), e = ray.direction.dot(w), n = 1 - b * b;
  return n < 1e-9 ? null : from.clone().addScaledVector(axis, (b * e - d) / n);
}
