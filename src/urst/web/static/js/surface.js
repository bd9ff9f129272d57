// A surface that changes every frame: corners as steps between bounds, with normals.
import * as THREE from '../vendor/three.js';

export class Surface {
  constructor(colour) {
    this.bounds = { low: { value: new THREE.Vector3() }, span: { value: new THREE.Vector3(1, 1, 1) } };
    this.mesh = new THREE.Mesh(new THREE.BufferGeometry(), this.within(new THREE.MeshLambertMaterial({ color: colour })));
    this.mesh.customDepthMaterial = this.within(new THREE.MeshDepthMaterial({ depthPacking: THREE.RGBADepthPacking }));
    this.mesh.frustumCulled = false;
    this.mesh.castShadow = this.mesh.receiveShadow = true;
  }

  within(material) {
    material.onBeforeCompile = shader => {
      Object.assign(shader.uniforms, this.bounds);
      shader.vertexShader = shader.vertexShader.replace('#include <common>', '#include <common>\nuniform vec3 low, span;')
        .replace('#include <begin_vertex>', 'vec3 transformed = low + span * position;');
    };
    return material;
  }

  // position (n, 3) steps or floats, normal (n, 3) int8, index
  show({ position, normal, index }) {
    const g = new THREE.BufferGeometry(), { low, high } = position;
    g.setAttribute('position', new THREE.BufferAttribute(position, 3, Boolean(low)));
    g.setAttribute('normal', new THREE.BufferAttribute(normal, 3, true));
    g.setIndex(new THREE.BufferAttribute(index, 1));
    this.mesh.geometry.dispose();
    this.mesh.geometry = g;
    this.bounds.low.value.set(...(low || [0, 0, 0]));
    this.bounds.span.value.set(...(low ? high.map((x, i) => x - low[i]) : [1, 1, 1]));
  }

  dispose() {
    this.mesh.removeFromParent();
    this.mesh.geometry.dispose();
    this.mesh.material.dispose();
    this.mesh.customDepthMaterial.dispose();
  }
}
