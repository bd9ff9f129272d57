// The line over the bench and the foot of the recipe: sizes, findings, room on disk, cost, what may be pressed.
import { all, button, byId } from './page.js';

/** @import { Session } from './session.js' */
/** @import { Stage } from './stage.js' */

const GRAVITY = 9.81;

/**
 * @param {Session} session
 * @param {Stage} stage
 */
export function header(session, stage) {
  const { state } = session, { low, high } = stage.loose, tall = Math.max(0.01, high[2] - Math.max(0, low[2]));
  byId('scale').innerHTML = `set <b class="num">${tall.toFixed(1)} m</b> tall, falls in <b class="num">${Math.sqrt(2 * tall / GRAVITY).toFixed(2)} s</b>`;
  const open = state.findings.filter(f => !f.accepted), n = open.length;
  byId('findings-count').innerHTML = n ? `<b class="${open.some(f => f.grave) ? 'bad' : 'care'}">${n}</b> finding${n > 1 ? 's' : ''}` : 'no findings';
  const bytes = state.layers.reduce((a, x) => a + x.bytes, 0);
  byId('store').innerHTML = `store <b class="num">${(bytes / 1e6).toFixed(bytes < 1e8 ? 1 : 0)} MB</b>`;
  byId('flip').setAttribute('aria-pressed', String(Boolean(session.against)));
  button('undo').disabled = !state.undo;
  button('redo').disabled = !state.redo;
  against(session);
  if (button('bake')) bakes(session);
}

/**
 * What differs in an earlier state that is looked at.
 * @param {Session} session
 */
function against({ against: earlier }) {
  const box = byId('against');
  box.hidden = !earlier;
  if (!earlier) return;
  box.replaceChildren(...[earlier.name, ...(earlier.differs.length ? earlier.differs : ['nothing differs'])].map((text, i) => {
    const line = document.createElement(i ? 'p' : 'b');
    line.textContent = text;
    return line;
  }));
}

/** @param {Session} session */
function bakes(session) {
  const { runs } = session.state, busy = runs.length > 0, bake = button('bake');
  bake.dataset.busy = String(busy);
  bake.dataset.text ||= bake.innerHTML;
  const stopping = runs.some(r => r.stopping), waits = runs.every(r => r.state === 'queued');
  const doing = waits ? 'waits its turn behind other bakes' : session.preparing() || 'what is done is kept';
  bake.innerHTML = busy ? (stopping ? 'Stopping…' : `Stop <small>${doing}</small>`) : bake.dataset.text;
  bake.disabled = stopping;
  for (const b of all('[data-quality]')) b.setAttribute('aria-pressed', String(b.dataset.quality === session.quality));
  byId('live').setAttribute('aria-pressed', String(session.live));
  button('to-here').disabled = busy;
  forecast(session);
}

/**
 * The forecast of the quality that is worked at; the recipe comes with that of the shot's own.
 * @param {Session} session
 */
function forecast(session) {
  const cost = session.layer?.forecast;
  if (!cost) return;
  const minutes = Math.floor(Math.round(cost.seconds) / 60);
  /** @type {Record<string, string>} */
  const said = {
    count: Math.round(cost.count).toLocaleString('en').replaceAll(',', '\u2009'), memory: size(cost.memory), disk: size(cost.disk),
    seconds: `${minutes}:${String(Math.round(cost.seconds) % 60).padStart(2, '0')}`,
  };
  for (const node of all('[data-cost]')) node.textContent = said[node.dataset.cost || ''];
}

/** @param {number} bytes */
function size(bytes) {
  const i = bytes < 1e6 ? 0 : bytes < 1e9 ? 1 : 2;
  return `${(bytes / [1e3, 1e6, 1e9][i]).toFixed(1)} ${['kB', 'MB', 'GB'][i]}`;
}
