// While a bake is under way and nobody has moved the frame, the stage follows it, and plays from the start once it is done.

/** @import { Clock } from './clock.js' */
/** @import { Session } from './session.js' */
/** @import { Layer } from './types' */

export class Following {
  /**
   * @param {Session} session
   * @param {Clock} clock
   */
  constructor(session, clock) {
    this.session = session;
    this.clock = clock;
    /** whether somebody has moved the frame: then it is theirs */
    this.moved = false;
    /** whether what moves the frame now is this */
    this.ours = false;
    /** whether it plays what has just been baked */
    this.playing = false;
    /** whether a run was under way when the server answered last; null before its first answer @type {boolean | null} */
    this.ran = null;
    clock.onFrame(() => this.noticed());
    session.on('news', (/** @type {Layer} */ x, /** @type {number} */ frame) => { if (x.moving && !session.live) this.go(frame); });
    session.on('state', () => this.answered());
  }

  noticed() {
    if (this.ran === null || this.ours) return;
    if (this.playing && this.clock.playing) return;
    // played to its end, the frame is still nobody's
    this.moved ||= !(this.playing && this.clock.frame === this.clock.end);
    this.playing = false;
  }

  answered() {
    const { runs, last } = this.session.state, done = this.ran && !runs.length && last?.state === 'done';
    this.ran = runs.length > 0;
    if (!done || this.moved || this.session.live || !this.session.state.layers.some(x => x.moving && x.done)) return;
    this.go(this.clock.start);
    this.playing = true;
    this.clock.play();
  }

  /** @param {number} frame */
  go(frame) {
    if (this.moved || this.clock.playing) return;
    this.ours = true;
    this.clock.go(frame);
    this.ours = false;
  }
}
