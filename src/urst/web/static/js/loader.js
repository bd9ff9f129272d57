// Work for the decoders: several abreast, each asked in turn.
import { Refused, SILENT } from './api.js';

/**
 * @typedef {{ worker: Worker, load: number }} One a worker, and how much it has to do
 * @typedef {{ promise: Promise<any>, cancel: () => void }} Asked
 */

const MOST = 4;

export class Loader {
  /**
   * One core is left to the page.
   * @param {() => Worker} make
   */
  constructor(make = () => new Worker(new URL('./decoder.js', import.meta.url), { type: 'module' }), most = Math.max(1, Math.min(MOST, (navigator.hardwareConcurrency || 2) - 1))) {
    this.make = make;
    this.most = most;
    /** @type {One[]} */
    this.workers = [];
    /** @type {Map<number, { done: (reply: any) => void, failed: (error: Error) => void, one: One }>} */
    this.waiting = new Map();
    this.next = 0;
  }

  // The worker with the least to do; another is made while all are busy.
  worker() {
    const idle = this.workers.find(w => !w.load);
    if (idle) return idle;
    if (this.workers.length < this.most) {
      const worker = this.make(), one = { worker, load: 0 };
      worker.onmessage = ({ data }) => this.heard(one, data);
      worker.onerror = event => { event.preventDefault(); this.broke(one, event.message); };
      this.workers.push(one);
      return one;
    }
    return this.workers.reduce((a, b) => (b.load < a.load ? b : a));
  }

  /**
   * @param {{ kind: string, url: string, [about: string]: unknown }} job
   * @returns {Asked}
   */
  ask(job) {
    const id = this.next, one = this.worker();
    this.next += 1;
    one.load += 1;
    const promise = new Promise((done, failed) => { this.waiting.set(id, { done, failed, one }); });
    one.worker.postMessage({ id, ...job });
    return { promise, cancel: () => one.worker.postMessage({ id, stop: true }) };
  }

  /**
   * @param {One} one
   * @param {any} answer
   */
  heard(one, { id, reply, about, error, network, aborted }) {
    const asked = this.waiting.get(id);
    if (!asked) return;
    this.waiting.delete(id);
    one.load -= 1;
    if (error !== undefined) { asked.failed(Object.assign(new Refused(network ? SILENT : error), { aborted })); return; }
    for (const [path, bounds] of Object.entries(about)) Object.assign(path.split('/').reduce((x, key) => x[key], reply), bounds);
    asked.done(reply);
  }

  /**
   * @param {One} one
   * @param {string} message
   */
  broke(one, message) {
    for (const [id, asked] of this.waiting) {
      if (asked.one !== one) continue;
      this.waiting.delete(id);
      asked.failed(new Refused(message || 'A result could not be unpacked.'));
    }
    one.load = 0;
  }
}
