// Bodies between two baked frames, from the velocities that are kept; see `urst.handover.between`.

/** @import { BodiesFrame } from './types' */

/**
 * @param {BodiesFrame} a
 * @param {BodiesFrame} b the next frame
 * @param {number} span seconds between them
 * @param {number} share 0 to 1
 * @returns {BodiesFrame}
 */
export function between(a, b, span, share) {
  if (!share || !b || a.position.length !== b.position.length) return a;
  const t = share, p = [2 * t ** 3 - 3 * t ** 2 + 1, (t ** 3 - 2 * t ** 2 + t) * span, 3 * t ** 2 - 2 * t ** 3, (t ** 3 - t ** 2) * span];
  const n = a.position.length / 3, position = new Float32Array(3 * n), orientation = new Float32Array(4 * n);
  for (let k = 0; k < n; k += 1) {
    let way = 0, bent = 0, along = 0;
    for (let c = 3 * k; c < 3 * k + 3; c += 1) {
      const d = b.position[c] - a.position[c];
      position[c] = p[0] * a.position[c] + p[1] * a.velocity[c] + p[2] * b.position[c] + p[3] * b.velocity[c];
      way += d * d;
      bent += (d - 0.5 * span * (a.velocity[c] + b.velocity[c])) ** 2;
    }
    // what was struck in between goes straight: a cubic would swing out past both ends
    if (Math.sqrt(bent) > 0.5 * Math.sqrt(way) + 1e-4) for (let c = 3 * k; c < 3 * k + 3; c += 1) position[c] = (1 - t) * a.position[c] + t * b.position[c];
    for (let c = 4 * k; c < 4 * k + 4; c += 1) along += a.orientation[c] * b.orientation[c];
    const sign = along < 0 ? -1 : 1;
    let size = 0;
    for (let c = 4 * k; c < 4 * k + 4; c += 1) {
      orientation[c] = (1 - t) * a.orientation[c] + t * sign * b.orientation[c];
      size += orientation[c] ** 2;
    }
    for (let c = 4 * k; c < 4 * k + 4; c += 1) orientation[c] /= Math.sqrt(size);
  }
  return { ...a, position, orientation };
}

/**
 * How fast frames are played at a moment, from a value for each frame from `start` on.
 * @param {number[]} values
 * @param {number} start
 * @param {number} moment
 */
export function paceAt(values, start, moment) {
  const at = Math.min(values.length - 1, Math.max(0, moment - start)), k = Math.min(values.length - 2, Math.floor(at));
  return values.length < 2 ? values[0] ?? 1 : values[k] + (at - k) * (values[k + 1] - values[k]);
}
