// A plane across a result, where the view is cut: pressure, speed, or what the solver takes each cell for.
import * as THREE from '../vendor/three.js';
import { ramp } from './bodies.js';

/** @import { Stage } from './stage.js' */
/** @import { Arrays } from './types' */

// Cells told apart, in the order of their labels.
export const TELLING = ['#00000000', '#3f8f96', '#1c4f63', '#5b5148'];
// The plane stands so far within what is kept, in cells.
const WITHIN = 0.02;

export class Slice {
  /** @param {Stage} stage */
  constructor(stage) {
    this.stage = stage;
    this.asked = '';
    /** what is on the plane @type {{ of: string, most: number, labels: string[] } | null} */
    this.told = null;
    /** @type {THREE.Mesh<THREE.BufferGeometry, THREE.MeshBasicMaterial>} */
    this.mesh = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, transparent: true, alphaTest: 0.02, toneMapped: false, fog: false }));
    this.mesh.frustumCulled = false;
    this.mesh.visible = false;
    stage.scene.add(this.mesh);
  }

  clear() {
    this.asked = '';
    this.told = null;
    this.mesh.visible = false;
  }

  /**
   * @param {{ key: string, frame: number, of: string, axis: string, at: number, side: number }} what `of` a result's frame;
   *   axis and at: the plane [m]; side: 1 if what lies beyond it along the axis is kept, else -1
   */
  async show({ key, frame, of, axis, at, side }) {
    const asked = `/data/${key}/slices/${frame}?of=${of}&axis=${axis}&at=${at.toFixed(4)}`;
    if (this.asked === asked) return;
    this.asked = asked;
    const found = await this.stage.static(asked);
    if (this.asked !== asked) return;
    this.told = { of, ...found.meta };
    this.paint(found);
    this.place(found, at + side * WITHIN * found.meta.cell);
    this.mesh.visible = true;
  }

  /** @param {Arrays} found */
  paint({ values, known, meta }) {
    const [rows, columns] = meta.shape, data = new Uint8Array(4 * values.length), colour = new THREE.Color();
    for (let i = 0; i < values.length; i += 1) {
      if (!known[i]) continue;
      const name = meta.labels.length ? TELLING[values[i]] : '';
      if (name.length === 9) continue;
      (name ? colour.set(name) : ramp(values[i] / meta.most, colour)).convertLinearToSRGB();
      data.set([255 * colour.r, 255 * colour.g, 255 * colour.b, 255], 4 * i);
    }
    const { material } = this.mesh;
    material.map?.dispose();
    const map = material.map = new THREE.DataTexture(data, columns, rows);
    map.colorSpace = THREE.SRGBColorSpace;
    map.needsUpdate = true;
    material.needsUpdate = true;
  }

  /**
   * Corners of the plane in the world: rows and columns go along the two other axes, in their order.
   * @param {Arrays} found
   * @param {number} at
   */
  place({ meta: { shape: [rows, columns], low, cell, axis } }, at) {
    const across = 'xyz'.indexOf(axis), [a, b] = [0, 1, 2].filter(i => i !== across);
    const corner = (/** @type {number} */ u, /** @type {number} */ v) => {
      const place = [0, 0, 0];
      place[across] = at;
      place[a] = low[a] + v * rows * cell;
      place[b] = low[b] + u * columns * cell;
      return place;
    };
    const g = new THREE.BufferGeometry();
    g.setAttribute('position', new THREE.Float32BufferAttribute([corner(0, 0), corner(1, 0), corner(0, 1), corner(1, 1)].flat(), 3));
    g.setAttribute('uv', new THREE.Float32BufferAttribute([0, 0, 1, 0, 0, 1, 1, 1], 2));
    g.setIndex([0, 1, 2, 2, 1, 3]);
    this.mesh.geometry.dispose();
    this.mesh.geometry = g;
  }
}
