// Work for the decoders: several abreast, each asked in turn.
import { Refused, SILENT } from './api.js';

const MOST = 4;

export class Loader {
  // one core is left to the page
  constructor(make = () => new Worker(new URL('./decoder.js', import.meta.url), { type: 'module' }), most = Math.max(1, Math.min(MOST, (navigator.hardwareConcurrency || 2) - 1))) {
    Object.assign(this, { make, most });
    this.workers = [];
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

  ask(job) {
    const id = this.next, one = this.worker();
    this.next += 1;
    one.load += 1;
    const promise = new Promise((done, failed) => { this.waiting.set(id, { done, failed, one }); });
    one.worker.postMessage({ id, ...job });
    return { promise, cancel: () => one.worker.postMessage({ id, stop: true }) };
  }

  heard(one, { id, reply, about, error, network, aborted }) {
    const asked = this.waiting.get(id);
    if (!asked) return;
    this.waiting.delete(id);
    one.load -= 1;
    if (error !== undefined) { asked.failed(Object.assign(new Refused(network ? SILENT : error), { aborted })); return; }
    for (const [path, bounds] of Object.entries(about)) Object.assign(path.split('/').reduce((x, key) => x[key], reply), bounds);
    asked.done(reply);
  }

  broke(one, message) {
    for (const [id, asked] of this.waiting) {
      if (asked.one !== one) continue;
      this.waiting.delete(id);
      asked.failed(new Refused(message || 'A result could not be unpacked.'));
    }
    one.load = 0;
  }
}
