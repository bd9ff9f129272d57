// The colours of bodies: of what they are, by fragment, speed, load or rest.
import * as THREE from '../vendor/three.js';
import { ramp } from './bodies.js';

/** @import { Bodies } from './bodies.js' */
/** @import { BodiesFrame, BodyInfo } from './types' */

/** @type {Map<string, THREE.Color>} */
const known = new Map();

/** @param {string} name */
function named(name) {
  const found = known.get(name) || new THREE.Color(name);
  known.set(name, found);
  return found;
}

/**
 * @param {Bodies} bodies
 * @param {BodiesFrame | null} frame
 * @param {string} mode
 * @param {number} topSpeed where the scale of speeds ends [m/s]
 */
export function paint(bodies, frame, mode, topSpeed) {
  // colours that no frame changes are set once
  if ((mode === 'material' || mode === 'fragment') && bodies.painted === mode) return;
  bodies.painted = mode;
  const measure = frame && measured(bodies, frame, mode, topSpeed);
  bodies.tint((b, colour) => {
    const x = bodies.info[b], number = x.number || 0;
    if (mode === 'fragment' && x.parts > 1) colour.setHSL((number * 0.61803) % 1, 0.42, 0.5 + 0.12 * Math.sin(number));
    else if (measure && measure.of(x)) ramp(measure.share(b), colour);
    else {
      colour.copy(named(x.colour));
      // bricks of one batch differ a little
      if (x.parts > 1) colour.multiplyScalar(x.shade);
      if (mode === 'rest' && x.motion === 'loose' && frame?.awake && !frame.awake[b]) colour.multiplyScalar(0.3);
    }
  });
}

/**
 * What the scale of colours tells of a body, and of which.
 * @param {Bodies} bodies
 * @param {BodiesFrame} frame
 * @param {string} mode
 * @param {number} topSpeed
 * @returns {{ of: (x: BodyInfo) => boolean, share: (body: number) => number } | null}
 */
function measured(bodies, frame, mode, topSpeed) {
  const loose = (/** @type {BodyInfo} */ x) => x.motion === 'loose', { velocity: v, pressed } = frame;
  if (mode === 'speed') return { of: x => x.motion !== 'fixed', share: b => Math.hypot(v[3 * b], v[3 * b + 1], v[3 * b + 2]) / topSpeed };
  // up to a hundred times its weight, by the factor
  if (mode === 'load' && pressed) return { of: loose, share: b => Math.log10(1 + pressed[b]) / 2 };
  const load = mode === 'strain' ? loads(bodies, frame) : null;
  return load && { of: loose, share: b => load[b] };
}

/**
 * Of each body the load of its bond that is loaded most.
 * @param {Bodies} bodies
 * @param {BodiesFrame} frame
 */
function loads({ count, pair }, { bond_load: load, bond_alive: alive }) {
  if (!load || !alive || !pair) return null;
  const most = new Float32Array(count);
  load.forEach((x, i) => { for (const b of [pair[2 * i], pair[2 * i + 1]]) most[b] = Math.max(most[b], alive[i] ? x : 0); });
  return most;
}
