// The picture put together: what is solid, then water, then dust one cloud after another, onto the screen.
import * as THREE from '../vendor/three.js';
import { Dust } from './dust.js';
import { Surface, Water } from './surface.js';

/** @import { Look, Meta, Scenery } from './types' */

export class Composite {
  /**
   * @param {THREE.WebGLRenderer} renderer
   * @param {THREE.Vector3} sun unit vector towards it
   */
  constructor(renderer, sun) {
    this.renderer = renderer;
    this.sun = sun;
    this.image = new THREE.WebGLRenderTarget(4, 4, { samples: 4, type: THREE.HalfFloatType });
    this.image.depthTexture = new THREE.DepthTexture(4, 4, THREE.UnsignedIntType);
    this.between = [0, 1].map(() => new THREE.WebGLRenderTarget(4, 4, { type: THREE.HalfFloatType, depthBuffer: false }));
    /** dust of layers, by id @type {Map<string, Dust>} */
    this.clouds = new Map();
    /** @type {Map<string, Surface>} */
    this.surfaces = new Map();
    this.water = new Water(sun);
    /** stops and marks of the picture that is shown */
    this.light = { exposure: 1, mark: 0 };
    /** the cloud that was laid over last @type {Dust | null} */
    this.last = null;
    /** @type {Dust | null} */
    this.noDust = null;
    this.gauge = new THREE.WebGLRenderTarget(96, 60);
  }

  /** @param {THREE.Vector2} size */
  resize(size) { for (const target of [this.image, ...this.between]) target.setSize(size.x, size.y); }

  /**
   * What is drawn of layers that are gone takes no room on the graphics card.
   * @param {Meta} meta
   */
  forget(meta) {
    for (const map of [this.clouds, this.surfaces]) for (const [id, drawn] of map) if (!(id in meta.matter)) { drawn.dispose(); map.delete(id); }
  }

  /**
   * @param {Scenery['volumes']} volumes
   * @param {Look} look
   */
  showVolumes(volumes, look) {
    for (const cloud of this.clouds.values()) cloud.clear();
    for (const { layer, arrays, domain } of volumes) {
      if (!(arrays.meta.most > 0)) continue;
      const cloud = this.clouds.get(layer.id) || new Dust(this.sun, look);
      this.clouds.set(layer.id, cloud);
      cloud.set(arrays, { low: domain.low, cell: domain.cell * arrays.meta.across, shape: arrays.meta.shape });
    }
  }

  /**
   * @param {Scenery['surfaces']} surfaces
   * @param {Meta['matter']} matter
   */
  showSurfaces(surfaces, matter) {
    for (const [id, surface] of this.surfaces) if (!surfaces.some(x => x.layer.id === id)) surface.mesh.visible = false;
    for (const { layer, arrays } of surfaces) {
      const surface = this.surfaces.get(layer.id) || new Surface(this.water.shared);
      this.surfaces.set(layer.id, surface);
      this.water.scene.add(surface.mesh);
      surface.mesh.visible = true;
      surface.tint(matter[layer.id]);
      surface.show(arrays);
    }
  }

  /**
   * @param {THREE.Scene} scene
   * @param {THREE.PerspectiveCamera} camera
   * @param {THREE.Vector4} cut plane beyond which nothing is seen
   */
  render(scene, camera, cut) {
    const { renderer } = this, size = renderer.getDrawingBufferSize(new THREE.Vector2());
    renderer.setRenderTarget(this.image);
    renderer.render(scene, camera);
    // the farthest first
    const clouds = [...this.clouds.values()].filter(c => c.dense()).sort((a, b) => b.distance(camera) - a.distance(camera));
    if (!clouds.length) clouds.push(this.noDust ??= new Dust(this.sun, { extinction: 1, dimming: 1, chip: 1 }));
    this.last = clouds[clouds.length - 1];
    const wet = this.water.render(renderer, camera, this.image, size);
    let from = wet;
    clouds.forEach((cloud, n) => {
      const onto = n === clouds.length - 1 ? null : this.between[n % 2];
      cloud.render(renderer, camera, { texture: from.texture, depthTexture: wet.depthTexture }, size, onto, cut, onto ? { exposure: 1, mark: 0 } : this.light);
      if (onto) from = onto;
    });
  }

  /** The share of the picture's pixels that are brighter than can be shown. */
  clipped() {
    if (!this.last) return 0;
    const { width, height } = this.gauge, pixels = new Uint8Array(width * height * 4);
    this.last.again(this.renderer, this.gauge, { exposure: this.light.exposure, mark: 2 });
    this.renderer.readRenderTargetPixels(this.gauge, 0, 0, width, height, pixels);
    let n = 0;
    for (let i = 0; i < pixels.length; i += 4) n += pixels[i] > 127 ? 1 : 0;
    return n / (width * height);
  }
}
