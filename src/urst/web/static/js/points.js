// Points of one layer: round, lit, sized in metres, in their own colour or by their speed.
import { RAMP } from './bodies.js';
import * as THREE from '../vendor/three.js';

const vertexShader = `
attribute float size, pace, sort; uniform float scale; uniform vec3 low, span, sorts[4]; uniform bool sorted, hidden[4]; uniform vec3 colour; varying float cover, swift; varying vec3 mine;
#include <clipping_planes_pars_vertex>
void main() { swift = pace; mine = sorted ? sorts[int(sort)] : colour; vec4 mvPosition = modelViewMatrix * vec4(low + span * position, 1.0); gl_Position = projectionMatrix * mvPosition;
  float wide = size * scale / -mvPosition.z;
  gl_PointSize = clamp(wide, 1.5, 40.0); cover = min(1.0, wide * wide / 2.25);
  if (sorted && hidden[int(sort)]) gl_Position = vec4(0.0, 0.0, 2.0, 1.0);
  #include <clipping_planes_vertex>
}`;
const fragmentShader = `
uniform vec3 ramp[4]; uniform float fast; varying float cover, swift; varying vec3 mine;
#include <clipping_planes_pars_fragment>
void main() {
  #include <clipping_planes_fragment>
  vec2 d = gl_PointCoord * 2.0 - 1.0; float r = dot(d, d); if (r > 1.0) discard;
  float light = 0.42 + 0.58 * clamp(0.45 * d.x * -0.5 - 0.75 * d.y + 0.45 * sqrt(1.0 - r), 0.0, 1.0);
  // what is smaller than a pixel covers a share of those it may cover
  if (fract(52.9829189 * fract(dot(gl_FragCoord.xy, vec2(0.06711056, 0.00583715)))) > cover) discard;
  vec3 own = mine;
  if (fast > 0.0) {
    float x = 3.0 * min(0.9999, swift * fast);
    own = x < 1.0 ? mix(ramp[0], ramp[1], x) : x < 2.0 ? mix(ramp[1], ramp[2], x - 1.0) : mix(ramp[2], ramp[3], x - 2.0);
  }
  gl_FragColor = vec4(own * light, 1.0); }`;

/** @import { PointsFrame } from './types' */

export class Swarm {
  /** @param {{ value: number }} scale how many pixels a metre is at a metre's distance, shared by all */
  constructor(scale) {
    this.colour = new THREE.Color();
    this.sorts = [0, 1, 2, 3].map(() => new THREE.Color());
    /** which of its kinds are not seen */
    this.hidden = [false, false, false, false];
    const material = new THREE.ShaderMaterial({ vertexShader, fragmentShader, clipping: true, uniforms: { scale, colour: { value: this.colour }, sorts: { value: this.sorts }, hidden: { value: this.hidden }, sorted: { value: false }, fast: { value: 0 }, ramp: { value: RAMP }, low: { value: new THREE.Vector3() }, span: { value: new THREE.Vector3(1, 1, 1) } } });
    this.points = new THREE.Points(new THREE.BufferGeometry(), material);
    this.points.frustumCulled = false;
    this.room = 0;
  }

  /**
   * The buffers grow and are kept.
   * @param {PointsFrame} points position (n, 3), floats or steps between bounds; size (n); pace (n), shares of the fastest
   * @param {number} fast the fastest as a share of what the scale of speeds ends at; 0 shows their own colour
   */
  show({ position, size, pace, sort }, fast = 0) {
    const g = this.points.geometry, n = size.length, { low, high } = position, { uniforms } = this.points.material;
    uniforms.fast.value = pace ? fast : 0;
    uniforms.sorted.value = Boolean(sort);
    uniforms.low.value.fromArray(low || [0, 0, 0]);
    uniforms.span.value.fromArray(low && high ? high.map((x, i) => x - low[i]) : [1, 1, 1]);
    if (n && (n > this.room || g.getAttribute('position').normalized !== Boolean(low))) {
      g.dispose();
      this.room = Math.max(this.room, Math.ceil(n * 1.3));
      g.setAttribute('position', new THREE.BufferAttribute(low ? new Uint16Array(this.room * 3) : new Float32Array(this.room * 3), 3, Boolean(low)).setUsage(THREE.DynamicDrawUsage));
      g.setAttribute('size', new THREE.BufferAttribute(new Float32Array(this.room), 1).setUsage(THREE.DynamicDrawUsage));
      g.setAttribute('pace', new THREE.BufferAttribute(new Uint8Array(this.room), 1, true).setUsage(THREE.DynamicDrawUsage));
      g.setAttribute('sort', new THREE.BufferAttribute(new Uint8Array(this.room), 1).setUsage(THREE.DynamicDrawUsage));
    }
    if (n) {
      for (const [name, values] of Object.entries({ position, size, pace: pace || new Uint8Array(n), sort: sort || new Uint8Array(n) })) {
        const at = /** @type {THREE.BufferAttribute} */ (g.getAttribute(name));
        at.array.set(values);
        at.clearUpdateRanges();
        at.addUpdateRange(0, values.length);
        at.needsUpdate = true;
      }
    }
    g.setDrawRange(0, n);
    this.points.visible = n > 0;
  }

  /**
   * Show or hide one of its kinds; returns whether it is seen now.
   * @param {number} sort
   */
  flip(sort) {
    this.hidden[sort] = !this.hidden[sort];
    return !this.hidden[sort];
  }

  dispose() {
    this.points.removeFromParent();
    this.points.geometry.dispose();
    this.points.material.dispose();
  }
}
