// Fragments: one mesh, each triangle moved by its body's pose, which the shader reads from a small texture.
import * as THREE from '../vendor/three.js';
import { RUN } from './runs.js';

/** @import { BodiesFrame, BodyInfo, Skins } from './types' */

export const RAMP = ['#2d3b53', '#4f8a8b', '#d8b25a', '#f6efe0'].map(c => new THREE.Color(c));

/**
 * @param {number} t 0 to 1 over the scale of colours
 * @param {THREE.Color} out
 */
export function ramp(t, out) {
  const x = Math.min(0.9999, Math.max(0, t)) * 3, i = Math.floor(x);
  return out.copy(RAMP[i]).lerp(RAMP[i + 1], x - i);
}

// Bodies whose poses lie abreast in the texture: a card takes so many rows and no more.
const ABREAST = 1024;

// What a vertex that moves with a body needs; of a body place, turn and tint are told, side by side.
export const POSES = `
attribute float body;
uniform highp sampler2D poses;
ivec2 told(int what) { int b = int(body); return ivec2(3 * (b % ${ABREAST}) + what, b / ${ABREAST}); }
vec3 turned(vec4 q, vec3 v) { return v + 2.0 * cross(q.yzw, cross(q.yzw, v) + q.x * v); }
`;

const TURN = `${POSES}
attribute float inner; attribute vec3 rim;
varying vec4 vTint; varying vec3 vRim; varying float vJointed;
`;

// Joints of mortar on a wall, worn edges elsewhere; thinner than a pixel they fade. Fresh cracks are paler.
const RIM = `
  if (outlined > 0.5 && min(vRim.x, min(vRim.y, vRim.z)) > 1.3 * max(fwidth(min(vRim.x, min(vRim.y, vRim.z))), 1e-5)) discard;
  float away = min(vRim.x, min(vRim.y, vRim.z)), pixel = max(fwidth(away), 1e-5);
  float wide = mix(0.003, 0.007, vJointed);
  float edge = (1.0 - smoothstep(wide, wide + pixel, away)) * min(1.0, 2.0 * wide / pixel);
  vec3 skin = mix(vTint.rgb, mix(vTint.rgb * 0.62, vec3(0.34, 0.31, 0.265), vJointed), edge);
  diffuseColor.rgb *= mix(skin, min(vTint.rgb * 1.3 + 0.03, vec3(1.0)), vTint.a);`;

// Whether only edges are drawn, shared by all bodies.
export const outlined = { value: 0 };

/**
 * @template {THREE.Material} M
 * @param {M} material
 * @param {{ value: THREE.Texture }} poses
 * @param {boolean} tinted
 */
function patch(material, poses, tinted) {
  material.onBeforeCompile = shader => {
    shader.uniforms.poses = poses;
    shader.uniforms.outlined = outlined;
    shader.vertexShader = shader.vertexShader
      .replace('#include <common>', `#include <common>\n${TURN}`)
      .replace('#include <beginnormal_vertex>', 'vec3 objectNormal = turned(texelFetch(poses, told(1), 0), normal);')
      .replace('#include <begin_vertex>', `
        vec4 quaternion_ = texelFetch(poses, told(1), 0);
        vec3 transformed = turned(quaternion_, position) + texelFetch(poses, told(0), 0).xyz;
        vec4 tint_ = texelFetch(poses, told(2), 0);
        vTint = vec4(tint_.rgb, inner); vJointed = tint_.a; vRim = rim;`);
    if (tinted) {
      shader.fragmentShader = shader.fragmentShader
        .replace('#include <common>', '#include <common>\nvarying vec4 vTint; varying vec3 vRim; varying float vJointed; uniform float outlined;')
        .replace('#include <color_fragment>', RIM);
    }
  };
  return material;
}

export class Bodies {
  /**
   * @param {Skins} skins skin (3t, 3): corners about each body's centre; normal (3t, 3)
   * @param {BodyInfo[]} info
   */
  constructor({ skin, normal, rim, index, crack, starts, radius, runStarts, spheres }, info) {
    const count = info.length;
    this.count = count;
    this.info = info;
    this.skin = skin;
    this.starts = starts;
    this.radius = radius;
    this.runStarts = runStarts;
    this.spheres = spheres;
    /** what they are coloured by now */
    this.painted = '';
    /** where they were made, and how they stand there */
    this.rest = new Float32Array(count * 3);
    this.turns = new Float32Array(0);
    /** the way of each from the middle of its piece */
    this.outward = new Float32Array(count * 3);
    /** as they are posed now @type {BodiesFrame | null} */
    this.frame = null;
    /** the two bodies of each bond, and how many each body has @type {Int32Array | null} */
    this.pair = null;
    /** @type {Int32Array | null} */
    this.bonds = null;
    /** edges of what collides @type {{ line: Float32Array, body: Int32Array } | null} */
    this.hull = null;
    this.pieces = [...new Set(info.map(x => x.piece))];
    const rows = Math.max(1, Math.ceil(count / ABREAST));
    this.data = new Float32Array(rows * ABREAST * 3 * 4);
    for (let b = 0; b < count; b += 1) this.data[b * 12 + 4] = 1;
    this.texture = new THREE.DataTexture(this.data, 3 * ABREAST, rows, THREE.RGBAFormat, THREE.FloatType);
    this.texture.needsUpdate = true;
    const poses = { value: this.texture };
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute('position', new THREE.BufferAttribute(skin, 3));
    geometry.setAttribute('normal', new THREE.BufferAttribute(normal, 3, true));
    geometry.setAttribute('rim', new THREE.BufferAttribute(rim, 3));
    geometry.setAttribute('body', new THREE.BufferAttribute(index, 1));
    geometry.setAttribute('inner', new THREE.BufferAttribute(crack, 1));
    this.mesh = new THREE.Mesh(geometry, patch(new THREE.MeshLambertMaterial(), poses, true));
    this.depth = this.mesh.customDepthMaterial = patch(new THREE.MeshDepthMaterial({ depthPacking: THREE.RGBADepthPacking }), poses, false);
    this.mesh.frustumCulled = false;
    this.mesh.castShadow = this.mesh.receiveShadow = true;
  }

  /**
   * @param {Float32Array} position (n, 3)
   * @param {Float32Array | null} orientation (n, 4), scalar first
   * @param {Float32Array | null} shift (n, 3) added for the exploded view
   */
  pose(position, orientation, shift) {
    const d = this.data;
    for (let b = 0; b < this.count; b += 1) {
      for (let c = 0; c < 3; c += 1) d[b * 12 + c] = position[b * 3 + c] + (shift ? shift[b * 3 + c] : 0);
      for (let c = 0; c < 4; c += 1) d[b * 12 + 4 + c] = orientation ? orientation[b * 4 + c] : (c === 0 ? 1 : 0);
    }
    this.texture.needsUpdate = true;
  }

  /** @param {(body: number, colour: THREE.Color) => void} colourOf */
  tint(colourOf) {
    const colour = new THREE.Color();
    for (let b = 0; b < this.count; b += 1) {
      colourOf(b, colour);
      const o = b * 12 + 8;
      this.data[o] = colour.r;
      this.data[o + 1] = colour.g;
      this.data[o + 2] = colour.b;
      this.data[o + 3] = this.info[b].jointed ? 1 : 0;
    }
    this.texture.needsUpdate = true;
  }

  /**
   * Nearest body hit by a ray, or null.
   * @param {THREE.Vector3} origin
   * @param {THREE.Vector3} direction
   * @param {THREE.Vector4 | null} cut plane (normal, distance) beyond which nothing is seen
   * @returns {{ body: number, distance: number } | null}
   */
  pick(origin, direction, cut = null) {
    /** @type {{ body: number, distance: number } | null} */
    let best = null;
    const o = new THREE.Vector3(), v = new THREE.Vector3(), q = new THREE.Quaternion(), ray = new THREE.Ray();
    const cutAway = (/** @type {number} */ distance) => cut !== null && v.copy(origin).addScaledVector(direction, distance).dot(cut) + cut.w < 0;
    for (let n = 0; n < this.count; n += 1) {
      const d = this.data, i = n * 12;
      o.set(d[i], d[i + 1], d[i + 2]);
      v.copy(o).sub(origin);
      const along = v.dot(direction), away = v.lengthSq() - along * along;
      if (away > this.radius[n] ** 2 || along < -this.radius[n] || (best && along - this.radius[n] > best.distance)) continue;
      q.set(d[i + 5], d[i + 6], d[i + 7], d[i + 4]).invert();
      ray.origin.copy(origin).sub(o).applyQuaternion(q);
      ray.direction.copy(direction).applyQuaternion(q);
      const distance = this.meets(n, ray, !cut || cut.w === 1, cutAway);
      if (distance < (best?.distance ?? Infinity)) best = { body: n, distance };
    }
    return best;
  }

  /**
   * How far along a ray in its own frame a body is met, infinitely far if it is not.
   * @param {number} n
   * @param {THREE.Ray} ray
   * @param {boolean} outside whether only triangles that face the ray count
   * @param {(distance: number) => boolean} cutAway
   */
  meets(n, ray, outside, cutAway) {
    const { skin: s, starts } = this, a = new THREE.Vector3(), b = new THREE.Vector3(), c = new THREE.Vector3(), at = new THREE.Vector3();
    let nearest = Infinity;
    for (let t = starts[n]; t < starts[n + 1]; t += 1) {
      const within = t - starts[n], k = t * 9;
      if (within % RUN === 0 && this.misses(this.runStarts[n] + within / RUN, ray)) { t += RUN - 1; continue; }
      a.set(s[k], s[k + 1], s[k + 2]); b.set(s[k + 3], s[k + 4], s[k + 5]); c.set(s[k + 6], s[k + 7], s[k + 8]);
      if (!ray.intersectTriangle(a, b, c, outside, at)) continue;
      const distance = at.distanceTo(ray.origin);
      if (distance < nearest && !cutAway(distance)) nearest = distance;
    }
    return nearest;
  }

  /**
   * Whether a ray passes by a run of triangles.
   * @param {number} run
   * @param {THREE.Ray} ray
   */
  misses(run, { origin, direction }) {
    const s = this.spheres, x = s[4 * run] - origin.x, y = s[4 * run + 1] - origin.y, z = s[4 * run + 2] - origin.z;
    const along = x * direction.x + y * direction.y + z * direction.z;
    return x * x + y * y + z * z - along * along > s[4 * run + 3] ** 2;
  }

  /**
   * Edges alone, also of the far side, cast no shadow.
   * @param {boolean} on
   */
  outline(on) {
    this.mesh.castShadow = !on;
    this.mesh.material.side = on ? THREE.DoubleSide : THREE.FrontSide;
  }

  dispose() {
    this.mesh.removeFromParent();
    this.mesh.geometry.dispose();
    this.mesh.material.dispose();
    this.depth.dispose();
    this.texture.dispose();
  }
}
