// Words and lines over the stage that belong to places in space.
import * as THREE from '../vendor/three.js';

export class Marks {
  constructor(stage) {
    this.stage = stage;
    this.box = document.createElement('div');
    this.box.className = 'marks';
    stage.element.append(this.box);
    this.lines = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: '#fff2cf', depthTest: false, transparent: true, toneMapped: false }));
    this.lines.frustumCulled = false;
    this.lines.renderOrder = 5;
    stage.scene.add(this.lines);
    this.labels = [];
    stage.after(() => this.place());
  }

  // segments: pairs of [x, y, z]; labels: { at, text, above: whether it stands over the place }
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
    const taken = [];
    this.labels.forEach(({ at, above }, i) => {
      const p = this.stage.onScreen(at), node = this.box.children[i];
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

export const metres = x => `${Math.abs(x) >= 100 ? x.toFixed(1) : x.toFixed(2)} m`;

// The edges of a box, and its three sizes beside the edges nearest below.
export function boxMarks({ low, high }) {
  const c = i => [i & 1 ? high[0] : low[0], i & 2 ? high[1] : low[1], i & 4 ? high[2] : low[2]];
  const edges = [[0, 1], [2, 3], [4, 5], [6, 7], [0, 2], [1, 3], [4, 6], [5, 7], [0, 4], [1, 5], [2, 6], [3, 7]].map(([a, b]) => [c(a), c(b)]);
  const middle = (a, b) => a.map((x, i) => (x + b[i]) / 2);
  const labels = [[0, 1, 0], [1, 3, 1], [1, 5, 2]].map(([a, b, axis]) => ({ at: middle(c(a), c(b)), text: metres(high[axis] - low[axis]) }));
  return { edges, labels };
}
