// What gives something off, before the bake: places, arrows of velocity, and how much in all.
import * as THREE from '../vendor/three.js';
import { getJson } from './api.js';
import { Marks } from './marks.js';

/** @import { Stage } from './stage.js' */
/** @import { Triple } from './types' */
/**
 * @typedef {{ piece: string, open: boolean, places: number[], arrows: [Triple, Triple][], total: string, fastest: string }} Source
 */

// An arrow shows the way of so many seconds.
const TRAVEL = 0.2;

export class Sources {
  /** @param {Stage} stage */
  constructor(stage) {
    this.stage = stage;
    this.marks = new Marks(stage);
    this.places = new THREE.Points(new THREE.BufferGeometry(), new THREE.PointsMaterial({ size: 4, sizeAttenuation: false, depthTest: false, transparent: true, opacity: 0.85 }));
    this.places.frustumCulled = false;
    this.places.renderOrder = 4;
    stage.scene.add(this.places);
    this.asked = '';
    this.clear();
  }

  clear() {
    this.asked = '';
    this.places.visible = false;
    this.marks.set([], []);
  }

  /**
   * Nothing is asked twice for the same.
   * @param {string} base
   * @param {string} layer
   * @param {number} frame
   * @param {number} revision
   * @param {string} hue
   */
  async show(base, layer, frame, revision, hue) {
    const asked = `${base} ${layer} ${frame} ${revision}`;
    if (asked === this.asked) return;
    this.asked = asked;
    /** @type {Source[]} */
    const found = await getJson(`${base}/sources/${layer}?frame=${frame}`);
    if (this.asked !== asked) return;
    const open = found.filter(s => s.open), g = this.places.geometry;
    this.places.material.color.set(hue);
    g.dispose();
    this.places.geometry = new THREE.BufferGeometry();
    this.places.geometry.setAttribute('position', new THREE.Float32BufferAttribute(open.flatMap(s => s.places), 3));
    this.places.visible = open.length > 0;
    this.marks.set(open.flatMap(s => s.arrows.flatMap(([at, v]) => arrow(at, v))), found.map(s => ({
      above: true, at: top(s.places), text: `${s.piece}: ${s.open ? `${s.total}, ${s.fastest} m/s` : `${s.total}; closed now`}`,
    })));
  }
}

/**
 * The middle of places, at the height of the highest.
 * @param {number[]} flat
 * @returns {Triple}
 */
function top(flat) {
  const sum = /** @type {Triple} */ ([0, 0, -1e9]), n = flat.length / 3;
  flat.forEach((x, i) => { if (i % 3 === 2) sum[2] = Math.max(sum[2], x); else sum[i % 3] += x / n; });
  return sum;
}

/**
 * A shaft and two barbs.
 * @param {Triple} at
 * @param {Triple} velocity
 * @returns {[Triple, Triple][]}
 */
function arrow(at, velocity) {
  const way = new THREE.Vector3(...velocity).multiplyScalar(TRAVEL), long = way.length();
  if (long < 1e-3) return [];
  const start = new THREE.Vector3(...at), tip = start.clone().add(way);
  const across = way.clone().cross(Math.abs(way.z) < 0.9 * long ? new THREE.Vector3(0, 0, 1) : new THREE.Vector3(1, 0, 0)).setLength(0.12 * long);
  const back = tip.clone().addScaledVector(way, -0.25);
  return [[at, tip.toArray()], ...[1, -1].map(s => /** @type {[Triple, Triple]} */ ([tip.toArray(), back.clone().addScaledVector(across, s).toArray()]))];
}
