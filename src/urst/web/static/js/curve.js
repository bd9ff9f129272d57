// Curves: values between points, and how a curve is typed.

/**
 * @typedef {{ at: number, value: number, cue?: string }} Point
 * @typedef {{ gap: number, least: number, most: number }} Limits least distance of points, and the range of values
 * @typedef {Record<string, number>} Frames of cues, by name
 */

/**
 * Monotone through rising points, constant before the first and after the last (Fritsch & Carlson 1980).
 * @param {Point[]} points
 * @param {number} at
 */
export function valueAt(points, at) {
  const n = points.length;
  if (n === 1 || at <= points[0].at) return points[0].value;
  if (at >= points[n - 1].at) return points[n - 1].value;
  /** @type {number[]} */
  const h = [], d = /** @type {number[]} */ ([]);
  for (let i = 0; i < n - 1; i += 1) {
    h.push(points[i + 1].at - points[i].at);
    d.push((points[i + 1].value - points[i].value) / h[i]);
  }
  let i = 0;
  while (at > points[i + 1].at) i += 1;
  const t = (at - points[i].at) / h[i], m0 = slope(h, d, i) * h[i], m1 = slope(h, d, i + 1) * h[i];
  const a = points[i].value, b = points[i + 1].value;
  return (2 * t ** 3 - 3 * t ** 2 + 1) * a + (t ** 3 - 2 * t ** 2 + t) * m0 + (3 * t ** 2 - 2 * t ** 3) * b + (t ** 3 - t ** 2) * m1;
}

/**
 * @param {number[]} h
 * @param {number[]} d
 * @param {number} i
 */
function slope(h, d, i) {
  if (d.length === 1) return d[0];
  if (i === 0) return end(h[0], h[1], d[0], d[1]);
  if (i === d.length) return end(h[i - 1], h[i - 2], d[i - 1], d[i - 2]);
  if (d[i - 1] * d[i] <= 0) return 0;
  const w1 = 2 * h[i] + h[i - 1], w2 = h[i] + 2 * h[i - 1];
  return (w1 + w2) / (w1 / d[i - 1] + w2 / d[i]);
}

/**
 * @param {number} h0
 * @param {number} h1
 * @param {number} d0
 * @param {number} d1
 */
function end(h0, h1, d0, d1) {
  const m = ((2 * h0 + h1) * d0 - h0 * d1) / (h0 + h1);
  if (Math.sign(m) !== Math.sign(d0)) return 0;
  return Math.sign(d0) !== Math.sign(d1) && Math.abs(m) > 3 * Math.abs(d0) ? 3 * d0 : m;
}

/** @param {number} x */
const number = x => String(Number(x.toPrecision(6)));

/**
 * A point's place in words: its cue and the frames after it, or the place itself.
 * @param {Point} point
 * @param {Frames} cueFrames
 */
export function placeOf(point, cueFrames) {
  const home = point.cue ? cueFrames[point.cue] : undefined;
  if (home === undefined || !point.cue) return number(point.at);
  const plus = point.at - home;
  return plus ? `${point.cue} ${plus > 0 ? '+' : '-'} ${number(Math.abs(plus))}` : point.cue;
}

/**
 * A curve as it is typed.
 * @param {{ over: string, origin?: number[] | null, points: Point[] }} curve
 * @param {Frames} cueFrames
 */
export function typed({ over, origin, points }, cueFrames = {}) {
  const from = over === 'distance' && origin ? ` from ${origin.join(' ')}` : '';
  return `over ${over}${from} ${points.map(p => `${placeOf(p, cueFrames)}: ${number(p.value)}`).join(', ')}`;
}

/**
 * Points with one moved, kept between its neighbours and within the range of values.
 * @param {Point[]} points
 * @param {number} i
 * @param {number} at
 * @param {number} value
 * @param {Limits} limits
 */
export function moved(points, i, at, value, { gap, least, most }) {
  const low = i ? points[i - 1].at + gap : -Infinity, high = i < points.length - 1 ? points[i + 1].at - gap : Infinity;
  const place = Math.min(high, Math.max(low, at));
  return points.map((p, n) => (n === i ? { ...p, at: place, value: Math.min(most, Math.max(least, value)) } : p));
}

/**
 * Points with one more where there was none, of the value the curve has there; and its number.
 * @param {Point[]} points
 * @param {number} at
 * @param {number} [value]
 */
export function added(points, at, value) {
  const close = points.findIndex(p => Math.abs(p.at - at) < 1e-9);
  if (close >= 0) return { points, number: close };
  const list = [...points, { at, value: value ?? valueAt(points, at), cue: '' }].sort((a, b) => a.at - b.at);
  return { points: list, number: list.findIndex(p => p.at === at) };
}
