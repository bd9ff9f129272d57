// Talking to the server.

export class Refused extends Error {}

export const SILENT = 'Urst does not answer; it is asked again by itself. If it was stopped, start it with ./urst start.';

async function answer(asked) {
  let response;
  try { response = await asked; } catch (error) {
    if (error.name === 'AbortError') throw error;
    throw new Refused(SILENT);
  }
  if (response.ok) return response;
  const text = await response.text();
  let message = text;
  try { message = JSON.parse(text).message; } catch { /* plain text */ }
  throw new Refused(message || 'The server did not answer.');
}

export async function getJson(url) {
  return (await answer(fetch(url, { headers: { accept: 'application/json' } }))).json();
}

export async function post(url, fields) {
  const body = fields ? new URLSearchParams(fields) : undefined;
  return (await answer(fetch(url, { method: 'POST', body, headers: { accept: 'application/json' } }))).json();
}

const TYPES = { float32: Float32Array, int32: Int32Array, int8: Int8Array, uint8: Uint8Array };

// Arrays as `urst.web.blob` packs them.
export async function getArrays(url, signal) {
  const buffer = await (await answer(fetch(url, { signal, headers: { accept: 'application/json' } }))).arrayBuffer();
  const size = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, size)));
  const arrays = { meta: header.meta, bytes: buffer.byteLength };
  for (const { name, type, shape, at } of header.arrays) {
    const count = shape.reduce((a, b) => a * b, 1);
    arrays[name] = new TYPES[type](buffer, 4 + size + at, count);
    arrays[name].shape = shape;
  }
  return arrays;
}
