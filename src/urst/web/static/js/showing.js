// What of the results is seen at the frame in view.
import { between, paceAt } from './between.js';
import { Frames } from './frames.js';
import { TRAIL } from './insight.js';
import { legend } from './legend.js';
import { byId } from './page.js';
import { SUN } from './stage.js';
import { toast } from './toast.js';

/** @import { Clock } from './clock.js' */
/** @import { Loader } from './loader.js' */
/** @import { Session } from './session.js' */
/** @import { Stage } from './stage.js' */
/** @import { Arrays, BodiesFrame, Layer, Meta } from './types' */
/** @import { View } from './view.js' */

// Frames fetched ahead, playing and at rest.
const PLAYING = 16, RESTING = 3;

export class Showing {
  /**
   * @param {Session} session
   * @param {Stage} stage
   * @param {Clock} clock
   * @param {View} view
   * @param {Loader} loader
   */
  constructor(session, stage, clock, view, loader) {
    this.session = session;
    this.stage = stage;
    this.clock = clock;
    this.view = view;
    this.frames = new Frames(loader, () => this.show(), key => this.job(key));
    clock.onFrame(() => this.show());
    clock.ready = frame => this.ready(frame);
    // what comes too slowly to be played is played more coarsely; at rest all is seen again
    clock.late = () => { this.frames.level = Math.min(2, this.frames.level + 1); };
    clock.onFrame(() => { if (!clock.playing && this.frames.level) { this.frames.level = 0; this.show(); } });
  }

  /**
   * What a decoder must know of a result.
   * @param {string} key
   */
  job(key) {
    const { meta, state } = this.session, id = state?.layers.find(x => x.key === key)?.id, domain = id !== undefined && meta?.domains[id];
    return domain ? { cell: domain.cell, shades: meta.shades[id] || [], look: { ...meta.look, sun: { x: SUN.x, y: SUN.y, z: SUN.z } } } : {};
  }

  /**
   * What is to look otherwise than before is worked out anew.
   * @param {Meta | null} before
   */
  shadesChanged(before) {
    const { meta, state } = this.session, same = (/** @type {string} */ id) => JSON.stringify(before?.shades[id]) === JSON.stringify(meta.shades[id]);
    for (const x of state?.layers || []) if (!same(x.id)) this.frames.forget(x.key);
  }

  /** @param {number} frame */
  ready(frame) {
    if (frame > this.clock.end) return true;
    const moving = this.session.state.layers.filter(x => x.moving && x.representation && x.done && x.frames.includes(frame));
    return moving.every(x => { this.frames.get(x.key, frame); return this.frames.ready(x.key, frame); });
  }

  /** Draw the frame in view from whatever is baked. */
  show() {
    const { session, stage, frames, clock, view } = this, { state, meta } = session;
    if (!state) return;
    const building = view.measure.piece !== null, seen = (/** @type {string} */ representation) => (building ? [] : session.drawn(representation));
    const f = clock.frame, bodies = seen('bodies'), points = seen('points'), volumes = seen('volume');
    const has = (/** @type {Layer} */ x) => x.frames.includes(f);
    /** @type {(x: Layer) => any} */
    const got = x => (has(x) ? frames.get(x.key, f) : null);
    // by speed a liquid is seen as what it is carried by, else as its surface, where there is one
    const surfaces = seen('surface').filter(x => !(stage.mode === 'speed' && points.some(p => x.reads.includes(p.id) && has(p))));
    const skinned = (/** @type {Layer} */ x) => surfaces.some(s => s.reads.includes(x.id) && has(s));
    const moving = bodies.filter(x => x.moving), still = bodies.filter(x => !x.moving);
    const before = stage.shown.trails ? [...Array(TRAIL)].map((_, n) => f - TRAIL + n) : [];
    const posed = moving.map(x => ({ layer: x, frame: this.partly(x, got(x)), past: before.filter(g => frames.has(x.key, g)).map(g => /** @type {BodiesFrame} */ (frames.get(x.key, g))) }));
    // what is still on its way leaves the last picture standing
    if (posed.some(({ layer: x, frame }) => has(x) && !frame)) return;
    const shown = posed.filter(x => x.frame);
    const domains = volumes.length ? volumes.map(x => meta.domains[x.id]).filter(Boolean) : Object.values(meta.domains);
    const wet = [session.layer, ...state.layers].find(x => x && meta.sliced[x.id] && has(x));
    const drawable = (/** @type {Layer[]} */ layers) => layers.map(x => ({ layer: x, arrays: got(x), domain: meta.domains[x.id] })).filter(x => x.arrays);
    stage.show({
      wet: wet ? { key: wet.key, frame: f } : null, sliced: view.sliced(),
      at: f, posed: shown, still: shown.length ? [] : still, domains,
      points: drawable(points.filter(x => !skinned(x))), surfaces: drawable(surfaces), volumes: drawable(volumes).filter(x => x.domain),
    }).then(() => legend(session, stage)).catch(error => toast(error.message));
    const ahead = [...moving, ...points, ...volumes, ...surfaces];
    frames.only(new Set(ahead.map(x => x.key)));
    for (const x of ahead) frames.ahead(x.key, x.frames, f, clock.playing ? PLAYING : RESTING);
    if (before.length) for (const x of moving) frames.ahead(x.key, x.frames, before[0], TRAIL);
    this.stamp(building, ahead.filter(x => x.state === 'stale').map(x => x.name));
    const nothing = moving.length > 0 && !shown.length, none = !ahead.some(has) && !still.length;
    this.notice(!building && (nothing || none), ahead.length + still.length > 0);
    legend(session, stage);
  }

  /**
   * Over the picture: what it is of, where that is not plain.
   * @param {boolean} building
   * @param {string[]} stale
   */
  stamp(building, stale) {
    const { session, clock } = this, played = clock.paces ? `played at ${paceAt(clock.paces, clock.start, clock.frame).toPrecision(2)}` : '';
    const told = building ? ['the set as it stands (Esc: results)']
      : [session.quality === 'draft' ? 'draft' : '', played, stale.length ? `${stale.join(', ')} stale` : ''].filter(Boolean);
    byId('stamp').hidden = !told.length;
    byId('stamp').textContent = told.join(' · ');
  }

  /**
   * Why there is nothing of a frame.
   * @param {boolean} on
   * @param {boolean} any whether there is something of other frames
   */
  notice(on, any) {
    const { runs } = this.session.state, doing = this.session.preparing();
    byId('notice').hidden = !on;
    if (runs.length) {
      const waits = runs.some(r => r.state === 'running') ? 'The first frames are being baked.' : 'The bake waits its turn in the queue.';
      byId('notice').textContent = doing ? `Baking begins soon: ${doing}.` : waits;
    } else byId('notice').textContent = any ? `Frame ${this.clock.frame} is not baked yet.` : 'Nothing is baked yet: this is the set as it stands. Press Bake.';
  }

  /**
   * A frame, or bodies between it and the next while time is stretched.
   * @param {Layer} x
   * @param {BodiesFrame | null} frame
   * @returns {BodiesFrame}
   */
  partly(x, frame) {
    const { frames, clock } = this, next = clock.frame + 1;
    if (!frame || !(clock.share > 0) || !frames.has(x.key, next)) return /** @type {BodiesFrame} */ (frame);
    return between(frame, /** @type {BodiesFrame} */ (frames.get(x.key, next)), 1 / clock.rate, clock.share);
  }

  /** The range of frames that something in view is baked for, else the shot's. */
  baked() {
    const { state } = this.session, baked = state.layers.filter(x => x.moving && x.done && this.session.inView(x)).flatMap(x => x.frames);
    return baked.length ? { first: Math.min(...baked), last: Math.max(...baked) } : { first: state.start, last: state.end };
  }

  /**
   * Resolves when a frame has been drawn, or when there is nothing of it to draw.
   * @param {number} frame
   */
  async see(frame) {
    const { clock, stage } = this;
    clock.go(frame);
    while (!clock.ready(frame)) await new Promise(done => { setTimeout(done, 20); });
    const before = stage.element.dataset.drawn;
    this.show();
    while (stage.element.dataset.drawn === before) await new Promise(requestAnimationFrame);
    await stage.settled;
  }
}
