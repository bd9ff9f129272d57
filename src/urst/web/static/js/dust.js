// Dust as a ray-marched volume, at half the stage's resolution, stopped by what stands in it.
import * as THREE from '../vendor/three.js';

// Light taken out by dust of 1 kg/m3 over a metre: fine mineral dust, 3 Q / (2 rho d) with d = 20 um [m2/kg].
const EXTINCTION = 60;
const STEPS = 56;

const vertexShader = 'varying vec2 vUv; void main() { vUv = uv; gl_Position = vec4(position.xy, 0.0, 1.0); }';

const march = `
precision highp sampler3D;
varying vec2 vUv;
uniform sampler3D dust; uniform sampler2D depth;
uniform mat4 unproject; uniform vec3 eye, low, high, light, sky; uniform float most, extinction, cell;
void main() {
  vec4 far = unproject * vec4(vUv * 2.0 - 1.0, texture2D(depth, vUv).r * 2.0 - 1.0, 1.0);
  vec3 end = far.xyz / far.w, way = end - eye;
  float reach = length(way); way /= reach;
  vec3 a = (low - eye) / way, b = (high - eye) / way, near = min(a, b), off = max(a, b);
  float from = max(max(near.x, near.y), max(near.z, 0.0)), to = min(min(off.x, off.y), min(off.z, reach));
  gl_FragColor = vec4(0.0);
  if (to <= from) return;
  float stride = max((to - from) / float(${STEPS}), 0.25 * cell);
  float dither = fract(52.9829189 * fract(dot(gl_FragCoord.xy, vec2(0.06711056, 0.00583715))));
  vec3 sum = vec3(0.0); float clear = 1.0;
  for (int i = 0; i < ${STEPS}; i++) {
    float t = from + (float(i) + dither) * stride;
    if (t > to || clear < 0.01) break;
    vec3 p = (eye + way * t - low) / (high - low);
    vec2 s = texture(dust, p).rg;
    float amount = s.r * s.r * most;
    if (amount < 1e-5) continue;
    float taken = 1.0 - exp(-extinction * amount * stride);
    sum += clear * taken * (sky + light * s.g);
    clear *= 1.0 - taken;
  }
  gl_FragColor = vec4(sum, 1.0 - clear);
}`;

const join = `
varying vec2 vUv; uniform sampler2D scene, dustImage; uniform float shown;
void main() {
  vec4 base = texture2D(scene, vUv), veil = texture2D(dustImage, vUv) * shown;
  gl_FragColor = vec4(base.rgb * (1.0 - veil.a) + veil.rgb, 1.0);
  #include <colorspace_fragment>
}`;

export class Dust {
  constructor() {
    this.texture = null;
    this.triangle = new THREE.Mesh(new THREE.PlaneGeometry(2, 2));
    this.triangle.frustumCulled = false;
    this.screen = new THREE.Scene();
    this.screen.add(this.triangle);
    this.view = new THREE.Camera();
    this.march = new THREE.ShaderMaterial({
      vertexShader, fragmentShader: march, depthTest: false, depthWrite: false,
      uniforms: {
        dust: { value: null }, depth: { value: null }, unproject: { value: new THREE.Matrix4() }, eye: { value: new THREE.Vector3() },
        low: { value: new THREE.Vector3() }, high: { value: new THREE.Vector3(1, 1, 1) }, most: { value: 0 },
        light: { value: new THREE.Color(0.62, 0.56, 0.48) }, sky: { value: new THREE.Color(0.25, 0.235, 0.22) },
        extinction: { value: EXTINCTION }, cell: { value: 0.1 },
      },
    });
    this.join = new THREE.ShaderMaterial({
      vertexShader, fragmentShader: join, depthTest: false, depthWrite: false,
      uniforms: { scene: { value: null }, dustImage: { value: null }, shown: { value: 1 } },
    });
    this.target = new THREE.WebGLRenderTarget(4, 4, { type: THREE.HalfFloatType, depthBuffer: false });
  }

  // density (nz, ny, nx) uint8, square root of the share of `most`; domain { low, cell, shape }
  set(density, most, domain) {
    const [nx, ny, nz] = domain.shape;
    const cells = nx * ny * nz;
    if (!this.texture || this.texture.image.width !== nx || this.texture.image.height !== ny || this.texture.image.depth !== nz) {
      this.texture?.dispose();
      this.texture = new THREE.Data3DTexture(new Uint8Array(cells * 2), nx, ny, nz);
      Object.assign(this.texture, {
        format: THREE.RGFormat, type: THREE.UnsignedByteType, minFilter: THREE.LinearFilter, magFilter: THREE.LinearFilter, unpackAlignment: 1,
      });
    }
    // how much of the light from above is left at each cell, column by column
    const data = this.texture.image.data, plane = nx * ny;
    const share = EXTINCTION * 0.35 * most * domain.cell / 65025;
    for (let c = 0; c < plane; c += 1) {
      let depth = 0;
      for (let k = nz - 1; k >= 0; k -= 1) {
        const at = k * plane + c, level = density[at];
        depth += level * level * share;
        data[at * 2] = level;
        data[at * 2 + 1] = 255 * Math.exp(-depth);
      }
    }
    this.texture.needsUpdate = true;
    const u = this.march.uniforms;
    u.dust.value = this.texture;
    u.most.value = most;
    u.cell.value = domain.cell;
    u.low.value.set(...domain.low);
    u.high.value.set(...domain.low.map((x, i) => x + domain.cell * domain.shape[i]));
  }

  clear() { this.march.uniforms.most.value = 0; }

  render(renderer, camera, image, size) {
    const u = this.march.uniforms, any = u.most.value > 0;
    this.join.uniforms.shown.value = any ? 1 : 0;
    if (any) {
      this.target.setSize(Math.ceil(size.x / 2), Math.ceil(size.y / 2));
      u.depth.value = image.depthTexture;
      u.eye.value.setFromMatrixPosition(camera.matrixWorld);
      u.unproject.value.copy(camera.matrixWorld).multiply(camera.projectionMatrixInverse);
      this.triangle.material = this.march;
      renderer.setRenderTarget(this.target);
      renderer.render(this.screen, this.view);
    }
    this.join.uniforms.scene.value = image.texture;
    this.join.uniforms.dustImage.value = this.target.texture;
    this.triangle.material = this.join;
    renderer.setRenderTarget(null);
    renderer.render(this.screen, this.view);
  }
}
