// Words and lines over the stage that belong to places in space.
import * as THREE from '../vendor/three.js';

/** @import { Stage } from './stage.js' */
/** @import { Triple } from './types' */
/**
 * @typedef {{ at: Triple, text: string, above?: boolean }} Label words that belong to a place, over it or on it
 * @typedef {[Triple, Triple]} Segment
 */

export class Marks {
  /** @param {Stage} stage */
  constructor(stage) {
    this.stage = stage;
    this.box = document.createElement('div');
    this.box.className = 'marks';
    stage.element.append(this.box);
    this.lines = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: '#fff2cf', depthTest: false, transparent: true, toneMapped: false }));
    this.lines.frustumCulled = false;
    this.lines.renderOrder = 5;
    stage.scene.add(this.lines);
    /** @type {Label[]} */
    this.labels = [];
    stage.after(() => this.place());
  }

  /**
   * @param {Segment[]} segments
   * @param {Label[]} labels
   */
  set(segments, labels) {
    this.lines.geometry.dispose();
    this.lines.geometry = new THREE.BufferGeometry();
    this.lines.geometry.setAttribute('position', new THREE.Float32BufferAttribute(segments.flat(2), 3));
    this.lines.visible = segments.length > 0;
    this.box.replaceChildren(...labels.map(({ text }) => {
      const node = document.createElement('span');
      node.textContent = text;
      return node;
    }));
    this.labels = labels;
    this.stage.draw();
  }

  place() {
    /** @type {{ x: number, y: number, half: number }[]} */
    const taken = [];
    this.labels.forEach(({ at, above }, i) => {
      const p = this.stage.eye.onScreen(at), node = /** @type {HTMLElement} */ (this.box.children[i]);
      node.hidden = !p;
      if (!p) return;
      const half = node.offsetWidth / 2 + 4, x = Math.min(this.box.clientWidth - half, Math.max(half, p.x));
      const high = node.offsetHeight + 2, over = above ? 1.4 * high : 0.5 * high;
      let y = p.y - over, under;
      // words that would cover others go above them
      while ((under = taken.find(t => Math.abs(t.x - x) < t.half + half && Math.abs(t.y - y) < high))) y = under.y - high;
      taken.push({ x, y, half });
      node.style.transform = `translate(-50%, 0) translate(${x.toFixed(1)}px, ${y.toFixed(1)}px)`;
    });
  }
}

/** @param {number} x */
export const metres = x => `${Math.abs(x) >= 100 ? x.toFixed(1) : x.toFixed(2)} m`;

/**
 * The edges of a box, and its three sizes beside the edges nearest below.
 * @param {{ low: number[], high: number[] }} box
 * @returns {{ edges: Segment[], labels: Label[] }}
 */
export function boxMarks({ low, high }) {
  /** @type {(i: number) => Triple} */
  const c = i => [i & 1 ? high[0] : low[0], i & 2 ? high[1] : low[1], i & 4 ? high[2] : low[2]];
  const edges = [[0, 1], [2, 3], [4, 5], [6, 7], [0, 2], [1, 3], [4, 6], [5, 7], [0, 4], [1, 5], [2, 6], [3, 7]].map(([a, b]) => /** @type {Segment} */ ([c(a), c(b)]));
  /** @type {(a: Triple, b: Triple) => Triple} */
  const middle = (a, b) => [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2, (a[2] + b[2]) / 2];
  const labels = [[0, 1, 0], [1, 3, 1], [1, 5, 2]].map(([a, b, axis]) => ({ at: middle(c(a), c(b)), text: metres(high[axis] - low[axis]) }));
  return { edges, labels };
}
