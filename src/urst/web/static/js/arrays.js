// Arrays as `urst.drawn.codec` packs them. Runs in the decoder and in tests.
import { ZSTDDecoder } from '../vendor/zstddec.js';

/** @import { Arrays, Column } from './types' */

/** @type {Record<string, any>} */
const TYPES = { float32: Float32Array, int32: Int32Array, uint32: Uint32Array, int16: Int16Array, uint16: Uint16Array, int8: Int8Array, uint8: Uint8Array };
const MAGIC = 'URSTDR1\n';
const zstd = new ZSTDDecoder();

// Resolves when `decode` may be called.
export const ready = zstd.init();

/**
 * Bytes that lie plane by plane, put back number by number.
 * @param {Uint8Array} planes
 * @param {number} width
 */
function unshuffled(planes, width) {
  if (width === 1) return planes;
  const n = planes.length / width, out = new Uint8Array(planes.length);
  for (let p = 0; p < width; p += 1) {
    const from = p * n;
    for (let i = 0, o = p; i < n; i += 1, o += width) out[o] = planes[from + i];
  }
  return out;
}

/**
 * 16-bit floats as 32-bit ones.
 * @param {Uint16Array} words
 */
export function halves(words) {
  const out = new Float32Array(words.length);
  for (let i = 0; i < words.length; i += 1) {
    const w = words[i], e = (w >> 10) & 31, m = w & 1023, sign = w & 0x8000 ? -1 : 1;
    out[i] = sign * (e === 31 ? (m ? NaN : Infinity) : e ? 2 ** (e - 15) * (1 + m / 1024) : 2 ** -24 * m);
  }
  return out;
}

/**
 * { meta, name: array, ... }; arrays have .shape, and .low and .high where they are steps between bounds.
 * @param {Uint8Array} bytes
 */
export function decode(bytes) {
  if (new TextDecoder().decode(bytes.subarray(0, 8)) !== MAGIC) throw new Error('no arrays of Urst');
  const size = new DataView(bytes.buffer, bytes.byteOffset).getUint32(8, true);
  const header = JSON.parse(new TextDecoder().decode(bytes.subarray(12, 12 + size))), arrays = /** @type {Arrays} */ ({ meta: header.meta, bytes: bytes.byteLength });
  for (const { name, type, shape, at, size: length, low, high } of header.arrays) {
    const half = type === 'float16', Type = half ? Uint16Array : TYPES[type];
    const count = shape.reduce((/** @type {number} */ a, /** @type {number} */ b) => a * b, 1), whole = count * Type.BYTES_PER_ELEMENT;
    const plain = count ? zstd.decode(bytes.subarray(12 + size + at, 12 + size + at + length), whole) : new Uint8Array(0);
    if (plain.length !== whole) throw new Error('a result was cut short');
    const values = new Type(unshuffled(plain, Type.BYTES_PER_ELEMENT).buffer, 0, count);
    arrays[name] = half ? halves(values) : values;
    Object.assign(arrays[name], { shape }, low ? { low, high } : {});
  }
  return arrays;
}

/**
 * Numbers of steps between bounds, as 32-bit floats.
 * @param {Column} array
 * @returns {Float32Array}
 */
export function places(array) {
  const { low, high } = array;
  if (!low || !high) return /** @type {Float32Array} */ (array);
  const c = low.length, out = new Float32Array(array.length), scale = low.map((x, i) => (high[i] - x) / 65535);
  for (let i = 0; i < out.length; i += 1) out[i] = low[i % c] + array[i] * scale[i % c];
  return out;
}

/**
 * Frames in a row.
 * @param {Uint8Array} bytes
 */
export function split(bytes) {
  const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength), found = [];
  for (let at = 0; at < bytes.byteLength;) {
    const frame = view.getInt32(at, true), size = view.getUint32(at + 4, true);
    // a copy, so that numbers begin at even addresses
    found.push({ frame, bytes: bytes.slice(at + 8, at + 8 + size) });
    at += 8 + size;
  }
  return found;
}
