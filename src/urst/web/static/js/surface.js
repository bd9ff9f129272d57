// Water: a closed surface that changes every frame, seen through as far as it is clear, with what it mirrors.
import * as THREE from '../vendor/three.js';

/** @import { SurfaceFrame, Triple } from './types' */
/** @typedef {{ texture: THREE.Texture, depthTexture: THREE.Texture | null }} Image a picture and how deep it is */

const vertexShader = `
uniform vec3 low, span; varying vec3 place, facing;
#include <clipping_planes_pars_vertex>
void main() {
  place = low + span * position; facing = normal;
  vec4 mvPosition = modelViewMatrix * vec4(place, 1.0); gl_Position = projectionMatrix * mvPosition;
  #include <clipping_planes_vertex>
}`;
// Fresnel's mirror by Schlick (1994), with 0.02 straight on; what is behind is bent aside and loses its red first.
const fragmentShader = `
uniform sampler2D behind, through; uniform vec2 size; uniform mat4 toView; uniform vec3 eye, sun, clear, deep;
varying vec3 place, facing;
#include <clipping_planes_pars_fragment>
vec3 sky(vec3 r) {
  float up = clamp(r.z, 0.0, 1.0);
  return mix(vec3(0.40, 0.39, 0.37), vec3(0.30, 0.37, 0.46), sqrt(up)) * (0.45 + 0.55 * smoothstep(-0.15, 0.1, r.z));
}
void main() {
  #include <clipping_planes_fragment>
  vec3 n = normalize(facing), v = normalize(eye - place);
  if (dot(n, v) < 0.02) n = normalize(n + v * (0.02 - dot(n, v)));
  vec2 uv = gl_FragCoord.xy / size;
  float far = length(place - eye), way = max(0.0, texture2D(through, uv).r);
  vec3 aside = (toView * vec4(n, 0.0)).xyz;
  vec2 bent = uv - aside.xy * 0.09 * min(way, 1.2) / far;
  float bentWay = texture2D(through, bent).r;
  if (bentWay > 0.0 && all(greaterThan(bent, vec2(0.0))) && all(lessThan(bent, vec2(1.0)))) { uv = bent; way = bentWay; }
  vec3 left = exp(-clear * way);
  float lit = 0.55 + 0.45 * max(dot(n, sun), 0.0);
  vec3 seen = texture2D(behind, uv).rgb * left + deep * lit * (1.0 - left);
  float mirror = 0.02 + 0.98 * pow(1.0 - max(dot(n, v), 0.0), 5.0);
  vec3 r = reflect(-v, n);
  float glint = pow(max(dot(r, sun), 0.0), 380.0) * 6.0 + pow(max(dot(r, sun), 0.0), 40.0) * 0.18;
  gl_FragColor = vec4(mix(seen, sky(r), mirror) + vec3(1.0, 0.95, 0.86) * glint * (0.25 + mirror), 1.0);
}`;

// How far what stands behind is, to be added where a surface faces the eye and taken off where it faces away: their sum is the way in the water.
const thickness = `
uniform sampler2D depth; uniform vec2 size; uniform mat4 unproject; uniform vec3 eye; varying vec3 place, facing;
#include <clipping_planes_pars_fragment>
void main() {
  #include <clipping_planes_fragment>
  vec2 uv = gl_FragCoord.xy / size; vec4 p = unproject * vec4(vec3(uv, texture2D(depth, uv).r) * 2.0 - 1.0, 1.0);
  float way = max(0.0, length(p.xyz / p.w - eye) - length(place - eye));
  gl_FragColor = vec4(gl_FrontFacing ? way : -way, 0.0, 0.0, 1.0);
}`;

export class Surface {
  /** @param {Record<string, THREE.IUniform>} shared uniforms that all have, as `Water` keeps them */
  constructor(shared) {
    this.bounds = { low: { value: new THREE.Vector3() }, span: { value: new THREE.Vector3(1, 1, 1) } };
    /** what a metre of it takes of the light, and what it gives instead */
    this.tints = { clear: { value: new THREE.Vector3() }, deep: { value: new THREE.Color() } };
    const uniforms = { ...shared, ...this.bounds, ...this.tints };
    this.seen = new THREE.ShaderMaterial({ vertexShader, fragmentShader, clipping: true, uniforms });
    this.measured = new THREE.ShaderMaterial({
      vertexShader, fragmentShader: thickness, clipping: true, uniforms, side: THREE.DoubleSide, depthTest: false, depthWrite: false, transparent: true,
      blending: THREE.CustomBlending, blendSrc: THREE.OneFactor, blendDst: THREE.OneFactor,
    });
    /** @type {THREE.Mesh<THREE.BufferGeometry, THREE.Material>} */
    this.mesh = new THREE.Mesh(new THREE.BufferGeometry(), this.seen);
    this.mesh.userData = this;
    this.mesh.frustumCulled = false;
  }

  /** @param {{ clear?: Triple, deep?: Triple }} look */
  tint({ clear, deep }) {
    this.tints.clear.value.fromArray(clear || [0, 0, 0]);
    this.tints.deep.value.fromArray(deep || [0, 0, 0]);
  }

  /** @param {SurfaceFrame} surface position (n, 3) steps or floats, normal (n, 3) int8, index */
  show({ position, normal, index }) {
    const g = new THREE.BufferGeometry(), { low, high } = position;
    g.setAttribute('position', new THREE.BufferAttribute(position, 3, Boolean(low)));
    g.setAttribute('normal', new THREE.BufferAttribute(normal, 3, true));
    g.setIndex(new THREE.BufferAttribute(index, 1));
    this.mesh.geometry.dispose();
    this.mesh.geometry = g;
    this.bounds.low.value.fromArray(low || [0, 0, 0]);
    this.bounds.span.value.fromArray(low && high ? high.map((x, i) => x - low[i]) : [1, 1, 1]);
  }

  dispose() {
    this.mesh.removeFromParent();
    this.mesh.geometry.dispose();
    this.seen.dispose();
    this.measured.dispose();
  }
}

// All surfaces, laid over the picture of everything else.
export class Water {
  /** @param {THREE.Vector3} sun unit vector towards it */
  constructor(sun) {
    this.scene = new THREE.Scene();
    this.target = new THREE.WebGLRenderTarget(4, 4, { samples: 4, type: THREE.HalfFloatType });
    this.target.depthTexture = new THREE.DepthTexture(4, 4, THREE.UnsignedIntType);
    this.through = new THREE.WebGLRenderTarget(4, 4, { type: THREE.HalfFloatType, depthBuffer: false });
    /** @type {Record<string, THREE.IUniform>} */
    this.shared = {
      behind: { value: null }, depth: { value: null }, through: { value: null }, size: { value: new THREE.Vector2() }, unproject: { value: new THREE.Matrix4() }, toView: { value: new THREE.Matrix4() },
      eye: { value: new THREE.Vector3() }, sun: { value: sun },
    };
    const copy = new THREE.ShaderMaterial({
      vertexShader: 'varying vec2 vUv; void main() { vUv = uv; gl_Position = vec4(position.xy, 0.0, 1.0); }',
      fragmentShader: 'uniform sampler2D behind, depth; varying vec2 vUv; void main() { gl_FragColor = texture2D(behind, vUv); gl_FragDepth = texture2D(depth, vUv).r; }',
      uniforms: this.shared, depthFunc: THREE.AlwaysDepth,
    });
    this.copy = new THREE.Mesh(new THREE.PlaneGeometry(2, 2), copy);
    this.copy.frustumCulled = false;
    this.copy.renderOrder = -1;
    this.scene.add(this.copy);
  }

  any() { return this.scene.children.some(x => x !== this.copy && x.visible); }

  /** @param {'seen' | 'measured'} material */
  take(material) {
    this.copy.visible = material === 'seen';
    for (const x of this.scene.children) {
      const surface = /** @type {Surface} */ (x.userData);
      if (x !== this.copy) surface.mesh.material = surface[material];
    }
  }

  /**
   * Lay the surfaces over a picture; returns the one that is to be gone on with.
   * @param {THREE.WebGLRenderer} renderer
   * @param {THREE.PerspectiveCamera} camera
   * @param {Image} image
   * @param {THREE.Vector2} size
   * @returns {Image}
   */
  render(renderer, camera, image, size) {
    if (!this.any()) return image;
    for (const target of [this.target, this.through]) if (target.width !== size.x || target.height !== size.y) target.setSize(size.x, size.y);
    const u = this.shared;
    u.behind.value = image.texture;
    u.depth.value = image.depthTexture;
    u.size.value.copy(size);
    u.unproject.value.copy(camera.matrixWorld).multiply(camera.projectionMatrixInverse);
    u.toView.value.copy(camera.matrixWorldInverse);
    u.eye.value.setFromMatrixPosition(camera.matrixWorld);
    this.take('measured');
    renderer.setRenderTarget(this.through);
    renderer.setClearColor(0x000000, 0);
    renderer.clear();
    renderer.render(this.scene, camera);
    this.take('seen');
    u.through.value = this.through.texture;
    renderer.setRenderTarget(this.target);
    renderer.render(this.scene, camera);
    return this.target;
  }
}
