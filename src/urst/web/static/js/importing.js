// A mesh brought in from a file: how long reading takes, and a way to end it.
import { SILENT } from './api.js';
import { byId, field, form } from './page.js';
import { toast } from './toast.js';

/** @import { Session } from './session.js' */

/** @param {Session} session */
export function offerImport(session) {
  const input = field(form('import-form'), 'file');
  byId('import').addEventListener('click', () => input.click());
  input.addEventListener('change', () => {
    const [file] = input.files || [];
    if (file) read(session, file);
    input.value = '';
  });
}

/**
 * @param {Session} session
 * @param {File} file
 */
async function read(session, file) {
  const body = new FormData(), stop = new AbortController(), began = Date.now();
  body.append('file', file);
  const node = toast('', null, true), words = document.createElement('span');
  const end = Object.assign(document.createElement('button'), { textContent: 'Stop', className: 'chip ml-3' });
  const tell = () => { words.textContent = `Reading ${file.name}, ${Math.round((Date.now() - began) / 1000)} s`; };
  const ticking = setInterval(tell, 500);
  tell();
  node.append(words, end);
  end.addEventListener('click', () => stop.abort());
  try {
    const response = await fetch(`${session.base}/meshes`, { method: 'POST', body, signal: stop.signal, headers: { accept: 'application/json' } });
    node.remove();
    // of what can only stand it is said why
    const { message } = await response.json();
    if (message) toast(message);
    if (response.ok) await session.refresh(true);
  } catch (error) {
    node.remove();
    toast(error instanceof Error && error.name === 'AbortError' ? `Reading ${file.name} was stopped; nothing was added.` : SILENT);
  } finally {
    clearInterval(ticking);
  }
}
