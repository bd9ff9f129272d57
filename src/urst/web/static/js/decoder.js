// A worker that fetches results, unpacks them and works out what is drawn.
import { decode, ready, split } from './arrays.js';
import { frame, skins } from './prepare.js';

/** @import { Arrays, Job } from './types' */

/** @type {Map<number, AbortController>} */
const running = new Map();

/**
 * @param {string} url
 * @param {AbortSignal} signal
 */
async function bytesOf(url, signal) {
  const response = await fetch(url, { signal, headers: { accept: 'application/json' } });
  if (response.ok) return new Uint8Array(await response.arrayBuffer());
  const text = await response.text();
  let message = text;
  try { message = JSON.parse(text).message; } catch { /* plain text */ }
  throw Object.assign(new Error(message), { status: response.status });
}

/** @type {Record<string, (job: Job & { url: string }, signal: AbortSignal) => Promise<any>>} */
const jobs = {
  async static({ url }, signal) {
    const [bytes] = await Promise.all([bytesOf(url, signal), ready]), arrays = decode(bytes);
    return { ...arrays, ...(arrays.skin ? skins(arrays) : {}), bytes: bytes.byteLength };
  },
  async frames({ url, ...job }, signal) {
    const [bytes] = await Promise.all([bytesOf(url, signal), ready]);
    return split(bytes).map(x => ({ frame: x.frame, arrays: { ...frame(decode(x.bytes), job), bytes: x.bytes.byteLength } }));
  },
};

/**
 * @param {unknown} value
 * @param {Set<ArrayBufferLike>} found
 */
function buffers(value, found = new Set()) {
  if (ArrayBuffer.isView(value)) found.add(value.buffer);
  else if (value && typeof value === 'object') for (const x of Object.values(value)) buffers(x, found);
  return found;
}

/**
 * What is said of an array beside its numbers does not travel with it.
 * @param {any} value
 * @param {Record<string, { low: number[], high: number[] }>} about
 */
function bare(value, about = {}, path = '') {
  if (ArrayBuffer.isView(value)) {
    const { low, high } = /** @type {any} */ (value);
    if (low) about[path] = { low, high };
  } else if (value && typeof value === 'object') {
    for (const [key, x] of Object.entries(value)) bare(x, about, path ? `${path}/${key}` : key);
  }
  return about;
}

// a worker takes what is handed over as a list
const worker = /** @type {{ postMessage: (message: unknown, handed?: Transferable[]) => void }} */ (/** @type {unknown} */ (self));

self.onmessage = async ({ data: { id, stop, ...job } }) => {
  if (stop) { running.get(id)?.abort(); return; }
  const control = new AbortController();
  running.set(id, control);
  try {
    const reply = await jobs[job.kind](job, control.signal);
    worker.postMessage({ id, reply, about: bare(reply) }, /** @type {ArrayBuffer[]} */ ([...buffers(reply)]));
  } catch (error) {
    const { name, message } = /** @type {Error} */ (error);
    worker.postMessage({ id, error: message, network: error instanceof TypeError, aborted: name === 'AbortError' });
  } finally { running.delete(id); }
};
