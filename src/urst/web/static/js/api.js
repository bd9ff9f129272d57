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
