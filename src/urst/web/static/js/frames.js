// Baked frames, fetched ahead of the clock and kept while there is room.
import { getArrays } from './api.js';

const ROOM = 600e6;
const ABREAST = 6;

export class Frames {
  constructor(onArrival) {
    this.kept = new Map();
    this.waiting = new Map();
    this.bytes = 0;
    this.onArrival = onArrival;
  }

  // The arrays of a frame, or null while they are on their way.
  get(key, frame) {
    const name = `${key}/frame/${frame}`;
    const found = this.kept.get(name);
    if (found) {
      this.kept.delete(name);
      this.kept.set(name, found);
      return found;
    }
    this.fetch(name);
    return null;
  }

  has(key, frame) { return this.kept.has(`${key}/frame/${frame}`); }

  ahead(key, frames, from, count) {
    for (const frame of frames) if (frame >= from && frame < from + count) this.fetch(`${key}/frame/${frame}`);
  }

  fetch(name) {
    if (this.kept.has(name) || this.waiting.has(name) || this.waiting.size >= ABREAST) return;
    const work = getArrays(`/data/${name}`).then(arrays => {
      this.kept.set(name, arrays);
      this.bytes += arrays.bytes;
      for (const [old, value] of this.kept) {
        if (this.bytes < ROOM || old === name) break;
        this.kept.delete(old);
        this.bytes -= value.bytes;
      }
    }).catch(() => {}).finally(() => {
      this.waiting.delete(name);
      this.onArrival();
    });
    this.waiting.set(name, work);
  }
}
