// How much light is left in dust.

/**
 * From the sun and from straight above, in cells twice as wide, layer by layer from the top down: (hz, hy, hx, 2) bytes.
 * @param {Uint8Array} density (nz, ny, nx): square root of the share of the most
 * @param {number} share what one step squared takes
 * @param {number[]} shape
 * @param {{ x: number, y: number, z: number }} sun towards it
 */
export function shine(density, share, [nx, ny, nz], { x, y, z }) {
  const [hx, hy, hz] = [nx, ny, nz].map(n => Math.ceil(n / 2)), data = new Uint8Array(hx * hy * hz * 2);
  const dx = x / z, dy = y / z, slant = Math.hypot(dx, dy, 1);
  const ix = Math.floor(dx), iy = Math.floor(dy), fx = dx - ix, fy = dy - iy;
  let above = new Float32Array(hx * hy), here = new Float32Array(hx * hy), any = false;
  const sky = new Float32Array(hx * hy);
  const at = (/** @type {number} */ i, /** @type {number} */ j) => (i < 0 || j < 0 || i >= hx || j >= hy ? 0 : above[j * hx + i]);
  for (let k = hz - 1; k >= 0; k -= 1) {
    const layer = 2 * k * hx * hy, low = 2 * k * nx * ny, top = Math.min(nz, 2 * k + 2) * nx * ny;
    let dusty = false;
    for (let i = low; i < top && !dusty; i += 1) dusty = density[i] > 0;
    any ||= dusty;
    if (!any) {
      data.fill(255, layer, layer + 2 * hx * hy);
      continue;
    }
    for (let j = 0; j < hy; j += 1) {
      for (let i = 0; i < hx; i += 1) {
        let dose = 0;
        if (dusty) {
          for (let c = 0; c < 8; c += 1) {
            const a = 2 * i + (c & 1), b = 2 * j + ((c >> 1) & 1), d = 2 * k + (c >> 2);
            if (a < nx && b < ny && d < nz) { const level = density[(d * ny + b) * nx + a]; dose += level * level; }
          }
          dose *= share;
        }
        const c = j * hx + i, o = layer + 2 * c, p = i + ix, q = j + iy;
        const before = (1 - fy) * ((1 - fx) * at(p, q) + fx * at(p + 1, q)) + fy * ((1 - fx) * at(p, q + 1) + fx * at(p + 1, q + 1));
        here[c] = before + slant * dose;
        sky[c] += 0.6 * dose;
        data[o] = 255 * Math.exp(-before - 0.5 * slant * dose);
        data[o + 1] = 255 * Math.exp(-sky[c]);
      }
    }
    [above, here] = [here, above];
  }
  return data;
}
