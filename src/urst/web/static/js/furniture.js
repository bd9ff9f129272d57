// What stands on the stage to measure by eye.
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
