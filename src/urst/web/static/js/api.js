// Talking to the server.

export class Refused extends Error {}

export const SILENT = 'Urst does not answer; it is asked again by itself. If it was stopped, start it with ./urst start.';

/** @param {Promise<Response>} asked */
async function answer(asked) {
  let response;
  try { response = await asked; } catch (error) {
    if (error instanceof Error && error.name === 'AbortError') throw error;
    throw new Refused(SILENT);
  }
  if (response.ok) return response;
  const text = await response.text();
  let message = text;
  try { message = JSON.parse(text).message; } catch { /* plain text */ }
  throw new Refused(message || 'The server did not answer.');
}

/**
 * @param {string} url
 * @returns {Promise<any>}
 */
export async function getJson(url) {
  return (await answer(fetch(url, { headers: { accept: 'application/json' } }))).json();
}

// What is changed is told with the revision that was looked at, so that nothing is changed unseen that others have changed.
/** @type {{ revision: string | number }} */
export const seen = { revision: '' };

/**
 * @param {string} url
 * @param {Record<string, any>} [fields]
 * @returns {Promise<any>}
 */
export async function post(url, fields) {
  const body = fields ? new URLSearchParams(fields) : undefined, headers = { accept: 'application/json', 'urst-revision': String(seen.revision) };
  return (await answer(fetch(url, { method: 'POST', body, headers }))).json();
}
