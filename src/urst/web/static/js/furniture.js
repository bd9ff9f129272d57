// What stands on the stage to measure by eye.
/** @import { Box } from './types' */
import * as THREE from '../vendor/three.js';

// A draughtsman's figure of 1.75 m, turned like a skittle and flattened front to back.
export function figure() {
  const outline = [[0, 0], [0.13, 0], [0.11, 0.08], [0.13, 0.45], [0.19, 0.86], [0.155, 1.06], [0.23, 1.36], [0.19, 1.45], [0.065, 1.49], [0.065, 1.53],
    [0.1, 1.58], [0.112, 1.65], [0.085, 1.72], [0, 1.75]];
  const body = new THREE.Mesh(new THREE.LatheGeometry(outline.map(p => new THREE.Vector2(...p)), 28), new THREE.MeshLambertMaterial({ color: '#d9d2c3' }));
  body.rotation.x = Math.PI / 2;
  body.scale.z = 0.62;
  body.castShadow = true;
  return body;
}

// How tall the figure is, how far it stands off what is beside it, how high is what it may stand in, and how far it goes for that [m].
const TALL = 1.75, OFF = 0.4, SHALLOW = 0.1, FAR = 6;

/**
 * How far forward (towards -y) the figure stands so that it stands in nothing; where it began if that is far, as on wide land.
 * @param {Box[]} boxes of what stands about
 * @param {number} x
 * @param {number} y
 */
export function clearOf(boxes, x, y) {
  const beside = boxes.filter(b => b.low[2] < TALL && b.high[2] > SHALLOW && b.low[0] < x + OFF && b.high[0] > x - OFF);
  let clear = y;
  for (const b of beside.sort((one, other) => other.high[1] - one.high[1])) if (b.low[1] < clear + OFF && b.high[1] > clear - OFF) clear = b.low[1] - OFF;
  return y - clear > FAR ? y : clear;
}

// A line each metre.
export function grid() {
  const points = [];
  for (let i = -30; i <= 30; i += 1) points.push(i, -30, 0, i, 30, 0, -30, i, 0, 30, i, 0);
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute('position', new THREE.Float32BufferAttribute(points, 3));
  const lines = new THREE.LineSegments(geometry, new THREE.LineBasicMaterial({ color: '#3e3b37', transparent: true, opacity: 0.22 }));
  lines.position.z = 0.006;
  return lines;
}
