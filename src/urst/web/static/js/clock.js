// The frame in view, and playing: frame by frame, or as slowly or fast as the shot says, with a share of the way to the next.
import { paceAt } from './between.js';

export class Clock {
  constructor() {
    this.frame = 1; this.start = 1; this.end = 1; this.rate = 24; this.playing = false;
    this.share = 0;
    /** how fast each frame is played, where that is not even @type {number[] | null} */
    this.paces = null;
    /** @type {((frame: number) => void)[]} */
    this.listeners = [];
    /** whether a frame can be shown @type {(frame: number) => boolean} */
    this.ready = () => true;
    /** called when frames come too slowly to be played */
    this.late = () => {};
  }

  /** @param {(frame: number) => void} listener */
  onFrame(listener) { this.listeners.push(listener); }

  tell() { for (const listener of this.listeners) listener(this.frame); }

  /**
   * @param {number} start
   * @param {number} end
   * @param {number} rate
   */
  range(start, end, rate) {
    Object.assign(this, { start, end, rate });
    this.go(this.frame);
  }

  /** @param {number} frame */
  go(frame) {
    const next = Math.min(this.end, Math.max(this.start, Math.round(frame)));
    const moved = next !== this.frame || this.share > 0;
    this.share = 0;
    this.frame = next;
    if (moved) this.tell();
  }

  /**
   * A frame that somebody asks for: what plays stops there.
   * @param {number} frame
   */
  seek(frame) {
    if (this.playing) this.pause();
    this.go(frame);
  }

  toggle() { this.playing ? this.pause() : this.play(); }

  pause() { this.playing = false; this.tell(); }

  play() {
    if (this.frame >= this.end) this.go(this.start);
    this.playing = true;
    this.tell();
    if (this.paces) { this.stretched(this.paces); return; }
    let due = performance.now(), waited = 0;
    const step = (/** @type {number} */ now) => {
      if (!this.playing) return;
      if (now >= due && this.ready(this.frame + 1)) {
        // a slow machine drops frames rather than slowing the fall
        waited = 0;
        let skip = Math.max(1, Math.floor((now - due) * this.rate / 1000));
        while (skip > 1 && !this.ready(this.frame + skip)) skip -= 1;
        due = Math.max(due + skip * 1000 / this.rate, now - 1000 / this.rate);
        if (this.frame + skip > this.end) { this.go(this.end); this.pause(); return; }
        this.go(this.frame + skip);
      } else if (now >= due) {
        // a second of waiting in all tells that frames come too slowly
        waited += 1;
        if (waited % 60 === 0) this.late();
        due = now;
        this.tell();
      }
      requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
  }

  /**
   * Time held, stretched or ramped after the bake: a moment between frames.
   * @param {number[]} paces
   */
  stretched(paces) {
    let moment = this.frame, last = performance.now(), waited = 0;
    const step = (/** @type {number} */ now) => {
      if (!this.playing || Math.floor(moment) !== this.frame) { this.share = 0; return; }
      const next = moment + (now - last) * this.rate / 1000 * paceAt(paces, this.start, moment);
      last = now;
      if (next >= this.end) { this.go(this.end); this.pause(); return; }
      if (this.ready(Math.floor(next)) && this.ready(Math.floor(next) + 1)) {
        waited = 0;
        moment = next;
        this.frame = Math.floor(moment);
        this.share = moment - this.frame;
      } else {
        waited += 1;
        if (waited % 60 === 0) this.late();
      }
      this.tell();
      requestAnimationFrame(step);
    };
    requestAnimationFrame(step);
  }
}
