// What the solver sees and does: the shapes that collide, where they touch and how hard, the ways bodies took.
import * as THREE from '../vendor/three.js';
import { POSES, ramp } from './bodies.js';

/** @import { Bodies } from './bodies.js' */
/** @import { Stage } from './stage.js' */
/** @import { BodiesFrame } from './types' */

// Frames that a trail goes back, and the least way that is drawn [m].
export const TRAIL = 12;
const LEAST = 0.02;
// A force of this much is one step of the scale; four of them, each ten times the last, are all [N].
const SOFTEST = 100, STEPS = 4;

export class Insight {
  /** @param {Stage} stage */
  constructor(stage) {
    this.stage = stage;
    /** @type {Map<Bodies, THREE.LineSegments<THREE.BufferGeometry, THREE.ShaderMaterial>>} */
    this.shapes = new Map();
    this.contacts = new THREE.Points(new THREE.BufferGeometry(), new THREE.PointsMaterial({ size: 5, sizeAttenuation: false, vertexColors: true, depthTest: false, transparent: true, toneMapped: false }));
    this.trails = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ vertexColors: true, transparent: true, opacity: 0.85, toneMapped: false }));
    for (const x of [this.contacts, this.trails]) {
      x.frustumCulled = false;
      x.renderOrder = 3;
      stage.scene.add(x);
    }
  }

  /**
   * @param {Bodies[]} found bodies of layers as posed
   * @param {(BodiesFrame | null)[]} frames their arrays at this frame
   * @param {BodiesFrame[][]} past of each the arrays of frames before, oldest first
   */
  show(found, frames, past) {
    const { shown } = this.stage;
    this.showShapes(shown.shapes ? found : []);
    const now = frames.map(f => (f ? [f] : []));
    this.showContacts(shown.contacts ? now.flat() : []);
    this.showTrails(shown.trails ? past.map((row, n) => [...row, ...now[n]]) : []);
  }

  /**
   * Shapes are lines that the shader moves with their bodies.
   * @param {Bodies[]} found
   */
  showShapes(found) {
    for (const [bodies, lines] of this.shapes) {
      if (found.includes(bodies)) continue;
      lines.removeFromParent();
      lines.geometry.dispose();
      lines.material.dispose();
      this.shapes.delete(bodies);
    }
    for (const bodies of found) {
      if (this.shapes.has(bodies) || !bodies.hull?.line.length) continue;
      const geometry = new THREE.BufferGeometry();
      geometry.setAttribute('position', new THREE.BufferAttribute(bodies.hull.line, 3));
      geometry.setAttribute('body', new THREE.BufferAttribute(Float32Array.from(bodies.hull.body), 1));
      const material = new THREE.ShaderMaterial({
        uniforms: { poses: { value: bodies.texture }, colour: { value: new THREE.Color('#fff2cf') } }, transparent: true, depthTest: false, toneMapped: false,
        vertexShader: `${POSES}\nvoid main() { gl_Position = projectionMatrix * viewMatrix * vec4(turned(texelFetch(poses, told(1), 0), position) + texelFetch(poses, told(0), 0).xyz, 1.0); }`,
        fragmentShader: 'uniform vec3 colour; void main() { gl_FragColor = vec4(colour, 0.55); }',
      });
      const lines = new THREE.LineSegments(geometry, material);
      lines.frustumCulled = false;
      lines.renderOrder = 3;
      this.shapes.set(bodies, lines);
      this.stage.scene.add(lines);
    }
  }

  /** @param {BodiesFrame[]} frames */
  showContacts(frames) {
    const places = frames.flatMap(f => [...(f.touch_point || [])]), colour = new THREE.Color();
    const colours = frames.flatMap(f => [...(f.touch_force || [])].flatMap(x => ramp(Math.log10(1 + x / SOFTEST) / STEPS, colour).toArray()));
    draw(this.contacts, places, colours);
    this.stage.element.dataset.contacts = String(places.length / 3);
  }

  /** @param {BodiesFrame[][]} rows of each layer the frames from the oldest to this one */
  showTrails(rows) {
    /** @type {number[]} */
    const places = [], colours = /** @type {number[]} */ ([]), colour = new THREE.Color(), top = this.stage.topSpeed;
    for (const frames of rows) {
      const last = frames[frames.length - 1];
      if (frames.length < 2) continue;
      for (let b = 0, n = last.position.length / 3; b < n; b += 1) {
        const ways = frames.map(f => [f.position[3 * b], f.position[3 * b + 1], f.position[3 * b + 2]]), end = ways[ways.length - 1];
        if (Math.hypot(...ways[0].map((x, i) => x - end[i])) < LEAST) continue;
        for (let k = 1; k < ways.length; k += 1) {
          const v = frames[k].velocity;
          ramp(Math.hypot(v[3 * b], v[3 * b + 1], v[3 * b + 2]) / top, colour);
          places.push(...ways[k - 1], ...ways[k]);
          colours.push(...colour.toArray(), ...colour.toArray());
        }
      }
    }
    draw(this.trails, places, colours);
    this.stage.element.dataset.trails = String(places.length / 6);
  }
}

/**
 * @param {THREE.Points | THREE.LineSegments} thing
 * @param {number[]} places
 * @param {number[]} colours
 */
function draw(thing, places, colours) {
  thing.geometry.dispose();
  thing.geometry = new THREE.BufferGeometry();
  thing.geometry.setAttribute('position', new THREE.Float32BufferAttribute(places, 3));
  thing.geometry.setAttribute('color', new THREE.Float32BufferAttribute(colours, 3));
  thing.visible = places.length > 0;
}
