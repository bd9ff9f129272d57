// Several concentrations seen as one; see `urst.drawn.volume`.

/** @import { Arrays, Shade } from './types' */

/** @param {string} hex */
const linear = hex => [1, 3, 5].map(i => (parseInt(hex.slice(i, i + 2), 16) / 255) ** 2.2);

/**
 * How much dust of extinction `usual` takes as much light as all shades together: density is the square root of the share
 * of the most. Where they differ in colour tint (nz, ny, nx, 4) has square roots of linear colours, and whether there is any
 * dust; else there is one colour.
 * @param {Arrays} arrays of each shade its bytes by name, in meta.most its greatest amount by name
 * @param {Shade[]} shades
 * @param {number} usual
 * @returns {{ most: number, density?: Uint8Array, colour?: string, tint?: Uint8Array }}
 */
export function blend(arrays, shades, usual) {
  const seen = shades.filter(s => arrays[s.name] && arrays.meta.most[s.name] > 0 && s.extinction > 0);
  const scale = seen.map(s => arrays.meta.most[s.name] * s.extinction / usual);
  if (!seen.length) return { most: 0 };
  if (seen.length === 1) return { density: arrays[seen[0].name], most: scale[0], colour: seen[0].colour };
  const bytes = seen.map(s => arrays[s.name]), colours = seen.map(s => linear(s.colour)), count = bytes[0].length;
  const amount = new Float32Array(count), density = new Uint8Array(count), tint = new Uint8Array(4 * count);
  let most = 0;
  for (let i = 0; i < count; i += 1) {
    let sum = 0, r = 0, g = 0, b = 0;
    for (let n = 0; n < seen.length; n += 1) {
      const level = bytes[n][i] / 255, part = level * level * scale[n];
      sum += part;
      r += part * colours[n][0];
      g += part * colours[n][1];
      b += part * colours[n][2];
    }
    amount[i] = sum;
    if (sum > most) most = sum;
    if (sum > 0) {
      tint[4 * i] = 255 * Math.sqrt(r / sum);
      tint[4 * i + 1] = 255 * Math.sqrt(g / sum);
      tint[4 * i + 2] = 255 * Math.sqrt(b / sum);
      tint[4 * i + 3] = 255;
    }
  }
  for (let i = 0; i < count; i += 1) density[i] = 255 * Math.sqrt(amount[i] / most) + 0.5;
  return { density, most, tint };
}
