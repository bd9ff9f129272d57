// What the colours on the stage mean, and switches for points of several kinds.
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
  const scale = /** @type {Record<string, [string, number[]]>} */ ({
    speed: ['speed, m/s', [0, top / 3, 2 * top / 3, top].map(x => Math.round(x))],
    strain: ['bond load, % of strength', [0, 33, 67, 100]],
    load: ['pressed by, x its weight', [0, 4, 21, 100]],
  })[mode];
  const sorts = !scale && session.drawn('points').some(x => x.id === session.chosen && x.done) && session.meta.sorts[session.chosen];
  box.hidden = !plane && !sorts && !scale;
  if (sorts && !plane) return switches(box, session.chosen, sorts, stage);
  box.dataset.of = '';
  if (plane) box.replaceChildren(...onPlane(session, plane));
  else if (scale) {
    const [what, ticks] = scale;
    box.innerHTML = `${what}<div class="ramp"></div><div class="ticks">${ticks.map(t => `<span>${t}</span>`).join('')}</div>`;
  } else box.replaceChildren();
}

/**
 * What kinds of points there are, each to be hidden or seen; rows that stand are kept, so that a key goes on working.
 * @param {HTMLElement} box
 * @param {string} layer
 * @param {[string, string][]} sorts
 * @param {Stage} stage
 */
function switches(box, layer, sorts, stage) {
  if (box.dataset.of !== layer) {
    box.dataset.of = layer;
    box.replaceChildren(...sorts.map(([text, colour], n) => {
      const row = document.createElement('button');
      row.type = 'button';
      row.title = `Show or hide ${text}`;
      row.append(patch(text, colour));
      row.addEventListener('click', () => {
        row.setAttribute('aria-pressed', String(stage.swarm(layer).flip(n)));
        stage.draw();
      });
      return row;
    }));
  }
  [...box.children].forEach((row, n) => row.setAttribute('aria-pressed', String(!stage.swarm(layer).hidden[n])));
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
