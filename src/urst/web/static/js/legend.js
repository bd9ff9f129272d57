// What the colours on the stage mean.
import { byId } from './page.js';
import { TELLING } from './slice.js';

/** @import { Session } from './session.js' */
/** @import { Stage } from './stage.js' */

/**
 * @param {Session} session
 * @param {Stage} stage
 */
export function legend(session, stage) {
  const box = byId('legend'), { mode, topSpeed: top } = stage, plane = stage.slice.told;
  const sorts = mode === 'fragment' && session.meta.sorts[session.chosen];
  const scale = /** @type {Record<string, [string, number[]]>} */ ({
    speed: ['speed, m/s', [0, top / 3, 2 * top / 3, top].map(x => Math.round(x))],
    strain: ['bond load, % of strength', [0, 33, 67, 100]],
    load: ['pressed by, x its weight', [0, 4, 21, 100]],
  })[mode];
  box.hidden = !plane && !sorts && !scale;
  if (plane) box.replaceChildren(...onPlane(session, plane));
  else if (sorts) box.replaceChildren(...sorts.map(([text, colour]) => patch(text, colour)));
  else if (scale) {
    const [what, ticks] = scale;
    box.innerHTML = `${what}<div class="ramp"></div><div class="ticks">${ticks.map(t => `<span>${t}</span>`).join('')}</div>`;
  }
}

/**
 * A patch of colour, and what it is for.
 * @param {string} text
 * @param {string} colour
 */
function patch(text, colour) {
  const row = document.createElement('div'), spot = document.createElement('i');
  row.className = 'kind-of';
  spot.style.background = colour;
  row.append(spot, text);
  return row;
}

/**
 * @param {Session} session
 * @param {{ of: string, most: number, labels: string[] }} plane
 */
function onPlane(session, { of, most, labels }) {
  if (labels.length) return labels.map((text, n) => patch(text, TELLING[n]));
  const shown = Object.values(session.meta.sliced).flat().find(s => s.name === of);
  const bar = document.createElement('div'), ticks = document.createElement('div');
  bar.className = 'ramp';
  ticks.className = 'ticks';
  ticks.append(...[0, 1, 2].map(n => Object.assign(document.createElement('span'), { textContent: String(Number(((most * n) / 2).toPrecision(3))) })));
  return [`${shown?.title}, ${shown?.unit}`, bar, ticks];
}
