// Says why a hand-over was refused.
import { byId, target } from './page.js';

document.body.addEventListener('htmx:afterRequest', event => {
  if (!target(event).matches('[data-reload]')) return;
  const { successful, xhr } = /** @type {CustomEvent} */ (event).detail;
  byId('handover-fault').textContent = successful ? '' : JSON.parse(xhr.responseText).message;
});
