// The bench: brings session, clock, stage, strata, panel and gauges together.
import './theme.js';
import { SILENT } from './api.js';
import { Actions } from './actions.js';
import { Clock } from './clock.js';
import { Curves } from './curves.js';
import { Following } from './following.js';
import { Gauges } from './gauges.js';
import { header } from './header.js';
import { offerImport } from './importing.js';
import { Loader } from './loader.js';
import { legend } from './legend.js';
import { listen } from './news.js';
import { byId, first, target } from './page.js';
import { Panel } from './panel.js';
import { Session } from './session.js';
import { Showing } from './showing.js';
import { Stage } from './stage.js';
import { Strata } from './strata.js';
import { toast } from './toast.js';
import { View } from './view.js';

/** @import { Finding, Layer } from './types' */

// Speeds that the scale of colours ends at, at least [m/s].
const SLOW = 4;

const { shot = '', layer = '', kinds = '' } = first('.bench').dataset;
const session = new Session(shot, layer), clock = new Clock(), loader = new Loader();
const stage = new Stage(byId('stage'), shot, loader);
const panel = new Panel(byId('recipe'), session.base, () => session.chosen, () => { if (session.state) { header(session, stage); curves.mount(); } });
const view = new View(stage, clock, session, {
  show: () => showing.show(), baked: () => showing.baked(), see: frame => showing.see(frame), openPiece: takePiece, results: () => takePiece(null),
});
const showing = new Showing(session, stage, clock, view, loader);
const strata = new Strata(byId('strata'), clock, {
  choose, reveal: id => session.reveal(id), alone: id => session.alone(id), inView: x => session.inView(x), add: () => actions.palette.open('Add a '),
  move: (id, to) => session.arrange(`layers/${id}/move`, { to }),
});
const curves = new Curves(byId('recipe'), {
  base: session.base, layer: () => (panel.name === 'set' ? '' : session.chosen), frame: () => clock.frame, range: () => clock,
  cues: () => session.state?.cues || [], quality: () => session.quality,
  shown: () => (session.state?.layers || []).filter(x => x.done).map(x => `${x.id}:${x.key}`).join(','),
});
const gauges = new Gauges(byId('gauges'), clock, {
  mend: number => session.act(`mend/${number}`, { quality: session.quality }),
  go: finding => { choose(finding.layer || ''); clock.seek(finding.frame || 0); gauges.point(finding); },
  accept: (finding, reason) => session.act('accepted', { known: finding.known, layer: finding.layer || '', reason }),
});
const actions = new Actions(session, clock, panel, view, gauges, kinds.split(' ').map(x => x.split(':')), choose);

/** @param {string} id */
function choose(id) {
  session.work(id);
  view.measure.take(null);
  view.frame();
  panel.recipe();
  draw();
  if (session.meta) legend(session, stage);
}

/**
 * A piece in hand is shown with the set as it stands; without one the results are seen again.
 * @param {number | null} number
 */
function takePiece(number) {
  view.measure.take(number);
  if (number !== null) panel.set(number);
  else if (panel.name === 'set') panel.recipe();
  showing.show();
}

function draw() {
  strata.draw(session.state, session.chosen);
  gauges.draw(session.state, session.layer);
}

session.on('meta', async before => {
  showing.shadesChanged(before);
  stage.clear();
  await stage.load(session.meta);
  view.load();
});
session.on('panel', () => panel.again());
session.on('state', () => {
  const { start, end, rate } = session.state, moving = ['bodies', 'points'].flatMap(x => session.drawn(x));
  clock.range(start, end, rate);
  clock.paces = session.meta?.played ?? null;
  stage.topSpeed = Math.max(SLOW, Math.ceil(Math.max(0, ...moving.flatMap(x => (x.fastest ? x.gauges[x.fastest] : [])))));
  draw();
  header(session, stage);
  curves.mount();
  showing.show();
});
session.on('view', () => {
  strata.draw(session.state, session.chosen);
  header(session, stage);
  showing.show();
});
session.on('news', (/** @type {Layer} */ x, /** @type {number} */ frame) => {
  strata.draw(session.state, session.chosen);
  if (x.id === session.chosen) gauges.draw(session.state, x);
  if (frame === clock.frame) showing.show();
});
// what was typed over the stage stands as it was
session.on('refused', () => { if (session.meta) view.load(); });

clock.onFrame(() => { curves.frameChanged(); view.frame(); });
byId('recipe').addEventListener('change', event => {
  const menu = target(event);
  if (menu instanceof HTMLSelectElement && menu.matches('[data-piece]')) takePiece(Number(menu.value));
});
document.body.addEventListener('shot-changed', () => {
  session.against = null;
  if (session.live) session.bakeLive();
  else session.refresh(true, false);
});
document.body.addEventListener('htmx:sendError', () => { toast(SILENT); });
document.body.addEventListener('htmx:responseError', event => { toast(JSON.parse(/** @type {CustomEvent} */ (event).detail.xhr.responseText).message); });
addEventListener('resize', () => { if (session.state) strata.draw(session.state, session.chosen); });
new Following(session, clock);
offerImport(session);
listen(session);
session.refresh().catch(error => { toast(error.message); });
