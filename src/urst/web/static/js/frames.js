// Baked frames, fetched ahead of the clock, in rows where they are small, and kept while there is room.
/** @import { Asked, Loader } from './loader.js' */
/** @import { Arrays, Job } from './types' */

const ROOM = 600e6, ABREAST = 4;
// frames smaller than this come several at a time
const SMALL = 300e3, ROW = 8;
const FIRST_WAIT = 500, LONGEST_WAIT = 30e3;

export class Frames {
  /**
   * @param {Loader} loader
   * @param {() => void} onArrival
   * @param {(key: string) => Job} job what a decoder must know of a result, beside the address
   */
  constructor(loader, onArrival, job = () => ({}), now = () => performance.now()) {
    this.loader = loader;
    this.onArrival = onArrival;
    this.job = job;
    this.now = now;
    /** @type {Map<string, Arrays>} */
    this.kept = new Map();
    /** @type {Map<string, Asked>} */
    this.waiting = new Map();
    /** @type {Map<string, { wait: number, until: number }>} */
    this.failed = new Map();
    /** bytes of a frame as they come, by key @type {Map<string, number>} */
    this.sizes = new Map();
    /** how many levels there are, by key @type {Map<string, number>} */
    this.levels = new Map();
    this.bytes = 0;
    this.level = 0;
  }

  /**
   * The arrays of a frame at the level wanted, or a coarser one until that is there; null while nothing is.
   * @param {string} key
   * @param {number} frame
   * @returns {Arrays | null}
   */
  get(key, frame) {
    const wanted = this.name(key, frame, this.levelOf(key)), found = this.kept.get(wanted);
    if (found) {
      this.kept.delete(wanted);
      this.kept.set(wanted, found);
      return found;
    }
    this.fetch(key, [frame]);
    for (let level = 0; level < 3; level += 1) if (this.has(key, frame, level)) return this.kept.get(this.name(key, frame, level)) || null;
    return null;
  }

  /**
   * Coarser levels are only asked for where there are some.
   * @param {string} key
   */
  levelOf(key) { return Math.min(this.level, (this.levels.get(key) ?? 1) - 1); }

  /**
   * @param {string} key
   * @param {number} frame
   * @param {number} level
   */
  name(key, frame, level) { return `${key}/${frame}/${level}`; }

  /**
   * @param {string} key
   * @param {number} frame
   */
  has(key, frame, level = this.levelOf(key)) { return this.kept.has(this.name(key, frame, level)); }

  /**
   * Whether a frame can be shown, if only coarsely.
   * @param {string} key
   * @param {number} frame
   */
  ready(key, frame) { return [0, 1, 2].some(level => this.has(key, frame, level)); }

  /**
   * @param {string} key
   * @param {number[]} frames those that are baked
   * @param {number} from
   * @param {number} count
   */
  ahead(key, frames, from, count) {
    const wanted = frames.filter(f => f >= from && f < from + count && this.lacks(key, f)), row = (this.sizes.get(key) ?? Infinity) < SMALL ? ROW : 1;
    for (let i = 0; i < wanted.length;) {
      let n = 1;
      while (n < row && wanted[i + n] === wanted[i] + n) n += 1;
      this.fetch(key, wanted.slice(i, i + n));
      i += n;
    }
  }

  /**
   * @param {string} key
   * @param {number} frame
   */
  lacks(key, frame) {
    const name = this.name(key, frame, this.levelOf(key)), failure = this.failed.get(name);
    return !this.kept.has(name) && !this.waiting.has(name) && !(failure && failure.until > this.now());
  }

  /**
   * @param {string} key
   * @param {number[]} frames in a row
   */
  fetch(key, frames) {
    if (new Set(this.waiting.values()).size >= ABREAST || !frames.every(f => this.lacks(key, f))) return;
    const level = this.levelOf(key), names = frames.map(f => this.name(key, f, level));
    const asked = this.loader.ask({ kind: 'frames', url: `/data/${key}/frames/${frames[0]}-${frames.at(-1)}?level=${level}`, ...this.job(key) });
    for (const name of names) this.waiting.set(name, asked);
    asked.promise.then(found => {
      for (const { frame, arrays } of found) this.keep(key, frame, level, arrays);
    }).catch(error => {
      if (!error.aborted) names.forEach(name => this.noteFailure(name));
    }).finally(() => {
      for (const name of names) this.waiting.delete(name);
      this.onArrival();
    });
  }

  /**
   * @param {string} key
   * @param {number} frame
   * @param {number} level
   * @param {Arrays} arrays
   */
  keep(key, frame, level, arrays) {
    const name = this.name(key, frame, level);
    this.failed.delete(name);
    this.kept.set(name, arrays);
    this.sizes.set(key, arrays.bytes);
    this.levels.set(key, arrays.meta.levels);
    this.bytes += inMemory(arrays);
    for (const [old, value] of this.kept) {
      if (this.bytes < ROOM || old === name) break;
      this.kept.delete(old);
      this.bytes -= inMemory(value);
    }
  }

  /**
   * Frames of a result that is to be seen otherwise are worked out anew.
   * @param {string} key
   */
  forget(key) {
    for (const [name, value] of this.kept) {
      if (name.split('/')[0] !== key) continue;
      this.kept.delete(name);
      this.bytes -= inMemory(value);
    }
  }

  /**
   * What failed is asked for again, each time after twice as long.
   * @param {string} name
   */
  noteFailure(name) {
    const before = this.failed.get(name), wait = Math.min(LONGEST_WAIT, before ? before.wait * 2 : FIRST_WAIT);
    this.failed.set(name, { wait, until: this.now() + wait });
  }

  /**
   * Results that are no longer looked at need not come.
   * @param {Set<string>} keys
   */
  only(keys) {
    for (const [name, asked] of this.waiting) if (!keys.has(name.split('/')[0])) asked.cancel();
  }
}

/** @param {Arrays} arrays */
function inMemory(arrays) { return Object.values(arrays).reduce((sum, x) => sum + (ArrayBuffer.isView(x) ? x.byteLength : 0), 0); }
