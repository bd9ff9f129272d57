// Bodies as the stage has them, put together from what the server tells.
import { Bodies } from './bodies.js';

/** @import { Arrays, BodyInfo, Triple } from './types' */
/** @typedef {(piece: number) => Pick<BodyInfo, 'name' | 'colour' | 'motion' | 'jointed' | 'piece'>} LookOf how a piece is drawn and called */

/**
 * The shapes of the set, each about its own middle.
 * @param {Arrays} set
 * @param {LookOf} look
 */
export function ofSet(set, look) {
  const parts = new Map();
  /** @type {BodyInfo[]} */
  const info = Array.from(/** @type {Int32Array} */ (set.piece), (piece, n) => {
    const part = parts.get(piece) || 0, b = 3 * n;
    parts.set(piece, part + 1);
    return { ...look(piece), part, parts: 0, shade: set.shade[n], local: triple(set.centre, b), centre: /** @type {Triple} */ ([0, 0, 0]) };
  });
  for (const x of info) x.parts = parts.get(x.piece);
  return atRest(new Bodies(/** @type {any} */ (set), info));
}

/**
 * Fragments of a layer's result.
 * @param {Arrays} s
 * @param {number[]} cast numbers of the set pieces that theirs count in
 * @param {LookOf} look
 */
export function ofResult(s, cast, look) {
  const count = s.piece.length, perPiece = new Map();
  /** @type {Map<number, BodyInfo[]>} */
  const solids = new Map();
  const info = Array.from({ length: count }, (_, b) => {
    const p = cast[s.piece[b]] ?? -1, whole = s.whole?.[b] ?? -1, solid = solids.get(whole);
    const number = solid?.[0].number ?? (perPiece.get(p) || 0) + 1;
    perPiece.set(p, Math.max(number, perPiece.get(p) || 0));
    /** @type {BodyInfo} */
    const x = { ...look(p), number, part: s.part[b], parts: 0, shade: s.shade[b], mass: s.mass?.[b], volume: s.volume[b], centre: triple(s.centre, 3 * b) };
    if (whole >= 0) solids.set(whole, [...(solid || []), x]);
    return x;
  });
  for (const parts of solids.values()) asOne(parts);
  for (const x of info) x.parts = perPiece.get(x.piece);
  const bodies = atRest(new Bodies(/** @type {any} */ (s), info));
  bodies.pair = s.bond_pair;
  bodies.hull = s.hull_line && { line: s.hull_line, body: s.hull_body };
  bodies.bonds = new Int32Array(count);
  if (s.bond_pair) for (const b of s.bond_pair) bodies.bonds[b] += 1;
  bodies.outward = outward(info);
  return bodies;
}

/**
 * Convex parts of one solid are shown, coloured and told of as one.
 * @param {BodyInfo[]} parts
 */
function asOne(parts) {
  const volume = parts.reduce((sum, x) => sum + (x.volume || 0), 0), mass = parts.reduce((sum, x) => sum + (x.mass || 0), 0);
  const centre = /** @type {Triple} */ ([0, 1, 2].map(i => parts.reduce((sum, x) => sum + x.centre[i] * (x.volume || 0), 0) / volume));
  for (const x of parts) Object.assign(x, { centre, volume, mass: x.mass === undefined ? undefined : mass });
}

/**
 * The way of each body from the middle of its piece, (n, 3).
 * @param {BodyInfo[]} info
 */
function outward(info) {
  /** @type {Map<number, number[]>} */
  const sums = new Map(), out = new Float32Array(info.length * 3);
  for (const x of info) {
    const sum = sums.get(x.piece) || [0, 0, 0, 0];
    x.centre.forEach((c, i) => { sum[i] += c; });
    sum[3] += 1;
    sums.set(x.piece, sum);
  }
  info.forEach((x, b) => {
    const sum = sums.get(x.piece);
    if (sum && sum[3] > 1) x.centre.forEach((c, i) => { out[3 * b + i] = c - sum[i] / sum[3]; });
  });
  return out;
}

/** @param {Bodies} bodies */
function atRest(bodies) {
  bodies.rest = new Float32Array(bodies.info.flatMap(x => x.centre));
  bodies.pose(bodies.rest, null, null);
  return bodies;
}

/**
 * @param {Float32Array} values
 * @param {number} from
 * @returns {Triple}
 */
function triple(values, from) { return [values[from], values[from + 1], values[from + 2]]; }
