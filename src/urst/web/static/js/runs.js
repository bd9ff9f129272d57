// Triangles of a body in runs, so that a pointer need not be held against each of a large mesh.
// Triangles in a run.
export const RUN = 128;

/**
 * Spheres round them, four numbers a run, and where each body's runs begin.
 * @param {Float32Array} skin corners
 * @param {Int32Array} starts each body's first triangle
 */
export function runs(skin, starts) {
  const bodies = starts.length - 1, runStarts = new Int32Array(bodies + 1);
  for (let b = 0; b < bodies; b += 1) runStarts[b + 1] = runStarts[b] + Math.ceil((starts[b + 1] - starts[b]) / RUN);
  const spheres = new Float32Array(4 * runStarts[bodies]);
  for (let b = 0; b < bodies; b += 1) {
    for (let r = runStarts[b]; r < runStarts[b + 1]; r += 1) {
      const first = 9 * (starts[b] + RUN * (r - runStarts[b])), last = Math.min(9 * starts[b + 1], first + 9 * RUN);
      const low = [Infinity, Infinity, Infinity], high = [-Infinity, -Infinity, -Infinity];
      for (let k = first; k < last; k += 1) {
        const c = (k - first) % 3;
        if (skin[k] < low[c]) low[c] = skin[k];
        if (skin[k] > high[c]) high[c] = skin[k];
      }
      const middle = low.map((x, c) => (x + high[c]) / 2);
      spheres.set([...middle, Math.hypot(...middle.map((x, c) => high[c] - x)) * 1.0001], 4 * r);
    }
  }
  return { runStarts, spheres };
}
