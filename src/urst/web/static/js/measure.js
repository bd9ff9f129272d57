// The piece in hand, with its sizes, moved by dragging or typing; and the ruler.
import * as THREE from '../vendor/three.js';
import { boxMarks, Marks, metres } from './marks.js';

const AXES = { x: [1, 0, 0], y: [0, 1, 0], z: [0, 0, 1] }, STEP = 0.01, CLICK = 4;
const added = (a, b) => a.map((x, i) => x + b[i]);

export class Measure {
  // world: open(piece), move(piece, offset), redraw(), chosenDomain(), toast(text)
  constructor(stage, bar, world) {
    Object.assign(this, { stage, bar, world });
    this.marks = new Marks(stage);
    this.piece = null;
    this.along = 'ground';
    this.ruling = false;
    this.ends = [];
    const canvas = stage.renderer.domElement;
    // before the orbit controls hear of it
    canvas.addEventListener('pointerdown', event => this.down(event), { capture: true });
    canvas.addEventListener('pointermove', event => { if (this.ruling && this.ends.length === 1 && !event.buttons) this.draw(stage.pointAt(event)); });
    bar.addEventListener('click', event => {
      const { along } = event.target.dataset;
      if (along) { this.along = along; this.draw(); }
    });
    bar.addEventListener('change', event => this.typed(event.target));
  }

  // A piece is in hand, or none: what is measured of it is shown.
  take(piece) {
    this.piece = piece;
    document.getElementById('probe').hidden = true;
    this.draw();
  }

  rule(on) {
    this.ruling = on;
    this.ends = [];
    this.stage.renderer.domElement.style.cursor = on ? 'crosshair' : '';
    this.draw();
  }

  down(event) {
    if (event.button !== 0 || event.shiftKey) return;
    const hit = this.stage.hit(event), piece = hit ? hit.bodies.info[hit.body].piece : null;
    if (!this.ruling && piece !== null && piece === this.piece) { this.drag(event, hit); return; }
    const start = [event.clientX, event.clientY];
    const up = e => {
      removeEventListener('pointerup', up);
      if (Math.hypot(e.clientX - start[0], e.clientY - start[1]) > CLICK) return;
      if (this.ruling) this.mark(e);
      else if (piece !== null && piece >= 0) this.world.open(piece);
    };
    addEventListener('pointerup', up);
  }

  mark(event) {
    if (this.ends.length === 2) this.ends = [];
    this.ends.push(this.stage.pointAt(event));
    this.draw();
  }

  // Along the ground, or in a straight view in its plane; else along one axis.
  drag(event, hit) {
    event.stopImmediatePropagation();
    event.preventDefault();
    const from = hit.point, { piece } = this, straight = this.stage.element.dataset.view;
    const normal = { front: [0, 1, 0], side: [1, 0, 0] }[straight] || [0, 0, 1], axis = AXES[this.along];
    let offset = [0, 0, 0];
    const move = e => {
      const ray = this.stage.ray(e);
      const to = axis ? nearestOnLine(from, new THREE.Vector3(...axis), ray) : ray.intersectPlane(new THREE.Plane().setFromNormalAndCoplanarPoint(new THREE.Vector3(...normal), from), new THREE.Vector3());
      if (!to) return;
      const step = e.shiftKey ? STEP / 10 : STEP;
      offset = to.sub(from).toArray().map(x => Math.round(x / step) * step);
      this.stage.nudge = { piece, offset };
      this.world.redraw();
      this.draw();
    };
    const done = e => {
      removeEventListener('pointermove', move);
      removeEventListener('pointerup', done);
      removeEventListener('keydown', stop, true);
      if (e.type === 'pointerup' && offset.some(x => x)) this.world.move(piece, offset);
      else { this.stage.nudge = null; this.world.redraw(); this.draw(); }
    };
    const stop = e => { if (e.key === 'Escape') { e.stopPropagation(); offset = [0, 0, 0]; done(e); } };
    addEventListener('pointermove', move);
    addEventListener('pointerup', done);
    addEventListener('keydown', stop, true);
  }

  typed(input) {
    const axis = 'xyz'.indexOf(input.dataset.axis), at = this.place();
    const to = Number(input.value.replace(',', '.').replace(/m$/, ''));
    if (axis < 0 || !at) return;
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

  // Where the piece in hand stands: its base, as the set panel has it, with what it is being moved by.
  place() {
    const at = this.stage.meta?.pieces[this.piece]?.position;
    if (!at) return null;
    return this.stage.nudge?.piece === this.piece ? added(at, this.stage.nudge.offset) : at;
  }

  draw(loose = null) {
    const segments = [], labels = [], box = this.piece === null ? null : this.stage.boxes?.get(this.piece);
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
      labels.push({ at: a.map((x, i) => (x + b[i]) / 2), text: `${metres(Math.hypot(...by))}  (${by.map(x => x.toFixed(2)).join(', ')})` });
    }
    this.marks.set(segments, labels);
    this.showBar();
  }

  showBar() {
    const at = this.place();
    this.bar.hidden = !at;
    if (!at) return;
    const { name } = this.stage.meta.pieces[this.piece];
    if (!this.bar.children.length) {
      this.bar.innerHTML = `<b></b><span class="quiet">drag</span><span role="group" aria-label="Moved along">${['ground', 'x', 'y', 'z'].map(a => `<button data-along="${a}"></button>`).join('')}</span>
        <span class="quiet">stands at</span>${['x', 'y', 'z'].map(a => `<label>${a}<span class="entry"><input data-axis="${a}" aria-label="Stands at ${a}"><i>m</i></span></label>`).join('')}`;
    }
    this.bar.querySelector('b').textContent = name;
    const flat = ['front', 'side'].includes(this.stage.element.dataset.view);
    for (const b of this.bar.querySelectorAll('[data-along]')) {
      b.textContent = b.dataset.along === 'ground' ? (flat ? 'in view' : 'on the ground') : b.dataset.along;
      b.setAttribute('aria-pressed', String(b.dataset.along === this.along));
    }
    this.bar.querySelectorAll('input').forEach((node, i) => { if (node !== document.activeElement) node.value = at[i].toFixed(3).replace(/\.?0+$/, ''); });
  }
}

// The point on a line through `from` that is nearest to a ray, null if they run side by side.
function nearestOnLine(from, axis, ray) {
  const w = from.clone().sub(ray.origin), b = axis.dot(ray.direction), d = axis.dot(w), e = ray.direction.dot(w), n = 1 - b * b;
  return n < 1e-9 ? null : from.clone().addScaledVector(axis, (b * e - d) / n);
}
