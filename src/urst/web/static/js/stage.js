// The stage: the set, fragments, debris, water and dust in one view.
import * as THREE from '../vendor/three.js';
import { outlined } from './bodies.js';
import { Composite } from './composite.js';
import { Eye } from './eye.js';
import { ofResult, ofSet } from './fragments.js';
import { clearOf, figure, grid } from './furniture.js';
import { Insight } from './insight.js';
import { paint } from './paint.js';
import { byId } from './page.js';
import { Swarm } from './points.js';
import { Probe } from './probe.js';
import { Slice } from './slice.js';

/** @import { Bodies } from './bodies.js' */
/** @import { Loader } from './loader.js' */
/** @import { Arrays, Box, Layer, Meta, PieceMeta, Scenery, Triple } from './types' */

export const SUN = new THREE.Vector3(-0.55, -0.8, 1.3).normalize();
const HAZE = [40, 160], CLEAR = [1e8, 2e8];
// Where the scale of speeds ends while nothing is known [m/s].
const TOP_SPEED = 12;
// How far bodies go in the exploded view, in their ways from the middle, and where those are put that are not seen [m].
const APART = 1.6, OUT_OF_SIGHT = 1e6;

/**
 * The box round the pieces that a test picks.
 * @param {PieceMeta[]} pieces
 * @param {(p: PieceMeta) => boolean} picked
 * @returns {Box}
 */
function extent(pieces, picked) {
  const boxes = pieces.filter(picked).flatMap(p => (p.box ? [p.box] : []));
  if (!boxes.length) return { low: [-1, -1, 0], high: [1, 1, 1] };
  return { low: axes(i => Math.min(...boxes.map(b => b.low[i]))), high: axes(i => Math.max(...boxes.map(b => b.high[i]))) };
}

/** @param {(axis: number) => number} of */
const axes = of => /** @type {Triple} */ ([of(0), of(1), of(2)]);

export class Stage {
  /**
   * @param {HTMLElement} element
   * @param {string} shotId
   * @param {Loader} loader
   */
  constructor(element, shotId, loader) {
    this.element = element;
    this.shotId = shotId;
    this.loader = loader;
    this.mode = 'material';
    /** @type {Record<string, boolean>} */
    this.shown = { fragments: true, points: true, dust: true, domain: false, grid: true, figure: true, outlines: false, shapes: false, contacts: false, trails: false, picture: true };
    this.explode = 0;
    this.topSpeed = TOP_SPEED;
    /** what is known of the set @type {Meta} */
    this.meta = /** @type {any} */ (null);
    /** bodies of results by their keys @type {Map<string, Promise<Bodies>>} */
    this.statics = new Map();
    /** the set's shapes and paths as they came last, by what they are @type {Map<string, { key: string, arrays: Arrays }>} */
    this.kept = new Map();
    /** @type {Bodies | null} */
    this.set = null;
    /** @type {Arrays | null} */
    this.drawnSet = null;
    /** @type {{ pieces: number[], path: Float32Array, start: number } | null} */
    this.driven = null;
    /** what is on the stage @type {Bodies[]} */
    this.live = [];
    /** where pieces stand, by number @type {Map<number, Box>} */
    this.boxes = new Map();
    this.bounds = this.loose = extent([], () => false);
    /** the piece that is being moved, where the hand has it @type {{ piece: number, offset: number[] } | null} */
    this.nudge = null;
    /** plane (normal, distance) beyond which nothing is seen */
    this.cut = new THREE.Vector4(0, 0, 0, 1);
    /** @type {Scenery['wet']} */
    this.wet = null;
    /** @type {(() => void)[]} */
    this.afterwards = [];
    this.placed = false;
    this.pending = false;
    this.settled = Promise.resolve();
    this.renderer = new THREE.WebGLRenderer({ antialias: false, preserveDrawingBuffer: true });
    this.renderer.setPixelRatio(Math.min(2, devicePixelRatio));
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.type = THREE.PCFShadowMap;
    const canvas = this.renderer.domElement;
    element.prepend(canvas);
    canvas.tabIndex = 0;
    canvas.setAttribute('aria-label', 'View of the shot; drag to orbit, shift-drag to pan, wheel to come nearer');
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color('#8b8884');
    this.haze = this.scene.fog = new THREE.Fog('#8b8884', ...HAZE);
    this.eye = new Eye(element, canvas, () => this.draw());
    this.composite = new Composite(this.renderer, SUN);
    this.sun = this.lights();
    /** @type {Map<string, Swarm>} */
    this.swarms = new Map();
    this.pointScale = { value: 500 };
    this.grid = grid();
    this.figure = figure();
    this.domain = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: '#5d7695' }));
    this.scene.add(this.grid, this.figure, this.domain);
    this.insight = new Insight(this);
    this.slice = new Slice(this);
    new ResizeObserver(() => this.resize()).observe(element);
    this.resize();
    this.probe = new Probe(this, byId('probe'));
    canvas.addEventListener('dblclick', event => {
      const hit = this.hit(event);
      if (hit) this.eye.frameOn(hit);
    });
  }

  lights() {
    this.scene.add(new THREE.HemisphereLight('#dbe1e8', '#857b6d', 2.3));
    const sun = new THREE.DirectionalLight('#fff1dc', 3.4);
    sun.castShadow = true;
    sun.shadow.mapSize.set(2048, 2048);
    sun.shadow.bias = -0.0006;
    sun.shadow.normalBias = 0.02;
    this.scene.add(sun, sun.target);
    return sun;
  }

  // The set.

  /**
   * What the set is made of; called again whenever the document changes.
   * @param {Meta} meta
   */
  async load(meta) {
    this.meta = meta;
    const [set, paths] = await Promise.all([this.ofSet('set', meta.set), this.ofSet('paths', meta.paths)]);
    const moves = (/** @type {PieceMeta} */ p) => p.motion !== 'fixed', any = meta.pieces.some(moves);
    this.bounds = extent(meta.pieces, p => (any ? moves(p) : !p.endless));
    this.loose = meta.pieces.some(p => p.motion === 'loose') ? extent(meta.pieces, p => p.motion === 'loose') : this.bounds;
    this.boxes = new Map(meta.pieces.flatMap((p, i) => (p.box ? [[i, p.box]] : [])));
    this.nudge = null;
    this.forget();
    if (!this.set || this.drawnSet !== set) {
      this.set?.dispose();
      this.set = ofSet(set, piece => this.look(piece));
      this.drawnSet = set;
    }
    this.standSet(this.set);
    this.driven = paths.driven ? { pieces: Array.from(paths.driven), path: paths.path, start: meta.start } : null;
    this.aim();
    this.eye.shape = meta.picture.width / meta.picture.height;
    this.resize();
    const { low } = this.loose, left = Math.max(low[0] + 0.4, -4.5), front = Math.max(Math.min(low[1], 0) - 0.2, -3.2);
    this.figure.position.set(left, clearOf([...this.boxes.values()], left, front), 0);
    if (!this.placed) this.seeThroughCamera();
    this.placed = true;
    this.element.dataset.set = meta.set;
  }

  /**
   * What was asked for last of the set's shapes or paths, while its key is the same.
   * @param {string} what
   * @param {string} key
   */
  async ofSet(what, key) {
    const kept = this.kept.get(what);
    if (kept?.key === key) return kept.arrays;
    const arrays = await this.static(`/shots/${this.shotId}/${what}?of=${key}`);
    this.kept.set(what, { key, arrays });
    return arrays;
  }

  /**
   * Put the shapes where their pieces stand at the first frame, and call and colour them as they are now.
   * @param {Bodies} set
   */
  standSet(set) {
    const q = new THREE.Quaternion(), c = new THREE.Vector3();
    set.turns = new Float32Array(set.count * 4);
    set.painted = '';
    set.info.forEach((x, b) => {
      Object.assign(x, this.look(x.piece));
      const [px, py, pz, w, i, j, k] = this.meta.pieces[x.piece]?.stance || [0, 0, 0, 1, 0, 0, 0];
      c.fromArray(x.local || [0, 0, 0]).applyQuaternion(q.set(i, j, k, w));
      x.centre = [c.x + px, c.y + py, c.z + pz];
      set.rest.set(x.centre, 3 * b);
      set.turns.set([w, i, j, k], 4 * b);
    });
    set.pose(set.rest, set.turns, null);
  }

  /**
   * How a piece is drawn and called; one that has left the document since is still shown.
   * @param {number} piece
   */
  look(piece) {
    const { name, colour, motion, jointed } = this.meta.pieces[piece] || { name: 'gone', colour: '#888888', motion: 'loose', jointed: false };
    return { name, colour, motion, jointed, piece };
  }

  /**
   * Whether a piece is seen at a frame.
   * @param {number} piece
   * @param {number} frame
   */
  seen(piece, frame) {
    const p = this.meta.pieces[piece];
    return !p || (p.seen && (p.since === null || frame >= p.since) && (p.until === null || frame <= p.until));
  }

  /** The sun's shadow covers the set. */
  aim() {
    const { low, high } = this.bounds, middle = axes(i => (low[i] + high[i]) / 2), size = Math.max(...high.map((x, i) => x - low[i]));
    this.sun.target.position.set(...middle);
    this.sun.position.set(...middle).addScaledVector(SUN, 1.6 * size);
    const frustum = this.sun.shadow.camera, half = 0.95 * size;
    Object.assign(frustum, { left: -half, right: half, top: half, bottom: -half, near: 0.1, far: 5 * size });
    frustum.updateProjectionMatrix();
  }

  // Results.

  /** @param {string} url */
  static(url) { return /** @type {Promise<Arrays>} */ (this.loader.ask({ kind: 'static', url }).promise); }

  /** What is drawn of layers that are gone takes no room on the graphics card. */
  forget() {
    for (const [id, drawn] of this.swarms) if (!(id in this.meta.matter)) { drawn.dispose(); this.swarms.delete(id); }
    this.composite.forget(this.meta);
  }

  /** Results are made anew when the document changes: names and colours may be others. */
  clear() {
    for (const work of this.statics.values()) work.then(bodies => bodies.dispose(), () => {});
    this.statics.clear();
  }

  /**
   * Fragments of a layer's result, made once for each key.
   * @param {Layer} layer
   */
  fragments({ id, key }) {
    const known = this.statics.get(key);
    if (known) return known;
    const work = this.static(`/data/${key}/static`).then(s => ofResult(s, this.meta.casts[id] || [], piece => this.look(piece)));
    this.statics.set(key, work);
    // what did not come is asked for again the next time
    work.catch(() => this.statics.delete(key));
    return work;
  }

  /**
   * Show what is known at a frame: posed and still bodies of layers, else the set; points and volumes of layers.
   * @param {Scenery} scenery
   */
  show(scenery) {
    this.settled = this.put(scenery);
    return this.settled;
  }

  /** @param {Scenery} scenery */
  async put({ at, posed, still, points, volumes, surfaces, domains, wet, sliced }) {
    this.wet = wet;
    const plane = this.plane();
    const told = wet && sliced && plane ? this.slice.show({ ...wet, of: sliced, ...plane }) : this.slice.clear();
    const layers = [...posed, ...still.map(layer => ({ layer, frame: null, past: [] }))];
    const found = await Promise.all(layers.map(({ layer }) => this.fragments(layer)));
    const carried = new Set(found.flatMap(b => b.pieces)), { set } = this;
    const want = set && set.pieces.some(p => !carried.has(p)) ? [...found, set] : found;
    this.stand(want);
    found.forEach((bodies, n) => {
      const { frame } = layers[n];
      bodies.frame = frame;
      const shift = this.explode ? bodies.outward.map(x => x * this.explode * APART) : this.nudged(bodies);
      bodies.pose(this.away(bodies, at, frame?.position || bodies.rest), frame?.orientation || null, shift);
      paint(bodies, frame, this.mode, this.topSpeed);
    });
    if (set && want.includes(set)) {
      set.frame = null;
      const { position, orientation } = this.onPaths(set, at);
      set.pose(this.away(set, at, position, carried), orientation, this.nudged(set));
      paint(set, null, this.mode, this.topSpeed);
    }
    this.showPoints(this.shown.points ? points : []);
    this.composite.showVolumes(this.shown.dust ? volumes : [], this.meta.look);
    this.composite.showSurfaces(surfaces, this.meta.matter);
    this.showDomains(this.shown.domain ? domains : []);
    this.insight.show(found, layers.map(x => x.frame), layers.map(x => x.past));
    await told;
    this.draw();
  }

  /**
   * Have these bodies on the stage and no others.
   * @param {Bodies[]} want
   */
  stand(want) {
    for (const old of this.live) if (!want.includes(old)) this.scene.remove(old.mesh);
    for (const b of want) {
      this.scene.add(b.mesh);
      b.mesh.visible = this.shown.fragments;
      b.outline(this.shown.outlines);
    }
    outlined.value = this.shown.outlines ? 1 : 0;
    this.live = want;
  }

  /** @param {Bodies} bodies */
  nudged(bodies) {
    const { nudge } = this;
    if (!nudge) return null;
    const shift = new Float32Array(bodies.count * 3);
    bodies.info.forEach((x, b) => { if (x.piece === nudge.piece) shift.set(nudge.offset, 3 * b); });
    return shift;
  }

  /**
   * Where the bodies of the set are at a frame: driven ones on their paths.
   * @param {Bodies} set
   * @param {number} at
   */
  onPaths({ rest, turns, info }, at) {
    if (!this.driven) return { position: rest, orientation: turns };
    const { pieces, path, start } = this.driven, d = pieces.length, n = path.length / (7 * d);
    const position = rest.slice(), orientation = turns.slice(), row = Math.min(n - 1, Math.max(0, at - start)) * d * 7;
    const q = new THREE.Quaternion(), own = new THREE.Quaternion(), c = new THREE.Vector3();
    info.forEach((x, b) => {
      const i = pieces.indexOf(x.piece), o = row + 7 * i;
      if (i < 0) return;
      q.set(path[o + 4], path[o + 5], path[o + 6], path[o + 3]);
      c.fromArray(rest, 3 * b).applyQuaternion(q);
      position.set([c.x + path[o], c.y + path[o + 1], c.z + path[o + 2]], 3 * b);
      own.set(turns[4 * b + 1], turns[4 * b + 2], turns[4 * b + 3], turns[4 * b]).premultiply(q);
      orientation.set([own.w, own.x, own.y, own.z], 4 * b);
    });
    return { position, orientation };
  }

  /**
   * Positions with those that are not to be seen put out of sight.
   * @param {Bodies} bodies
   * @param {number} at
   * @param {Float32Array} position
   * @param {Set<number>} [carried]
   */
  away(bodies, at, position, carried) {
    const hidden = new Set(bodies.pieces.filter(p => !this.seen(p, at) || carried?.has(p)));
    if (!hidden.size) return position;
    const out = position.slice();
    bodies.info.forEach((x, b) => { if (hidden.has(x.piece)) out.fill(OUT_OF_SIGHT, 3 * b, 3 * b + 3); });
    return out;
  }

  /** @param {Scenery['points']} points */
  showPoints(points) {
    for (const [id, swarm] of this.swarms) if (!points.some(p => p.layer.id === id)) swarm.points.visible = false;
    const { matter, sorts, look: { chip } } = this.meta;
    for (const { layer: { id }, arrays } of points) {
      const swarm = this.swarm(id);
      swarm.colour.set(matter[id].colour).multiplyScalar(chip);
      (sorts[id] || []).forEach(([, colour], n) => swarm.sorts[n].set(colour).multiplyScalar(chip));
      swarm.show(arrays, this.mode === 'speed' ? (arrays.meta.fastest || 0) / this.topSpeed : 0);
    }
  }

  /**
   * Points of one layer.
   * @param {string} id
   */
  swarm(id) {
    const known = this.swarms.get(id);
    if (known) return known;
    const made = new Swarm(this.pointScale);
    this.swarms.set(id, made);
    this.scene.add(made.points);
    return made;
  }

  /** @param {Scenery['domains']} domains */
  showDomains(domains) {
    this.domain.visible = domains.length > 0;
    if (!this.domain.visible) return;
    const lines = domains.flatMap(({ low, cell, shape }) => {
      const high = low.map((x, i) => x + cell * shape[i]);
      const c = [...Array(8)].map((_, i) => [i & 1 ? high[0] : low[0], i & 2 ? high[1] : low[1], i & 4 ? high[2] : low[2]]);
      return [0, 1, 2, 3, 4, 5, 6, 7, 0, 2, 1, 3, 4, 6, 5, 7, 0, 4, 1, 5, 2, 6, 3, 7].flatMap(i => c[i]);
    });
    this.domain.geometry.dispose();
    this.domain.geometry = new THREE.BufferGeometry();
    this.domain.geometry.setAttribute('position', new THREE.Float32BufferAttribute(lines, 3));
  }

  // Cuts and views.

  /** Where it is cut, null if it is not. */
  plane() {
    const { x, y, z, w } = this.cut, across = [x, y, z].findIndex(v => v !== 0), side = [x, y, z][across];
    return across < 0 ? null : { axis: 'xyz'[across], at: -w * side, side };
  }

  /**
   * Cut away what lies beyond a plane across an axis, at a share of what there is; no axis shows all.
   * @param {string} axis
   * @param {number} share
   */
  cutAt(axis, share) {
    const { low, high } = this.reach(), i = axis ? 'xyz'.indexOf(axis) : -1;
    if (i < 0) {
      this.cut.set(0, 0, 0, 1);
      this.renderer.clippingPlanes = [];
    } else {
      // what stands between the eye and the plane goes
      const at = low[i] + (high[i] - low[i]) * (1.02 * share - 0.01), side = this.eye.camera.position.getComponent(i) > at ? -1 : 1;
      const normal = new THREE.Vector3().setComponent(i, side);
      this.cut.set(normal.x, normal.y, normal.z, -side * at);
      this.renderer.clippingPlanes = [new THREE.Plane(normal, -side * at)];
    }
    this.draw();
  }

  /** The box of the set and of what is shown on planes across it. */
  reach() {
    const boxes = Object.keys(this.meta.sliced).map(id => this.meta.domains[id]).filter(Boolean);
    const ends = boxes.map(({ low, cell, shape }) => low.map((x, i) => x + cell * shape[i])), { low, high } = this.bounds;
    return { low: low.map((x, i) => Math.min(x, ...boxes.map(b => b.low[i]))), high: high.map((x, i) => Math.max(x, ...ends.map(e => e[i]))) };
  }

  /** @param {string} view */
  seeFrom(view) {
    this.eye.seeFrom(view, this.loose);
    const [near, far] = this.eye.isStraight ? CLEAR : HAZE;
    Object.assign(this.haze, { near, far });
    this.resize();
  }

  seeThroughCamera() {
    this.eye.seeThrough(this.meta.camera);
    this.resize();
  }

  /**
   * The place under the pointer: on a body, else on the ground.
   * @param {MouseEvent} event
   */
  pointAt(event) { return this.hit(event)?.point || this.eye.groundAt(event); }

  /**
   * What is under the pointer, the nearest.
   * @param {MouseEvent} event
   */
  hit(event) {
    if (!this.shown.fragments) return null;
    const { origin, direction } = this.eye.ray(event);
    const hits = this.live.flatMap(bodies => {
      const hit = bodies.pick(origin, direction, this.cut);
      return hit ? [{ bodies, ...hit, point: origin.clone().addScaledVector(direction, hit.distance) }] : [];
    });
    return hits.sort((a, b) => a.distance - b.distance)[0] || null;
  }

  // Drawing.

  resize() {
    const { clientWidth: w, clientHeight: h } = this.element;
    if (!w || !h) return;
    this.renderer.setSize(w, h, false);
    const size = this.renderer.getDrawingBufferSize(new THREE.Vector2());
    this.composite.resize(size);
    this.eye.resize();
    this.pointScale.value = this.eye.pixels(size.y);
    this.draw();
  }

  /** @param {() => void} listener called after each picture */
  after(listener) { this.afterwards.push(listener); }

  draw() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.eye.focus();
      this.grid.visible = this.shown.grid && !(this.meta?.sea && this.composite.water.any());
      this.figure.visible = this.shown.figure;
      this.composite.render(this.scene, this.eye.camera, this.cut);
      for (const listener of this.afterwards) listener();
      this.element.dataset.drawn = String(Number(this.element.dataset.drawn || 0) + 1);
    });
  }
}
