// Dust as a ray-marched volume at half the stage's resolution: lit by the sun and the sky, stopped by what stands in it,
// and throwing its shadow on the set.
import * as THREE from '../vendor/three.js';

/** @import { Look, VolumeFrame } from './types' */

const STEPS = 64;

const vertexShader = 'varying vec2 vUv; void main() { vUv = uv; gl_Position = vec4(position.xy, 0.0, 1.0); }';

const place = `
uniform mat4 unproject; uniform sampler2D depth;
vec3 placeAt(vec2 uv) {
  vec4 far = unproject * vec4(uv * 2.0 - 1.0, texture2D(depth, uv).r * 2.0 - 1.0, 1.0);
  return far.xyz / far.w;
}`;

const march = `
precision highp sampler3D;
varying vec2 vUv;
uniform sampler3D dust, light, tint;
uniform vec4 cut; uniform vec3 eye, low, high, sun, sunlight, skylight, bounce, albedo; uniform float most, extinction, cell, tinted;
${place}
void main() {
  vec3 way = placeAt(vUv) - eye;
  float reach = length(way); way /= reach;
  vec3 a = (low - eye) / way, b = (high - eye) / way, near = min(a, b), off = max(a, b);
  float from = max(max(near.x, near.y), max(near.z, 0.0)), to = min(min(off.x, off.y), min(off.z, reach));
  float along = dot(cut.xyz, way), ahead = dot(cut.xyz, eye) + cut.w;
  if (along > 1e-6) from = max(from, -ahead / along);
  else if (along < -1e-6) to = min(to, -ahead / along);
  else if (ahead < 0.0) to = from;
  gl_FragColor = vec4(0.0);
  if (to <= from) return;
  float stride = max((to - from) / float(${STEPS}), 0.3 * cell);
  float dither = fract(52.9829189 * fract(dot(gl_FragCoord.xy, vec2(0.06711056, 0.00583715))));
  // Henyey & Greenstein's phase function, g = 0.35, as a share of the even one
  float c = dot(way, sun), phase = (1.0 - 0.1225) / pow(1.1225 - 0.7 * c, 1.5);
  vec3 sum = vec3(0.0); float clear = 1.0;
  for (int i = 0; i < ${STEPS}; i++) {
    float t = from + (float(i) + dither) * stride;
    if (t > to || clear < 0.01) break;
    vec3 p = (eye + way * t - low) / (high - low);
    float level = texture(dust, p).r, amount = level * level * most;
    if (amount < 1e-5) continue;
    vec2 lit = texture(light, p).rg;
    float taken = 1.0 - exp(-extinction * amount * stride);
    // light scattered more than once reaches deeper and comes from everywhere
    vec3 glow = sunlight * (phase * lit.r + 0.4 * sqrt(sqrt(lit.r))) + skylight * lit.g + bounce;
    vec3 colour = albedo;
    // neighbours without dust have no colour of their own
    if (tinted > 0.5) { vec4 t = texture(tint, p); colour = t.a > 0.0 ? pow(t.rgb / t.a, vec3(2.0)) : albedo; }
    sum += clear * taken * colour * glow;
    clear *= 1.0 - taken;
  }
  gl_FragColor = vec4(sum, 1.0 - clear);
}`;

const join = `
precision highp sampler3D;
varying vec2 vUv;
uniform sampler2D scene, dustImage; uniform sampler3D light; uniform vec3 low, high; uniform vec2 texel; uniform float shown, exposure, mark;
${place}
void main() {
  vec4 base = texture2D(scene, vUv), veil = vec4(0.0);
  if (shown > 0.5) {
    for (int x = -1; x <= 1; x++) for (int y = -1; y <= 1; y++)
      veil += texture2D(dustImage, vUv + vec2(x, y) * texel) * (x == 0 ? 2.0 : 1.0) * (y == 0 ? 2.0 : 1.0) / 16.0;
    vec3 p = (placeAt(vUv) - low) / (high - low);
    if (all(greaterThan(p, vec3(0.0))) && all(lessThan(p, vec3(1.0)))) base.rgb *= mix(0.45, 1.0, texture(light, p).r);
  }
  vec3 lit = exposure * (base.rgb * (1.0 - veil.a) + veil.rgb);
  bool clips = any(greaterThan(lit, vec3(1.0)));
  if (mark > 1.5) { gl_FragColor = vec4(vec3(clips ? 1.0 : 0.0), 1.0); return; }
  // stripes, so that no colour of the picture is taken for a mark
  if (mark > 0.5 && clips) lit = mod(gl_FragCoord.x + gl_FragCoord.y, 8.0) < 4.0 ? vec3(0.9, 0.03, 0.05) : vec3(1.0);
  gl_FragColor = vec4(lit, 1.0);
  #include <colorspace_fragment>
}`;

/**
 * A 3D texture of this shape with these bytes: the one at hand if it fits.
 * @param {THREE.Data3DTexture | null} old
 * @param {number[]} shape
 * @param {THREE.PixelFormat} format
 * @param {Uint8Array<any>} data
 */
function volume(old, [w, h, d], format, data) {
  const fits = old && old.image.width === w && old.image.height === h && old.image.depth === d;
  if (!fits) old?.dispose();
  const texture = fits && old ? old : Object.assign(new THREE.Data3DTexture(data, w, h, d), {
    format, type: THREE.UnsignedByteType, minFilter: THREE.LinearFilter, magFilter: THREE.LinearFilter, unpackAlignment: 1,
  });
  texture.image.data = data;
  texture.needsUpdate = true;
  return texture;
}

export class Dust {
  /**
   * @param {THREE.Vector3} sun unit vector towards it
   * @param {Look} look
   */
  constructor(sun, look) {
    this.sun = sun;
    this.look = look;
    /** @type {THREE.Data3DTexture | null} */
    this.density = null;
    /** @type {THREE.Data3DTexture | null} */
    this.light = null;
    /** @type {THREE.Data3DTexture | null} */
    this.tint = null;
    /** @type {THREE.Mesh<THREE.PlaneGeometry, THREE.Material>} */
    this.triangle = new THREE.Mesh(new THREE.PlaneGeometry(2, 2));
    this.triangle.frustumCulled = false;
    this.screen = new THREE.Scene();
    this.screen.add(this.triangle);
    this.view = new THREE.Camera();
    const shared = {
      light: { value: null }, depth: { value: null }, unproject: { value: new THREE.Matrix4() },
      low: { value: new THREE.Vector3() }, high: { value: new THREE.Vector3(1, 1, 1) },
    };
    /** @type {THREE.ShaderMaterial & { uniforms: Record<string, THREE.IUniform> }} */
    this.march = new THREE.ShaderMaterial({
      vertexShader, fragmentShader: march, depthTest: false, depthWrite: false,
      uniforms: {
        ...shared, cut: { value: new THREE.Vector4(0, 0, 0, 1) }, dust: { value: null }, eye: { value: new THREE.Vector3() }, most: { value: 0 }, extinction: { value: look.extinction }, cell: { value: 0.1 },
        sun: { value: sun }, sunlight: { value: new THREE.Color(0.62, 0.56, 0.48) }, skylight: { value: new THREE.Color(0.36, 0.38, 0.41) },
        bounce: { value: new THREE.Color(0.16, 0.15, 0.14) }, albedo: { value: new THREE.Color('#c9c0b2') }, tint: { value: null }, tinted: { value: 0 },
      },
    });
    this.join = new THREE.ShaderMaterial({
      vertexShader, fragmentShader: join, depthTest: false, depthWrite: false,
      uniforms: { ...shared, scene: { value: null }, dustImage: { value: null }, texel: { value: new THREE.Vector2() }, shown: { value: 1 }, exposure: { value: 1 }, mark: { value: 0 } },
    });
    this.target = new THREE.WebGLRenderTarget(4, 4, { type: THREE.HalfFloatType, depthBuffer: false });
  }

  /**
   * @param {VolumeFrame} frame density, colour, tint as `blend` has them; light as `shine` has it
   * @param {{ low: number[], cell: number, shape: number[] }} domain
   */
  set({ density, colour, tint, light, meta: { most } }, domain) {
    this.density = volume(this.density, domain.shape, THREE.RedFormat, density);
    this.light = volume(this.light, domain.shape.map(n => Math.ceil(n / 2)), THREE.RGFormat, light);
    const u = this.march.uniforms;
    u.dust.value = this.density;
    u.light.value = this.light;
    u.most.value = most;
    u.tinted.value = tint ? 1 : 0;
    if (tint) u.tint.value = this.tint = volume(this.tint, domain.shape, THREE.RGBAFormat, tint);
    else if (colour) u.albedo.value.set(colour);
    u.cell.value = domain.cell;
    u.low.value.fromArray(domain.low);
    u.high.value.fromArray(domain.low.map((x, i) => x + domain.cell * domain.shape[i]));
  }

  clear() { this.march.uniforms.most.value = 0; }

  dense() { return this.march.uniforms.most.value > 0; }

  /**
   * From the camera to the middle of the domain.
   * @param {THREE.Camera} camera
   */
  distance(camera) {
    const { low, high } = this.march.uniforms;
    return low.value.clone().add(high.value).multiplyScalar(0.5).distanceTo(camera.position);
  }

  dispose() {
    for (const x of [this.density, this.light, this.tint, this.target, this.march, this.join]) x?.dispose();
  }

  /**
   * Lay the dust over a picture onto a target, or the screen where that is null.
   * @param {THREE.WebGLRenderer} renderer
   * @param {THREE.Camera} camera
   * @param {{ texture: THREE.Texture, depthTexture: THREE.Texture | null }} image
   * @param {THREE.Vector2} size
   * @param {THREE.WebGLRenderTarget | null} onto
   * @param {THREE.Vector4} cut plane beyond which nothing is seen
   * @param {{ exposure: number, mark: number }} light of the picture as it is shown
   */
  render(renderer, camera, image, size, onto, cut, light) {
    const u = this.march.uniforms, any = u.most.value > 0;
    this.join.uniforms.shown.value = any ? 1 : 0;
    if (any) {
      const w = Math.ceil(size.x / 2), h = Math.ceil(size.y / 2);
      this.target.setSize(w, h);
      this.join.uniforms.texel.value.set(1 / w, 1 / h);
      u.depth.value = image.depthTexture;
      u.cut.value.copy(cut);
      u.eye.value.setFromMatrixPosition(camera.matrixWorld);
      u.unproject.value.copy(camera.matrixWorld).multiply(camera.projectionMatrixInverse);
      this.triangle.material = this.march;
      renderer.setRenderTarget(this.target);
      renderer.render(this.screen, this.view);
    }
    this.join.uniforms.scene.value = image.texture;
    this.join.uniforms.dustImage.value = this.target.texture;
    this.again(renderer, onto, light);
  }

  /**
   * The last picture once more, in another light.
   * @param {THREE.WebGLRenderer} renderer
   * @param {THREE.WebGLRenderTarget | null} onto
   * @param {{ exposure: number, mark: number }} light
   */
  again(renderer, onto, { exposure, mark }) {
    Object.assign(this.join.uniforms.exposure, { value: exposure });
    Object.assign(this.join.uniforms.mark, { value: mark });
    this.triangle.material = this.join;
    renderer.setRenderTarget(onto);
    renderer.render(this.screen, this.view);
  }
}
