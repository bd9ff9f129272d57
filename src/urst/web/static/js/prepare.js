// What of results is worked out once they have come, away from the page.
import { places } from './arrays.js';
import { shine } from './light.js';
import { runs } from './runs.js';
import { blend } from './shades.js';

/** @import { Arrays, Job } from './types' */

/**
 * Of skins corner by corner: the rims that are drawn, each corner's body and crack, where each body's triangles begin, how
 * far they reach.
 * @param {Arrays} arrays
 */
export function skins({ skin, crease, body, inner, centre }) {
  const triangles = body.length, count = centre.length / 3;
  const rim = new Float32Array(skin.length).fill(10), index = new Float32Array(triangles * 3), crack = new Uint8Array(triangles * 3);
  const starts = new Int32Array(count + 1), radius = new Float32Array(count);
  const length = (/** @type {number} */ a, /** @type {number} */ b) => Math.hypot(skin[a] - skin[b], skin[a + 1] - skin[b + 1], skin[a + 2] - skin[b + 2]);
  for (let t = 0; t < triangles; t += 1) {
    const o = t * 9, s = skin;
    const ax = s[o + 3] - s[o], ay = s[o + 4] - s[o + 1], az = s[o + 5] - s[o + 2];
    const bx = s[o + 6] - s[o], by = s[o + 7] - s[o + 1], bz = s[o + 8] - s[o + 2];
    const twice = Math.hypot(ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx);
    starts[body[t] + 1] += 1;
    for (let k = 0; k < 3; k += 1) {
      index[3 * t + k] = body[t];
      crack[3 * t + k] = inner[t];
      radius[body[t]] = Math.max(radius[body[t]], Math.hypot(s[o + 3 * k], s[o + 3 * k + 1], s[o + 3 * k + 2]));
      if (!crease[3 * t + k]) continue;
      // distance from the edge that faces corner k: its height there, nothing at the edge's two ends
      for (let v = 0; v < 3; v += 1) rim[o + 3 * v + k] = 0;
      rim[o + 3 * k + k] = twice / Math.max(1e-9, length(o + 3 * ((k + 1) % 3), o + 3 * ((k + 2) % 3)));
    }
  }
  for (let b = 0; b < count; b += 1) starts[b + 1] += starts[b];
  return { rim, index, crack, starts, radius, ...runs(skin, starts) };
}

/** @type {Record<string, (arrays: Arrays, job: Job) => Arrays>} */
const by = {
  bodies({ position, orientation, ...rest }) {
    const turns = new Float32Array(orientation.length);
    for (let i = 0; i < turns.length; i += 1) turns[i] = orientation[i] / 32767;
    return { ...rest, position: places(position), orientation: turns };
  },

  // places stay steps between bounds, which the graphics card reads as they are
  points({ size, ...rest }) {
    const [least, most] = rest.meta.sizes.map(Math.log), table = Float32Array.from({ length: 256 }, (_, i) => Math.exp(least + i / 255 * (most - least)));
    const metres = new Float32Array(size.length);
    for (let i = 0; i < metres.length; i += 1) metres[i] = table[size[i]];
    return { ...rest, size: metres };
  },

  // domain { cell }, look { extinction, dimming, sun }, shades [{ name, colour, extinction }]
  volume(arrays, { cell = 1, look, shades = [] }) {
    const { shape, across } = arrays.meta, { most, density, ...colours } = look ? blend(arrays, shades, look.extinction) : { most: 0 };
    const meta = { ...arrays.meta, most };
    if (!density || !look) return { ...arrays, meta };
    return { ...arrays, density, ...colours, meta, light: shine(density, 2 * look.extinction * look.dimming * most * cell * across / (8 * 65025), shape, look.sun) };
  },

  surface({ steps, ...rest }) {
    const index = new Uint32Array(steps.length);
    for (let i = 0, at = 0; i < index.length; i += 1) { at += steps[i]; index[i] = at; }
    return { ...rest, index };
  },
};

/**
 * @param {Arrays} arrays
 * @param {Job} job
 */
export function frame(arrays, job) { return by[arrays.meta.representation](arrays, job); }
