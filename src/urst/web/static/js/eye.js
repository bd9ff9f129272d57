// Where the stage is seen from: freely, through the shot's camera, or straight from the front, the side or above.
import * as THREE from '../vendor/three.js';
import { byId } from './page.js';

/** @import { Bodies } from './bodies.js' */
/** @import { Box, CameraMeta, Triple } from './types' */

export const UP = new THREE.Vector3(0, 0, 1);
// Straight views are seen through so long a lens, from so far, that ten metres of depth change a size by about two thousandths.
const STRAIGHT = 0.1, DEPTH = 600, WIDE = 54;
/** @type {Record<string, Triple>} */
const WAYS = { front: [0, -1, 0], side: [1, 0, 0], top: [0, -1e-4, 1] };
// Lengths of the bar in straight views [m].
const BARS = [100, 50, 20, 10, 5, 2, 1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01];
const { degToRad, radToDeg } = THREE.MathUtils;

export class Eye {
  /**
   * @param {HTMLElement} element
   * @param {HTMLCanvasElement} canvas
   * @param {() => void} draw
   */
  constructor(element, canvas, draw) {
    this.element = element;
    this.canvas = canvas;
    this.camera = new THREE.PerspectiveCamera(50, 1, 0.05, 2000);
    this.camera.up.copy(UP);
    this.controls = new THREE.OrbitControls(this.camera, canvas);
    this.controls.addEventListener('change', draw);
    /** horizontal angle of view [deg] */
    this.angle = WIDE;
    /** width over height of the picture that is taken; of the stage's own shape while there is none */
    this.shape = 0;
    this.free = { eye: this.camera.position.clone(), target: this.controls.target.clone(), angle: WIDE };
  }

  get name() { return this.element.dataset.view || 'free'; }

  get isStraight() { return this.name in WAYS; }

  /**
   * Front, side or top, without perspective; 'free' goes back to where it was seen from before.
   * @param {string} view
   * @param {Box} box what is to be seen
   */
  seeFrom(view, { low, high }) {
    if (this.name === 'free') this.free = { eye: this.camera.position.clone(), target: this.controls.target.clone(), angle: this.angle };
    this.element.dataset.view = view;
    this.controls.enableRotate = !this.isStraight;
    if (this.isStraight) {
      const middle = new THREE.Vector3(...low).add(new THREE.Vector3(...high)).multiplyScalar(0.5), wide = Math.max(...low.map((x, i) => high[i] - x)) * 1.5;
      this.angle = STRAIGHT;
      this.controls.target.copy(middle);
      this.camera.position.set(...WAYS[view]).setLength(wide / (2 * Math.tan(degToRad(STRAIGHT) / 2))).add(middle);
    } else {
      this.angle = this.free.angle;
      this.controls.target.copy(this.free.target);
      this.camera.position.copy(this.free.eye);
    }
    this.resize();
    this.controls.update();
  }

  /** @param {CameraMeta} camera */
  seeThrough({ eye, target, angle }) {
    this.camera.position.set(...eye);
    this.controls.target.set(...target);
    this.angle = angle;
    this.resize();
    this.controls.update();
  }

  /**
   * Come near a body.
   * @param {{ bodies: Bodies, body: number }} hit
   */
  frameOn({ bodies, body }) {
    const i = body * 12, at = new THREE.Vector3(bodies.data[i], bodies.data[i + 1], bodies.data[i + 2]);
    const far = Math.max(1.2, bodies.radius[body] * 6) * (this.isStraight ? 1 / Math.tan(degToRad(STRAIGHT)) : 1);
    const way = this.camera.position.clone().sub(this.controls.target).setLength(far);
    this.controls.target.copy(at);
    this.camera.position.copy(at).add(way);
    this.controls.update();
  }

  /** Where the stage is seen from, to the centimetre. */
  place() {
    const plain = (/** @type {THREE.Vector3} */ v) => v.toArray().map(x => Number(x.toFixed(2)));
    return { eye: plain(this.camera.position), target: plain(this.controls.target) };
  }

  /** What lies nearer or farther than the set is cut away in a straight view, or the depths could not be told apart. */
  focus() {
    const far = this.camera.position.distanceTo(this.controls.target);
    const [near, end] = this.isStraight ? [Math.max(0.05, far - DEPTH), far + DEPTH] : [0.05, 2000];
    if (this.camera.near !== near) {
      Object.assign(this.camera, { near, far: end });
      this.camera.updateProjectionMatrix();
    }
    // a bar of a round length near a seventh of the width
    const metre = this.element.clientWidth / (2 * far * Math.tan(degToRad(this.angle) / 2)), most = this.element.clientWidth / 6 + 1;
    const long = BARS.find(x => x * metre <= most) || BARS[BARS.length - 1], bar = byId('bar');
    bar.hidden = !this.isStraight;
    bar.style.width = `${long * metre}px`;
    bar.textContent = long >= 1 ? `${long} m` : `${long * 100} cm`;
  }

  /** The largest rectangle of the picture's shape that the stage holds, in pixels of the page. */
  pictureRect() {
    const { clientWidth: w, clientHeight: h } = this.element, shape = this.shape || w / h;
    return { width: Math.min(w, h * shape), height: Math.min(h, w / shape) };
  }

  /** The angle is across the picture, or in a straight view across the stage. */
  resize() {
    const { clientWidth: w, clientHeight: h } = this.element, across = this.isStraight ? w : this.pictureRect().width;
    if (!w || !h) return;
    this.camera.aspect = w / h;
    this.camera.fov = radToDeg(2 * Math.atan(Math.tan(degToRad(this.angle) / 2) * h / across));
    this.camera.updateProjectionMatrix();
  }

  /** How many pixels a metre is at a metre's distance, in a picture so high. @param {number} height */
  pixels(height) { return height / (2 * Math.tan(degToRad(this.camera.fov) / 2)); }

  /**
   * Where a place is seen, in pixels of the page from the stage's corner; null behind the eye.
   * @param {Triple} at
   */
  onScreen(at) {
    const p = new THREE.Vector3(...at).project(this.camera), { clientWidth: w, clientHeight: h } = this.element;
    return p.z > 1 || Math.abs(p.x) > 1.2 || Math.abs(p.y) > 1.2 ? null : { x: (p.x + 1) / 2 * w, y: (1 - p.y) / 2 * h };
  }

  /** @param {MouseEvent} event */
  ray(event) {
    const box = this.canvas.getBoundingClientRect();
    const x = (event.clientX - box.left) / box.width * 2 - 1, y = 1 - (event.clientY - box.top) / box.height * 2;
    const way = new THREE.Vector3(x, y, 0.5).unproject(this.camera).sub(this.camera.position).normalize();
    return new THREE.Ray(this.camera.position.clone(), way);
  }

  /**
   * The place under the pointer on the ground, or in a straight view in the plane of what is looked at.
   * @param {MouseEvent} event
   */
  groundAt(event) {
    const { name } = this, upright = name in WAYS && name !== 'top';
    const plane = upright ? new THREE.Plane().setFromNormalAndCoplanarPoint(new THREE.Vector3(...WAYS[name]), this.controls.target) : new THREE.Plane(UP, 0);
    return this.ray(event).intersectPlane(plane, new THREE.Vector3()) || this.controls.target.clone();
  }
}
