// News of bakes and of others' changes, as they happen. A frame's news is small, so the page grows from it without asking.
import { SILENT } from './api.js';
import { toast } from './toast.js';

/** @import { Session } from './session.js' */

// How soon after news one asks, and how long one's own change takes until it is known [ms].
const SOON = 150, OWN = 600;

/** @param {Session} session */
export function listen(session) {
  const source = new EventSource(`/events?shot=${session.shotId}`);
  /** @type {number | null} */
  let due = null;
  let silent = false;
  // a change that somebody else has made; one's own is known by the time this looks
  source.addEventListener('document', event => {
    const { revision } = JSON.parse(event.data);
    setTimeout(() => { if (session.state && session.state.revision !== revision) session.refresh(true, false); }, OWN);
  });
  source.addEventListener('frame', event => {
    if (!session.state || session.take(JSON.parse(event.data))) return;
    due ??= setTimeout(() => { due = null; session.refresh(); }, SOON);
  });
  source.addEventListener('state', () => { if (session.state) { session.latest = null; session.refresh(); } });
  source.addEventListener('open', () => {
    if (silent) document.querySelector('.toast')?.remove();
    silent = false;
    if (session.state) session.refresh();
  });
  source.addEventListener('error', () => {
    if (!silent) toast(SILENT, null, true);
    silent = true;
  });
  // a page kept for going back must not keep one of the few connections a browser allows
  addEventListener('pagehide', () => source.close());
  addEventListener('pageshow', event => { if (event.persisted) location.reload(); });
}
