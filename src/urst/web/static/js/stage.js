// The stage: the set, fragments, debris and dust in one view.
import * as THREE from '../vendor/three.js';
import { Bodies, outlined, ramp } from './bodies.js';
import { Dust } from './dust.js';
import { figure, grid } from './furniture.js';
import { Swarm } from './points.js';
import { Insight } from './insight.js';
import { Probe } from './probe.js';
import { Slice } from './slice.js';
import { Surface, Water } from './surface.js';

const UP = new THREE.Vector3(0, 0, 1);
export const SUN = new THREE.Vector3(-0.55, -0.8, 1.3).normalize();
// Straight views are seen through so long a lens, from so far, that ten metres of depth change a size by about two thousandths.
const HAZE = [40, 160], STRAIGHT = 0.1, DEPTH = 600;
const WAYS = { front: [0, -1, 0], side: [1, 0, 0], top: [0, -1e-4, 1] };

// The box round the pieces that a test picks.
function extent(pieces, picked) {
  const boxes = pieces.filter(p => p.box && picked(p)).map(p => p.box);
  if (!boxes.length) return { low: [-1, -1, 0], high: [1, 1, 1] };
  return { low: [0, 1, 2].map(i => Math.min(...boxes.map(b => b.low[i]))), high: [0, 1, 2].map(i => Math.max(...boxes.map(b => b.high[i]))) };
}

export class Stage {
  constructor(element, shotId, loader) {
    Object.assign(this, { element, shotId, loader });
    this.mode = 'material';
    this.shown = { fragments: true, points: true, dust: true, domain: false, grid: true, figure: true, outlines: false, shapes: false, contacts: false, trails: false, picture: true };
    this.explode = 0;
    this.statics = new Map();
    this.renderer = new THREE.WebGLRenderer({ antialias: false, preserveDrawingBuffer: true });
    this.renderer.setPixelRatio(Math.min(2, devicePixelRatio));
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.type = THREE.PCFShadowMap;
    element.prepend(this.renderer.domElement);
    this.renderer.domElement.tabIndex = 0;
    this.renderer.domElement.setAttribute('aria-label', 'View of the shot; drag to orbit, shift-drag to pan, wheel to come nearer');
    this.scene = new THREE.Scene();
    this.scene.background = new THREE.Color('#8b8884');
    this.scene.fog = new THREE.Fog('#8b8884', ...HAZE);
    this.camera = new THREE.PerspectiveCamera(50, 1, 0.05, 2000);
    this.camera.up.copy(UP);
    this.controls = new THREE.OrbitControls(this.camera, this.renderer.domElement);
    this.controls.addEventListener('change', () => this.draw());
    this.lights();
    this.image = new THREE.WebGLRenderTarget(4, 4, { samples: 4, type: THREE.HalfFloatType });
    this.image.depthTexture = new THREE.DepthTexture(4, 4, THREE.UnsignedIntType);
    this.between = [0, 1].map(() => new THREE.WebGLRenderTarget(4, 4, { type: THREE.HalfFloatType, depthBuffer: false }));
    this.clouds = new Map();
    this.swarms = new Map();
    this.surfaces = new Map();
    this.water = new Water(SUN);
    this.pointScale = { value: 500 };
    this.nudge = null;
    this.cut = new THREE.Vector4(0, 0, 0, 1);
    this.light = { exposure: 1, mark: 0 };
    this.afterwards = [];
    this.grid = grid();
    this.scene.add(this.grid);
    this.figure = figure();
    this.scene.add(this.figure);
    this.domain = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: '#5d7695' }));
    this.scene.add(this.domain);
    this.insight = new Insight(this);
    this.slice = new Slice(this);
    this.wet = null;
    new ResizeObserver(() => this.resize()).observe(element);
    this.resize();
    this.probe = new Probe(this, document.getElementById('probe'));
    this.renderer.domElement.addEventListener('dblclick', event => {
      const hit = this.hit(event);
      if (hit) this.frameOn(hit);
    });
  }

  lights() {
    this.scene.add(new THREE.HemisphereLight('#dbe1e8', '#857b6d', 2.3));
    this.sun = new THREE.DirectionalLight('#fff1dc', 3.4);
    this.sun.castShadow = true;
    this.sun.shadow.mapSize.set(2048, 2048);
    this.sun.shadow.bias = -0.0006;
    this.sun.shadow.normalBias = 0.02;
    this.scene.add(this.sun, this.sun.target);
  }

  // Points of one layer.
  swarm(id) {
    if (!this.swarms.has(id)) {
      this.swarms.set(id, new Swarm(this.pointScale));
      this.scene.add(this.swarms.get(id).points);
    }
    return this.swarms.get(id);
  }

  // Dust of one layer.
  cloud(id) {
    if (!this.clouds.has(id)) this.clouds.set(id, new Dust(SUN, this.meta.look));
    return this.clouds.get(id);
  }

  // What the set is made of; called again whenever the document changes.
  async load(meta) {
    this.meta = meta;
    const [set, paths] = await Promise.all([this.kept('set', meta.set), this.kept('paths', meta.paths)]);
    const moves = p => p.motion !== 'fixed', any = meta.pieces.some(moves);
    this.bounds = extent(meta.pieces, p => (any ? moves(p) : !p.endless));
    this.loose = meta.pieces.some(p => p.motion === 'loose') ? extent(meta.pieces, p => p.motion === 'loose') : this.bounds;
    const { low } = this.loose;
    this.boxes = new Map(meta.pieces.map((p, i) => [i, p.box]).filter(([, box]) => box));
    this.nudge = null;
    this.forget();
    if (this.drawnSet !== set) {
      this.set?.dispose();
      this.set = this.makeSet(set);
      this.drawnSet = set;
    }
    this.standSet();
    this.driven = paths.driven ? { pieces: Array.from(paths.driven), path: paths.path, start: meta.start } : null;
    this.aim();
    this.resize();
    const front = Math.min(low[1], 0) - 0.2;
    this.figure.position.set(Math.max(low[0] + 0.4, -4.5), Math.max(front, -3.2), 0);
    if (!this.placed) this.seeThroughCamera();
    this.placed = true;
    this.element.dataset.set = meta.set;
  }

  // What was asked for last of the set's shapes or paths, while its key is the same.
  async kept(what, key) {
    const name = `${what}Kept`;
    if (this[name]?.key !== key) this[name] = { key, arrays: await this.static(`/shots/${this.shotId}/${what}?of=${key}`) };
    return this[name].arrays;
  }

  makeSet(set) {
    const parts = new Map();
    const info = Array.from(set.piece, (piece, n) => {
      const part = parts.get(piece) || 0, b = 3 * n;
      parts.set(piece, part + 1);
      return { piece, part, shade: set.shade[n], local: [set.centre[b], set.centre[b + 1], set.centre[b + 2]], centre: [0, 0, 0] };
    });
    for (const x of info) x.parts = parts.get(x.piece);
    return this.makeBodies({ ...set, info });
  }

  // Put the shapes where their pieces stand at the first frame, and call and colour them as they are now.
  standSet() {
    const { set } = this, q = new THREE.Quaternion(), c = new THREE.Vector3();
    set.turns = new Float32Array(set.count * 4);
    set.painted = null;
    set.info.forEach((x, b) => {
      Object.assign(x, this.look(x.piece));
      const [px, py, pz, w, i, j, k] = this.meta.pieces[x.piece]?.stance || [0, 0, 0, 1, 0, 0, 0];
      c.fromArray(x.local).applyQuaternion(q.set(i, j, k, w));
      x.centre = [c.x + px, c.y + py, c.z + pz];
      set.rest.set(x.centre, 3 * b);
      set.turns.set([w, i, j, k], 4 * b);
    });
    set.pose(set.rest, set.turns, null);
  }

  // What is drawn of layers that are gone takes no room on the graphics card.
  forget() {
    for (const map of [this.swarms, this.clouds, this.surfaces]) {
      for (const [id, drawn] of map) if (!(id in this.meta.matter)) { drawn.dispose(); map.delete(id); }
    }
  }

  // Results are made anew when the document changes: names and colours may be others.
  clear() {
    for (const work of this.statics.values()) work.then(bodies => bodies.dispose(), () => {});
    this.statics.clear();
  }

  // How a piece is drawn and called; one that has left the document since is still shown.
  look(piece) {
    const { name, colour, motion, jointed } = this.meta.pieces[piece] || { name: 'gone', colour: '#888888', motion: 'loose', jointed: false };
    return { name, colour, motion, jointed, piece };
  }

  // Whether a piece is seen at a frame.
  seen(piece, frame) {
    const p = this.meta.pieces[piece];
    return !p || (p.seen && (p.since === null || frame >= p.since) && (p.until === null || frame <= p.until));
  }

  aim() {
    const { low, high } = this.bounds;
    const middle = low.map((x, i) => (x + high[i]) / 2), size = Math.max(...high.map((x, i) => x - low[i]));
    this.sun.target.position.set(...middle);
    this.sun.position.set(...middle).addScaledVector(SUN, 1.6 * size);
    const frustum = this.sun.shadow.camera, half = 0.95 * size;
    Object.assign(frustum, { left: -half, right: half, top: half, bottom: -half, near: 0.1, far: 5 * size });
    frustum.updateProjectionMatrix();
  }

  makeBodies(parts) {
    const bodies = new Bodies(parts);
    bodies.rest = new Float32Array(parts.info.flatMap(x => x.centre));
    bodies.pose(bodies.rest, null, null);
    return bodies;
  }

  static(url) { return this.loader.ask({ kind: 'static', url }).promise; }

  // Fragments of a layer's result, made once for each key.
  async fragments({ id, key }) {
    if (this.statics.has(key)) return this.statics.get(key);
    const cast = this.meta.casts[id] || [];
    const work = this.static(`/data/${key}/static`).then(s => {
      const count = s.piece.length, perPiece = new Map(), solids = new Map();
      const info = Array.from({ length: count }, (_, b) => {
        const p = cast[s.piece[b]] ?? -1, whole = s.whole?.[b] ?? -1, solid = solids.get(whole);
        const number = solid ? solid.number : (perPiece.get(p) || 0) + 1;
        perPiece.set(p, Math.max(number, perPiece.get(p) || 0));
        const x = { ...this.look(p), number, part: s.part[b], shade: s.shade[b], mass: s.mass?.[b], volume: s.volume[b],
          centre: [s.centre[3 * b], s.centre[3 * b + 1], s.centre[3 * b + 2]] };
        if (whole >= 0) solids.set(whole, [...(solid || []), x]).get(whole).number = number;
        return x;
      });
      // convex parts of one solid are shown, coloured and told of as one
      for (const parts of solids.values()) {
        const volume = parts.reduce((sum, x) => sum + x.volume, 0), mass = parts.reduce((sum, x) => sum + x.mass, 0);
        const centre = [0, 1, 2].map(i => parts.reduce((sum, x) => sum + x.centre[i] * x.volume, 0) / volume);
        for (const x of parts) Object.assign(x, { centre, volume, mass: x.mass === undefined ? undefined : mass });
      }
      const bodies = this.makeBodies({ ...s, info });
      bodies.pair = s.bond_pair;
      bodies.hull = s.hull_line && { line: s.hull_line, body: s.hull_body };
      bodies.bonds = new Int32Array(count);
      if (s.bond_pair) for (const b of s.bond_pair) bodies.bonds[b] += 1;
      const sums = new Map();
      for (const x of info) {
        const sum = sums.get(x.piece) || [0, 0, 0, 0];
        x.centre.forEach((c, i) => { sum[i] += c; });
        sum[3] += 1;
        sums.set(x.piece, sum);
      }
      bodies.outward = new Float32Array(count * 3);
      info.forEach((x, b) => {
        const sum = sums.get(x.piece);
        x.parts = perPiece.get(x.piece);
        if (sum[3] > 1) x.centre.forEach((c, i) => { bodies.outward[3 * b + i] = c - sum[i] / sum[3]; });
      });
      return bodies;
    });
    this.statics.set(key, work);
    // what did not come is asked for again the next time
    work.catch(() => this.statics.delete(key));
    return work;
  }

  // Show what is known at a frame: posed and still bodies of layers, else the set; points and volumes of layers.
  show(what) {
    this.settled = this.put(what);
    return this.settled;
  }

  async put({ at, posed, still, points, volumes, surfaces, domains, wet, sliced }) {
    this.wet = wet;
    const plane = this.plane();
    const told = wet && sliced && plane ? this.slice.show({ ...wet, of: sliced, ...plane }) : this.slice.clear();
    const layers = [...posed, ...still.map(layer => ({ layer, frame: null }))];
    const found = await Promise.all(layers.map(({ layer }) => this.fragments(layer)));
    const carried = new Set(found.flatMap(b => b.pieces));
    const want = [...found];
    if (this.set && this.set.pieces.some(p => !carried.has(p))) want.push(this.set);
    for (const old of this.live || []) if (!want.includes(old)) this.scene.remove(old.mesh);
    for (const b of want) {
      this.scene.add(b.mesh);
      b.mesh.visible = this.shown.fragments;
      b.outline(this.shown.outlines);
    }
    outlined.value = this.shown.outlines ? 1 : 0;
    this.live = want;
    found.forEach((bodies, n) => {
      const { frame } = layers[n];
      bodies.frame = frame;
      const shift = this.explode ? bodies.outward.map(x => x * this.explode * 1.6) : this.nudged(bodies);
      bodies.pose(this.away(bodies, at, frame?.position || bodies.rest), frame?.orientation, shift);
      this.paint(bodies, frame);
    });
    if (this.set && want.includes(this.set)) {
      this.set.frame = null;
      const { position, orientation } = this.onPaths(at);
      this.set.pose(this.away(this.set, at, position, carried), orientation, this.nudged(this.set));
      this.paint(this.set, null);
    }
    this.showPoints(points);
    this.showVolumes(volumes);
    this.showSurfaces(surfaces);
    this.showDomains(domains);
    this.insight.show(found, layers.map(x => x.frame), layers.map(x => x.past || []));
    await told;
    this.draw();
  }

  // The piece that is being moved, where the hand has it.
  nudged(bodies) {
    if (!this.nudge) return null;
    const shift = new Float32Array(bodies.count * 3);
    bodies.info.forEach((x, b) => { if (x.piece === this.nudge.piece) shift.set(this.nudge.offset, 3 * b); });
    return shift;
  }

  // Where it is cut, null if it is not.
  plane() {
    const { x, y, z, w } = this.cut, across = [x, y, z].findIndex(v => v !== 0), side = [x, y, z][across];
    return across < 0 ? null : { axis: 'xyz'[across], at: -w * side, side };
  }

  // The box of the set and of what is shown on planes across it.
  reach() {
    const boxes = Object.keys(this.meta.sliced).map(id => this.meta.domains[id]).filter(Boolean);
    const ends = boxes.map(({ low, cell, shape }) => low.map((x, i) => x + cell * shape[i])), { low, high } = this.bounds;
    return { low: low.map((x, i) => Math.min(x, ...boxes.map(b => b.low[i]))), high: high.map((x, i) => Math.max(x, ...ends.map(e => e[i]))) };
  }

  // Cut away what lies beyond a plane across an axis, at a share of their extent; null shows all.
  cutAt(axis, share) {
    const { low, high } = this.reach(), i = axis ? 'xyz'.indexOf(axis) : -1;
    if (i < 0) {
      this.cut.set(0, 0, 0, 1);
      this.renderer.clippingPlanes = [];
    } else {
      // what stands between the eye and the plane goes
      const at = low[i] + (high[i] - low[i]) * (1.02 * share - 0.01), side = this.camera.position.getComponent(i) > at ? -1 : 1;
      const normal = new THREE.Vector3().setComponent(i, side);
      this.cut.set(normal.x, normal.y, normal.z, -side * at);
      this.renderer.clippingPlanes = [new THREE.Plane(normal, -side * at)];
    }
    this.draw();
  }

  after(listener) { this.afterwards.push(listener); }

  // Where a place is seen, in pixels of the page from the stage's corner; null behind the eye.
  onScreen(at) {
    const p = new THREE.Vector3(...at).project(this.camera), { clientWidth: w, clientHeight: h } = this.element;
    return p.z > 1 || Math.abs(p.x) > 1.2 || Math.abs(p.y) > 1.2 ? null : { x: (p.x + 1) / 2 * w, y: (1 - p.y) / 2 * h };
  }

  ray(event) {
    const box = this.renderer.domElement.getBoundingClientRect();
    const x = (event.clientX - box.left) / box.width * 2 - 1, y = 1 - (event.clientY - box.top) / box.height * 2;
    const way = new THREE.Vector3(x, y, 0.5).unproject(this.camera).sub(this.camera.position).normalize();
    return new THREE.Ray(this.camera.position.clone(), way);
  }

  // The place under the pointer: on a body, else on the ground, or in a straight view in the plane of what is looked at.
  pointAt(event) {
    const hit = this.hit(event);
    if (hit) return hit.point;
    const view = this.element.dataset.view || 'free', ray = this.ray(event);
    const plane = view in WAYS && view !== 'top' ? new THREE.Plane().setFromNormalAndCoplanarPoint(new THREE.Vector3(...WAYS[view]), this.controls.target) : new THREE.Plane(UP, 0);
    return ray.intersectPlane(plane, new THREE.Vector3()) || this.controls.target.clone();
  }

  // Where the bodies of the set are at a frame: driven ones on their paths.
  onPaths(at) {
    const { rest, turns } = this.set;
    if (!this.driven) return { position: rest, orientation: turns };
    const { pieces, path, start } = this.driven, d = pieces.length, n = path.length / (7 * d);
    const position = rest.slice(), orientation = turns.slice(), row = Math.min(n - 1, Math.max(0, at - start)) * d * 7;
    const q = new THREE.Quaternion(), own = new THREE.Quaternion(), c = new THREE.Vector3();
    this.set.info.forEach((x, b) => {
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

  // Positions with those that are not to be seen put out of sight.
  away(bodies, at, position, carried) {
    const hidden = new Set(bodies.pieces.filter(p => !this.seen(p, at) || carried?.has(p)));
    if (!hidden.size) return position;
    const out = position.slice();
    bodies.info.forEach((x, b) => { if (hidden.has(x.piece)) out.fill(1e6, 3 * b, 3 * b + 3); });
    return out;
  }

  showPoints(points) {
    for (const [id, swarm] of this.swarms) if (!this.shown.points || !points.some(p => p.layer.id === id)) swarm.points.visible = false;
    if (!this.shown.points) return;
    for (const { layer, arrays } of points) {
      const swarm = this.swarm(layer.id);
      swarm.colour.set(this.meta.matter[layer.id].colour).multiplyScalar(this.meta.look.chip);
      (this.meta.sorts[layer.id] || []).forEach(([, colour], n) => swarm.sorts[n].set(colour).multiplyScalar(this.meta.look.chip));
      swarm.show(arrays, this.mode === 'speed' ? (arrays.meta.fastest || 0) / (this.topSpeed || 12) : 0);
    }
  }

  showVolumes(volumes) {
    for (const cloud of this.clouds.values()) cloud.clear();
    if (!this.shown.dust) return;
    for (const { layer, arrays, domain } of volumes) {
      if (!(arrays.meta.most > 0)) continue;
      const cloud = this.cloud(layer.id);
      cloud.set(arrays, { low: domain.low, cell: domain.cell * arrays.meta.across, shape: arrays.meta.shape });
    }
  }

  showSurfaces(surfaces) {
    for (const [id, surface] of this.surfaces) if (!surfaces.some(x => x.layer.id === id)) surface.mesh.visible = false;
    for (const { layer, arrays } of surfaces) {
      if (!this.surfaces.has(layer.id)) {
        this.surfaces.set(layer.id, new Surface(this.water.shared));
        this.water.scene.add(this.surfaces.get(layer.id).mesh);
      }
      const surface = this.surfaces.get(layer.id);
      surface.mesh.visible = true;
      surface.show(arrays);
    }
  }

  showDomains(domains) {
    this.domain.visible = this.shown.domain && domains.length > 0;
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

  paint(bodies, frame) {
    const { mode } = this, still = mode === 'material' || mode === 'fragment';
    // colours that no frame changes are set once
    if (still && bodies.painted === mode) return;
    bodies.painted = mode;
    const top = this.topSpeed || 12;
    let load = null;
    if (mode === 'strain' && frame?.bond_load && bodies.pair) {
      load = new Float32Array(bodies.count);
      frame.bond_load.forEach((x, i) => {
        for (const b of [bodies.pair[2 * i], bodies.pair[2 * i + 1]]) load[b] = Math.max(load[b], frame.bond_alive[i] ? x : 0);
      });
    }
    bodies.tint((b, colour) => {
      const x = bodies.info[b];
      if (mode === 'fragment' && x.parts > 1) colour.setHSL((x.number * 0.61803) % 1, 0.42, 0.5 + 0.12 * Math.sin(x.number));
      else if (mode === 'speed' && frame && x.motion !== 'fixed') {
        const v = frame.velocity;
        ramp(Math.hypot(v[3 * b], v[3 * b + 1], v[3 * b + 2]) / top, colour);
      } else if (mode === 'strain' && load && x.motion === 'loose') ramp(load[b], colour);
      // up to a hundred times its weight, by the factor
      else if (mode === 'load' && frame?.pressed && x.motion === 'loose') ramp(Math.log10(1 + frame.pressed[b]) / 2, colour);
      else {
        colour.copy(this.colourOf(x.colour));
        // bricks of one batch differ a little
        if (x.parts > 1) colour.multiplyScalar(x.shade);
        if (mode === 'rest' && x.motion === 'loose' && frame?.awake && !frame.awake[b]) colour.multiplyScalar(0.3);
      }
    });
  }

  colourOf(name) {
    this.colours ??= new Map();
    if (!this.colours.has(name)) this.colours.set(name, new THREE.Color(name));
    return this.colours.get(name);
  }

  // Front, side or top, without perspective; 'free' goes back to where it was seen from before.
  seeFrom(view) {
    const before = this.element.dataset.view || 'free';
    if (before === 'free') this.free = { eye: this.camera.position.clone(), target: this.controls.target.clone(), angle: this.angle };
    const straight = view in WAYS, { low, high } = this.loose;
    this.element.dataset.view = view;
    this.controls.enableRotate = !straight;
    Object.assign(this.scene.fog, { near: straight ? 1e8 : HAZE[0], far: straight ? 2e8 : HAZE[1] });
    if (straight) {
      const middle = new THREE.Vector3(...low.map((x, i) => (x + high[i]) / 2)), wide = Math.max(...low.map((x, i) => high[i] - x)) * 1.5;
      this.angle = STRAIGHT;
      this.controls.target.copy(middle);
      this.camera.position.set(...WAYS[view]).setLength(wide / (2 * Math.tan(THREE.MathUtils.degToRad(STRAIGHT) / 2))).add(middle);
    } else {
      this.angle = this.free.angle;
      this.controls.target.copy(this.free.target);
      this.camera.position.copy(this.free.eye);
    }
    this.resize();
    this.controls.update();
  }

  // What lies nearer or farther than the set is cut away in a straight view, or the depths could not be told apart.
  focus() {
    const straight = (this.element.dataset.view || 'free') in WAYS, far = this.camera.position.distanceTo(this.controls.target);
    const [near, end] = straight ? [Math.max(0.05, far - DEPTH), far + DEPTH] : [0.05, 2000];
    if (this.camera.near !== near) {
      Object.assign(this.camera, { near, far: end });
      this.camera.updateProjectionMatrix();
    }
    // a bar of a round length near a seventh of the width
    const metre = this.element.clientWidth / (2 * far * Math.tan(THREE.MathUtils.degToRad(this.angle || 54) / 2));
    const long = straight ? [100, 50, 20, 10, 5, 2, 1, 0.5, 0.2, 0.1, 0.05, 0.02, 0.01].find(x => x * metre <= this.element.clientWidth / 6 + 1) || 0.01 : 0;
    const bar = document.getElementById('bar');
    bar.hidden = !straight;
    bar.style.width = `${long * metre}px`;
    bar.textContent = long >= 1 ? `${long} m` : `${long * 100} cm`;
  }

  seeThroughCamera() {
    const c = this.meta.camera;
    this.camera.position.set(...c.eye);
    this.controls.target.set(...c.target);
    this.angle = c.angle;
    this.resize();
    this.controls.update();
  }

  // Where the stage is seen from, to the centimetre.
  view() {
    const plain = v => v.toArray().map(x => Number(x.toFixed(2)));
    return { eye: plain(this.camera.position), target: plain(this.controls.target) };
  }

  frameOn({ bodies, body }) {
    const i = body * 12, at = new THREE.Vector3(bodies.data[i], bodies.data[i + 1], bodies.data[i + 2]);
    const way = this.camera.position.clone().sub(this.controls.target).setLength(Math.max(1.2, bodies.radius[body] * 6) * (this.camera.near > 1 ? 1 / Math.tan(THREE.MathUtils.degToRad(STRAIGHT)) : 1));
    this.controls.target.copy(at);
    this.camera.position.copy(at).add(way);
    this.controls.update();
  }

  hit(event) {
    if (!this.live || !this.shown.fragments) return null;
    const { origin, direction } = this.ray(event);
    const hits = this.live.map(bodies => ({ bodies, ...bodies.pick(origin, direction, this.cut) })).filter(h => h.distance !== undefined);
    for (const h of hits) h.point = origin.clone().addScaledVector(direction, h.distance);
    return hits.sort((a, b) => a.distance - b.distance)[0] || null;
  }

  resize() {
    const { clientWidth: w, clientHeight: h } = this.element;
    if (!w || !h) return;
    this.renderer.setSize(w, h, false);
    const size = this.renderer.getDrawingBufferSize(new THREE.Vector2());
    this.image.setSize(size.x, size.y);
    this.camera.aspect = w / h;
    const angle = THREE.MathUtils.degToRad(this.angle || 54), across = (this.element.dataset.view || 'free') in WAYS ? w : this.pictureRect().width;
    this.camera.fov = THREE.MathUtils.radToDeg(2 * Math.atan(Math.tan(angle / 2) * h / across));
    this.camera.updateProjectionMatrix();
    this.pointScale.value = size.y / (2 * Math.tan(THREE.MathUtils.degToRad(this.camera.fov) / 2));
    for (const target of this.between) target.setSize(size.x, size.y);
    this.draw();
  }

  // The largest rectangle of the picture's shape that the stage holds, in pixels of the page.
  pictureRect() {
    const { clientWidth: w, clientHeight: h } = this.element, shape = this.meta ? this.meta.picture.width / this.meta.picture.height : w / h;
    return { width: Math.min(w, h * shape), height: Math.min(h, w / shape) };
  }

  draw() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.focus();
      this.grid.visible = this.shown.grid;
      this.figure.visible = this.shown.figure;
      this.renderer.setRenderTarget(this.image);
      this.renderer.render(this.scene, this.camera);
      this.composite();
      for (const listener of this.afterwards) listener();
      this.element.dataset.drawn = String(Number(this.element.dataset.drawn || 0) + 1);
    });
  }

  // Lay the clouds over the picture one after another, the farthest first, the last onto the screen.
  composite() {
    const size = this.renderer.getDrawingBufferSize(new THREE.Vector2());
    const clouds = [...this.clouds.values()].filter(c => c.dense()).sort((a, b) => b.distance(this.camera) - a.distance(this.camera));
    if (!clouds.length) {
      this.noDust ??= new Dust(SUN, this.meta?.look || { extinction: 1, dimming: 1 });
      clouds.push(this.noDust);
    }
    this.lastCloud = clouds.at(-1);
    const wet = this.water.render(this.renderer, this.camera, this.image, size);
    let from = wet;
    clouds.forEach((cloud, n) => {
      const onto = n === clouds.length - 1 ? null : this.between[n % 2];
      cloud.render(this.renderer, this.camera, { texture: from.texture, depthTexture: wet.depthTexture }, size, onto, this.cut, onto ? { exposure: 1, mark: 0 } : this.light);
      from = onto;
    });
  }

  // The share of the picture's pixels that are brighter than can be shown.
  clipped() {
    if (!this.lastCloud) return 0;
    this.gauge ??= new THREE.WebGLRenderTarget(96, 60);
    this.lastCloud.again(this.renderer, this.gauge, { exposure: this.light.exposure, mark: 2 });
    const pixels = new Uint8Array(96 * 60 * 4);
    this.renderer.readRenderTargetPixels(this.gauge, 0, 0, 96, 60, pixels);
    let n = 0;
    for (let i = 0; i < pixels.length; i += 4) n += pixels[i] > 127 ? 1 : 0;
    return n / (96 * 60);
  }
}
