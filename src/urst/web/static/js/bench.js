// The bench: brings clock, strata, stage, recipe and gauges together.
import './theme.js';
import { getJson, post, Refused, seen as before, SILENT } from './api.js';
import { between, paceAt } from './between.js';
import { Clock } from './clock.js';
import { Curves } from './curves.js';
import { Frames } from './frames.js';
import { Gauges } from './gauges.js';
import { TRAIL } from './insight.js';
import { Loader } from './loader.js';
import { Palette } from './palette.js';
import { Panel } from './panel.js';
import { TELLING } from './slice.js';
import { Stage, SUN } from './stage.js';
import { Strata } from './strata.js';
import { View } from './view.js';

const bench = document.querySelector('.bench');
const shotId = bench.dataset.shot, base = `/shots/${shotId}`;
const $ = id => document.getElementById(id);

const QUALITY = `urst-quality-${shotId}`;
// What the page knows and does at the moment.
const now = {
  // health, gauges, findings and runs, as the server told them last; what the stage must know of the set
  state: null, meta: null,
  // id of the layer that is worked on
  chosen: bench.dataset.layer,
  // the last news of a running bake
  latest: null,
  // an earlier state that is looked at in place of the present one, never changed
  against: null,
  // results of the shot's own quality or drafts, never both in view; live bakes a draft at each change
  quality: localStorage.getItem(QUALITY) === 'draft' ? 'draft' : 'shot', live: false,
  // number of the finding that was gone to last
  findingAt: -1,
  // the answer that is under way, and whether the server has fallen silent
  refreshing: null, silent: false,
};
const clock = new Clock();
const loader = new Loader();
const frames = new Frames(loader, () => show(), key => {
  const id = now.state?.layers.find(x => x.key === key)?.id, domain = now.meta?.domains[id];
  return domain ? { cell: domain.cell, shades: now.meta.shades[id] || [], look: { ...now.meta.look, sun: { x: SUN.x, y: SUN.y, z: SUN.z } } } : {};
});
const stage = new Stage($('stage'), shotId, loader);
const strata = new Strata($('strata'), clock, {
  choose, reveal: revealLayer, alone, inView, add: () => palette.open('Add a '), move: (id, to) => arrange(`layers/${id}/move`, { to }),
});
const curves = new Curves($('recipe'), {
  base, layer: () => (panel.name === 'set' ? '' : now.chosen), frame: () => clock.frame, range: () => clock, cues: () => now.state?.cues || [], quality: () => now.quality,
  shown: () => (now.state?.layers || []).filter(x => x.done).map(x => `${x.id}:${x.key}`).join(','),
});
const panel = new Panel($('recipe'), base, () => now.chosen, () => { if (now.state) { header(); curves.mount(); } });
const view = new View(stage, clock, {
  base, state: () => now.state, meta: () => now.meta, quality: () => now.quality, chosen: () => now.chosen, show: () => show(), act, toast, baked, see: seeFrame,
  openPiece: number => takePiece(number), results: () => takePiece(null),
});
const gauges = new Gauges($('gauges'), clock, number => act(`mend/${number}`, { quality: now.quality }), finding => { choose(finding.layer); clock.go(finding.frame); },
  (finding, reason) => act('accepted', { known: finding.known, layer: finding.layer || '', reason }));

// Layers of which something is on disk, by what the stage draws of them.
const drawn = representation => now.state.layers.filter(x => x.representation === representation && x.done && inView(x));
const layer = () => now.state.layers.find(x => x.id === now.chosen) || now.state.layers[0];

// link: { text, href } of a file that is offered; it stays longer
function toast(text, link = null, lasts = false) {
  document.querySelector('.toast')?.remove();
  const node = document.createElement('div');
  node.className = 'toast';
  node.setAttribute('role', 'alert');
  node.textContent = text;
  if (link) {
    const offered = Object.assign(document.createElement('a'), { textContent: link.text, href: link.href, className: 'ml-2' });
    offered.setAttribute('download', '');
    node.append(offered);
  }
  document.body.append(node);
  if (!lasts) setTimeout(() => node.remove(), link ? 20000 : 7000);
  return node;
}

async function act(path, fields, then = () => {}) {
  const changes = !/^(bake|stop)/.test(path), left = Boolean(now.against);
  now.against = null;
  try {
    then(await post(`${base}/${path}`, fields));
    await refresh(changes || left, changes);
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    toast(error.message);
    // what was typed over the stage stands as it was
    if (now.meta) view.load();
  }
}

// Undo or redo; where it was somebody else's change, that is said.
const retrace = way => act(`history/${way}`, undefined, reply => {
  if (reply.elsewhere) toast(`${way === 'undo' ? 'Undone' : 'Done again'}, and made in another browser: ${reply.what}. ${way === 'undo' ? 'Redo' : 'Undo'} takes that back.`);
});

// A change of the list of layers; the layer it is about is worked on from then on.
const arrange = (path, fields) => act(path, fields, reply => work(reply.layer));
const kinds = bench.dataset.kinds.split(' ').map(x => x.split(':'));
const add = kind => arrange('layers', { kind });
const copyLayer = () => now.chosen && arrange(`layers/${now.chosen}/copy`);
function removeLayer() {
  if (!now.chosen) return;
  const { name } = layer();
  act(`layers/${now.chosen}/remove`, undefined, reply => {
    work(reply.layer);
    toast(`${name} is taken out. Undo (Ctrl Z) brings it back, with what was baked.`);
  });
}
function shift(by) {
  const at = now.state.layers.findIndex(x => x.id === now.chosen), to = at + by;
  if (to >= 0 && to < now.state.layers.length) arrange(`layers/${now.chosen}/move`, { to });
}

// Layers left out of the view, on this browser.
const HIDDEN = `urst-hidden-${shotId}`;
const hidden = new Set(JSON.parse(localStorage.getItem(HIDDEN) || '[]'));
function inView(x) { return !hidden.has(x.id); }
function revealLayer(id) {
  if (!hidden.delete(id)) hidden.add(id);
  seen();
}
function alone(id) {
  const others = now.state.layers.map(x => x.id).filter(x => x !== id);
  const already = !hidden.has(id) && others.every(x => hidden.has(x));
  hidden.clear();
  if (!already) for (const x of others) hidden.add(x);
  seen();
}
function seen() {
  localStorage.setItem(HIDDEN, JSON.stringify([...hidden]));
  strata.draw(now.state, now.chosen);
  show();
}

// What was asked for while an answer is under way is asked for once more after it, so that the last word is the newest.
const due = { again: false, stage: true, panel: false };

// `panel`: whether the panel on the left shows what was before and must be asked for anew.
function refresh(documentChanged = false, panel = documentChanged) {
  due.again = true;
  due.stage ||= documentChanged;
  due.panel ||= panel;
  now.refreshing ||= (async () => {
    try {
      while (due.again) {
        try { await ask(); } catch (error) {
          // an earlier state that is gone, such as a version just forgotten, gives way to the present one
          due.stage = true;
          if (!now.against || !(error instanceof Refused)) throw error;
          now.against = null;
          due.again = true;
          toast(error.message);
        }
      }
    } finally { now.refreshing = null; }
  })();
  return now.refreshing;
}

async function ask() {
  due.again = false;
  if (due.stage) {
    due.stage = false;
    const shades = now.meta?.shades || {};
    now.meta = await getJson(`${base}/stage?quality=${now.quality}&at=${now.against?.at || ''}`);
    for (const x of now.state?.layers || []) if (JSON.stringify(shades[x.id]) !== JSON.stringify(now.meta.shades[x.id])) frames.forget(x.key);
    stage.clear();
    await stage.load(now.meta);
    view.load();
  }
  const asked = now.quality, seen = now.against, got = await getJson(`${base}/state?quality=${asked}&at=${seen?.at || ''}`);
  if (asked !== now.quality || seen !== now.against) return;
  now.state = got;
  before.revision = seen ? before.revision : got.revision;
  // undo may have taken the layer away that was worked on
  if (!due.again && !now.against && layer()?.id !== now.chosen) work(now.state.layers[0]?.id || '');
  if (due.panel && !due.again) {
    due.panel = false;
    panel.again();
  }
  // a page opened in mid-bake goes by what the run has told so far
  const told = now.latest || now.state.runs.map(r => r.progress).find(p => p.layer);
  markRunning(now.state.runs.length ? told : null);
  clock.range(now.state.start, now.state.end, now.state.rate);
  clock.paces = now.meta?.played ?? null;
  stage.topSpeed = Math.max(4, Math.ceil(Math.max(0, ...['bodies', 'points'].flatMap(drawn).flatMap(x => x.gauges.top_speed || []))));
  strata.draw(now.state, now.chosen);
  gauges.draw(now.state, layer());
  header();
  curves.mount();
  show();
}

// A piece in hand is shown with the set as it stands; without one the results are seen again.
function takePiece(number) {
  view.measure.take(number);
  if (number !== null) panel.set(number);
  else if (panel.name === 'set') panel.recipe();
  show();
}

function work(id) {
  now.chosen = id;
  history.replaceState(null, '', id ? `${base}?layer=${id}` : base);
}

// This against before.
async function see(path) {
  try {
    now.against = path ? await getJson(`${base}/${path}`) : null;
    await refresh(true, false);
  } catch (error) {
    if (!(error instanceof Refused)) throw error;
    toast(error.message);
  }
  const box = $('against');
  box.hidden = !now.against;
  if (!now.against) return;
  box.replaceChildren(...[now.against.name, ...(now.against.differs.length ? now.against.differs : ['nothing differs'])].map((text, i) => {
    const line = document.createElement(i ? 'p' : 'b');
    line.textContent = text;
    return line;
  }));
}
const flip = () => see(now.against ? '' : `before?quality=${now.quality}`);
const keepVersion = () => panel.versions('POST');

function setQuality(to) {
  if (now.quality === to) return refresh();
  now.quality = to;
  localStorage.setItem(QUALITY, to);
  now.latest = null;
  return refresh(true, false).catch(error => toast(error.message));
}
function setLive(on) {
  now.live = on;
  if (on) bakeLive(); else header();
}
// The bake is asked for first, the page follows.
function bakeLive() {
  if (!now.chosen) { refresh(true, false); return; }
  now.quality = 'draft';
  localStorage.setItem(QUALITY, now.quality);
  now.latest = null;
  post(`${base}/bake/${now.chosen}`, { quality: now.quality, instead: true }).catch(error => toast(error.message)).finally(() => refresh(true, false));
}

// The forecast of the quality that is worked at; the recipe comes with that of the shot's own.
function forecast() {
  const cost = layer()?.forecast;
  if (!cost) return;
  const size = bytes => { const i = bytes < 1e6 ? 0 : bytes < 1e9 ? 1 : 2; return `${(bytes / [1e3, 1e6, 1e9][i]).toFixed(1)} ${['kB', 'MB', 'GB'][i]}`; };
  const minutes = Math.floor(Math.round(cost.seconds) / 60), said = {
    count: Math.round(cost.count).toLocaleString('en').replaceAll(',', '\u2009'), memory: size(cost.memory), disk: size(cost.disk),
    seconds: `${minutes}:${String(Math.round(cost.seconds) % 60).padStart(2, '0')}`,
  };
  for (const node of document.querySelectorAll('[data-cost]')) node.textContent = said[node.dataset.cost];
}

// What is done before the first frame: kernels compiled, once on a machine; water coming to rest.
function preparing() {
  const p = now.state.runs.map(r => r.progress).find(x => x.doing);
  return p ? `${p.doing}: ${Math.floor((100 * p.done) / Math.max(1, p.total))} %` : '';
}

function header() {
  const { low, high } = stage.loose, tall = Math.max(0.01, high[2] - Math.max(0, low[2]));
  $('scale').innerHTML = `set <b class="num">${tall.toFixed(1)} m</b> tall, falls in <b class="num">${Math.sqrt(2 * tall / 9.81).toFixed(2)} s</b>`;
  const open = now.state.findings.filter(f => !f.accepted), n = open.length;
  $('findings-count').innerHTML = n ? `<b class="${open.some(f => f.grave) ? 'bad' : 'care'}">${n}</b> finding${n > 1 ? 's' : ''}` : 'no findings';
  const bytes = now.state.layers.reduce((a, x) => a + x.bytes, 0);
  $('store').innerHTML = `store <b class="num">${(bytes / 1e6).toFixed(bytes < 1e8 ? 1 : 0)} MB</b>`;
  $('against').hidden = !now.against;
  $('flip').setAttribute('aria-pressed', String(Boolean(now.against)));
  $('undo').disabled = !now.state.undo;
  $('redo').disabled = !now.state.redo;
  const busy = now.state.runs.length > 0, button = $('bake');
  if (button) {
    button.dataset.busy = busy;
    if (!button.dataset.text) button.dataset.text = button.innerHTML;
    const stopping = now.state.runs.some(r => r.stopping), waits = now.state.runs.every(r => r.state === 'queued');
    const doing = waits ? 'waits its turn behind other bakes' : preparing() || 'what is done is kept';
    button.innerHTML = busy ? (stopping ? 'Stopping…' : `Stop <small>${doing}</small>`) : button.dataset.text;
    button.disabled = stopping;
    for (const b of document.querySelectorAll('[data-quality]')) b.setAttribute('aria-pressed', String(b.dataset.quality === now.quality));
    $('live').setAttribute('aria-pressed', String(now.live));
    $('to-here').disabled = busy;
    forecast();
  }
}

// Draw the frame in view from whatever is baked.
function show() {
  if (!now.state) return;
  const building = view.measure.piece !== null, seen = representation => (building ? [] : drawn(representation));
  const f = clock.frame, bodies = seen('bodies'), points = seen('points'), volumes = seen('volume');
  // by speed a liquid is seen as what it is carried by, else as its surface, where there is one
  const carried = x => stage.mode === 'speed' && points.some(p => x.reads.includes(p.id) && p.frames.includes(f));
  const surfaces = seen('surface').filter(x => !carried(x));
  const moving = bodies.filter(x => x.moving), still = bodies.filter(x => !x.moving);
  const got = x => (x.frames.includes(f) ? frames.get(x.key, f) : null);
  const skinned = x => surfaces.some(s => s.reads.includes(x.id) && s.frames.includes(f));
  const before = stage.shown.trails ? [...Array(TRAIL)].map((_, n) => f - TRAIL + n) : [];
  const posed = moving.map(x => ({ layer: x, frame: partly(x, got(x), f), past: before.filter(g => frames.has(x.key, g)).map(g => frames.get(x.key, g)) }));
  // what is still on its way leaves the last picture standing
  if (posed.some(({ layer: x, frame }) => x.frames.includes(f) && !frame)) return;
  const shown = posed.filter(x => x.frame);
  const past = moving.length > 0 && !shown.length;
  const domains = volumes.length ? volumes.map(x => now.meta.domains[x.id]).filter(Boolean) : Object.values(now.meta.domains);
  const able = x => now.meta.sliced[x?.id] && x.frames.includes(f), wet = [layer(), ...now.state.layers].find(able);
  stage.show({
    wet: wet ? { key: wet.key, frame: f } : null, sliced: view.sliced(),
    at: f, posed: shown, still: shown.length ? [] : still, domains,
    points: points.filter(x => !skinned(x)).map(x => ({ layer: x, arrays: got(x) })).filter(x => x.arrays),
    surfaces: surfaces.map(x => ({ layer: x, arrays: got(x) })).filter(x => x.arrays),
    volumes: volumes.map(x => ({ layer: x, arrays: got(x), domain: now.meta.domains[x.id] })).filter(x => x.arrays && x.domain),
  }).then(legend).catch(error => toast(error.message));
  const ahead = [...moving, ...points, ...volumes, ...surfaces];
  frames.only(new Set(ahead.map(x => x.key)));
  for (const x of ahead) frames.ahead(x.key, x.frames, f, clock.playing ? 16 : 3);
  if (before.length) for (const x of moving) frames.ahead(x.key, x.frames, before[0], TRAIL);
  const stale = ahead.filter(x => x.state === 'stale').map(x => x.name);
  const told = building ? ['the set as it stands (Esc: results)'] : [now.quality === 'draft' ? 'draft' : '', clock.paces ? `played at ${paceAt(clock.paces, clock.start, f).toPrecision(2)}` : '', stale.length ? `${stale.join(', ')} stale` : ''].filter(Boolean);
  $('stamp').hidden = !told.length;
  $('stamp').textContent = told.join(' · ');
  const none = !ahead.some(x => x.frames.includes(f)), any = ahead.length + still.length > 0;
  $('notice').hidden = building || !(past || (none && !still.length));
  $('notice').textContent = now.state.runs.length ? (preparing() ? `Baking begins soon: ${preparing()}.` : now.state.runs.some(r => r.state === 'running') ? 'The first frames are being baked.' : 'The bake waits its turn in the queue.') : any
    ? `Frame ${f} is not baked yet.` : 'Nothing is baked yet: this is the set as it stands. Press Bake.';
  legend();
}

// A frame, or bodies between it and the next while time is stretched.
function partly(x, frame, f) {
  return frame && clock.share > 0 && frames.has(x.key, f + 1) ? between(frame, frames.get(x.key, f + 1), 1 / clock.rate, clock.share) : frame;
}

// The range of frames that something in view is baked for, else the shot's.
function baked() {
  const frames = now.state.layers.filter(x => x.moving && x.done && inView(x)).flatMap(x => x.frames);
  return frames.length ? { first: Math.min(...frames), last: Math.max(...frames) } : { first: now.state.start, last: now.state.end };
}

// Resolves when a frame has been drawn, or when there is nothing of it to draw.
async function seeFrame(frame) {
  clock.go(frame);
  while (!clock.ready(frame)) await new Promise(done => { setTimeout(done, 20); });
  const before = stage.element.dataset.drawn;
  show();
  while (stage.element.dataset.drawn === before) await new Promise(requestAnimationFrame);
  await stage.settled;
}

function legend() {
  const box = $('legend'), mode = stage.mode;
  const top = stage.topSpeed, scale = {
    speed: ['speed, m/s', [0, top / 3, 2 * top / 3, top].map(x => Math.round(x))],
    strain: ['bond load, % of strength', [0, 33, 67, 100]],
    load: ['pressed by, x its weight', [0, 4, 21, 100]],
  }[mode];
  const plane = stage.slice.told;
  if (plane) { box.hidden = false; box.replaceChildren(...onPlane(plane)); return; }
  const sorts = mode === 'fragment' && now.meta.sorts[now.chosen];
  if (sorts) { box.hidden = false; box.replaceChildren(...sorts.map(([text, colour]) => kindOf(text, colour))); return; }
  box.hidden = !scale;
  if (!scale) return;
  const [what, ticks] = scale;
  box.innerHTML = `${what}<div class="ramp"></div><div class="ticks">${ticks.map(t => `<span>${t}</span>`).join('')}</div>`;
}

// A patch of colour, and what it is for.
function kindOf(text, colour) {
  const row = document.createElement('div'), patch = document.createElement('i');
  row.className = 'kind-of';
  patch.style.background = colour;
  row.append(patch, text);
  return row;
}

// What the colours of a plane mean.
function onPlane({ of, most, labels }) {
  const { title, unit } = Object.values(now.meta.sliced).flat().find(s => s.name === of), bar = document.createElement('div'), ticks = document.createElement('div');
  if (labels.length) return labels.map((text, n) => kindOf(text, TELLING[n]));
  bar.className = 'ramp';
  ticks.className = 'ticks';
  ticks.append(...[0, 1, 2].map(n => Object.assign(document.createElement('span'), { textContent: String(Number(((most * n) / 2).toPrecision(3))) })));
  return [`${title}, ${unit}`, bar, ticks];
}

function choose(id) {
  work(id);
  view.measure.take(null);
  view.frame();
  panel.recipe();
  strata.draw(now.state, now.chosen);
  gauges.draw(now.state, layer());
}

function bake() {
  if (now.state.runs.length) act('stop');
  else if (now.chosen) { now.latest = null; act(`bake/${now.chosen}`, { quality: now.quality }); }
}

function bakeToHere() {
  if (now.state.runs.length || !now.chosen) return;
  now.latest = null;
  act(`bake/${now.chosen}`, { quality: now.quality, to: clock.frame });
}

// The layer before or after the one that is worked on.
function step(by) {
  const next = now.state.layers[now.state.layers.findIndex(x => x.id === now.chosen) + by];
  if (next) choose(next.id);
}

function jump(way) {
  const marks = [...new Set([now.state.start, ...now.state.cues.map(c => c.frame), now.state.end])].sort((a, b) => a - b);
  const next = way > 0 ? marks.find(m => m > clock.frame) : marks.findLast(m => m < clock.frame);
  if (next !== undefined) clock.go(next);
}

function nextFinding() {
  const found = now.state.findings.filter(f => f.layer && !f.accepted);
  if (!found.length) return;
  now.findingAt = (now.findingAt + 1) % found.length;
  choose(found[now.findingAt].layer);
  if (found[now.findingAt].frame !== null) clock.go(found[now.findingAt].frame);
}

function addCue() { act('cues', { frame: clock.frame }); }

const palette = new Palette($('palette'), () => [
  { name: 'Play or pause', key: 'Space', run: () => clock.toggle() },
  { name: 'Bake this layer, or stop', key: 'Ctrl Enter', run: bake },
  { name: 'Bake to the frame in view', key: 'Ctrl Shift Enter', run: bakeToHere },
  { name: now.quality === 'draft' ? 'Results of the shot\'s own quality' : 'Drafts', key: 'Q', run: () => setQuality(now.quality === 'draft' ? 'shot' : 'draft') },
  { name: now.live ? 'Live off' : 'Live: bake a draft at each change', key: 'L', run: () => setLive(!now.live) },
  { name: now.against ? 'Back to the present state' : 'This against before', key: 'B', run: flip },
  { name: 'Keep a version', key: 'K', run: keepVersion },
  { name: 'Versions', run: () => panel.versions() },
  { name: 'Next cue', key: 'Ctrl →', run: () => jump(1) },
  { name: 'Cue before', key: 'Ctrl ←', run: () => jump(-1) },
  { name: 'Next finding', key: 'F8', run: nextFinding },
  { name: 'Undo', key: 'Ctrl Z', run: () => retrace('undo') },
  { name: 'Redo', key: 'Ctrl Shift Z', run: () => retrace('redo') },
  { name: 'Add a cue at this frame', run: addCue },
  ...view.commands(),
  ...kinds.map(([kind, title]) => ({ name: `Add a ${title} layer`, run: () => add(kind) })),
  ...now.state.layers.map(x => ({ name: `Work on ${x.name}`, run: () => choose(x.id) })),
  ...now.state.layers.map(x => ({ name: `${inView(x) ? 'Hide' : 'Show'} ${x.name}`, key: x.id === now.chosen ? 'H' : '', run: () => revealLayer(x.id) })),
  ...(layer() ? [
    { name: `Show ${layer().name} alone, or all`, key: 'S', run: () => alone(now.chosen) },
    { name: `Copy ${layer().name}`, key: 'Ctrl D', run: copyLayer },
    { name: `Remove ${layer().name}`, key: 'Del', run: removeLayer },
    { name: `Put ${layer().name} one up`, key: 'Alt ↑', run: () => shift(-1) },
    { name: `Put ${layer().name} one down`, key: 'Alt ↓', run: () => shift(1) },
  ] : []),
  { name: 'Set pieces and frame range', run: () => panel.set() },
  { name: 'Hand over files', run: () => { location.href = `${base}/handover`; } },
  { name: 'Light or dark', run: () => document.querySelector('[data-theme-switch]').click() },
  { name: 'Queue', run: () => { location.href = '/queue'; } },
  { name: 'All shots', run: () => { location.href = '/'; } },
]);

document.addEventListener('keydown', event => {
  if (!now.state) return;
  const typing = event.target.matches('input:not([type="range"]), select, textarea');
  const control = event.ctrlKey || event.metaKey;
  if (control && event.key === 'Enter') { event.preventDefault(); event.target.blur?.(); (event.shiftKey ? bakeToHere : bake)(); return; }
  if (control && event.key.toLowerCase() === 'k') { event.preventDefault(); palette.open(); return; }
  if (event.key === 'F8') { event.preventDefault(); nextFinding(); return; }
  if (typing) return;
  if (control && event.key.toLowerCase() === 'd') { event.preventDefault(); copyLayer(); return; }
  if (control && event.key.toLowerCase() === 'z') { event.preventDefault(); retrace(event.shiftKey ? 'redo' : 'undo'); return; }
  if (event.key === 'Escape' && view.putDown()) { event.preventDefault(); return; }
  const keys = {
    ' ': () => clock.toggle(), ArrowRight: () => (control ? jump(1) : clock.go(clock.frame + (event.shiftKey ? 10 : 1))),
    ArrowLeft: () => (control ? jump(-1) : clock.go(clock.frame - (event.shiftKey ? 10 : 1))),
    ArrowUp: () => (event.altKey ? shift(-1) : step(-1)), ArrowDown: () => (event.altKey ? shift(1) : step(1)), Delete: removeLayer,
    q: () => setQuality(now.quality === 'draft' ? 'shot' : 'draft'), l: () => setLive(!now.live),
    b: flip, k: keepVersion, ...view.keys(),
    a: () => palette.open('Add a '), h: () => now.chosen && revealLayer(now.chosen), s: () => now.chosen && alone(now.chosen),
  };
  if (keys[event.key] && !event.target.matches('input[type="range"]') && !(event.key === ' ' && event.target.matches('button, a'))) {
    event.preventDefault();
    keys[event.key]();
  }
});

$('set').addEventListener('click', () => panel.set());
$('recipe').addEventListener('change', event => { if (event.target.matches('[data-piece]')) takePiece(Number(event.target.value)); });
$('recipe').addEventListener('click', event => {
  if (event.target.closest('#bake')) bake();
  const version = event.target.closest('[data-see], [data-back]');
  if (version?.dataset.see) see(`versions/${version.dataset.see}/seen`);
  if (version?.dataset.back) act(`versions/${version.dataset.back}/back`);
  if (event.target.closest('[data-quality]')) setQuality(event.target.closest('[data-quality]').dataset.quality);
  if (event.target.closest('#live')) setLive(!now.live);
  if (event.target.closest('#to-here')) bakeToHere();
  if (event.target.closest('[data-copy]')) copyLayer();
  if (event.target.closest('[data-remove]')) removeLayer();
  if (event.target.closest('[data-add]')) add(event.target.closest('[data-add]').dataset.add);
  if (event.target.closest('#add-cue')) addCue();
  const camera = event.target.closest('[data-camera]');
  if (camera) view.useView(camera.dataset.camera === 'new');
});
$('commands').addEventListener('click', () => palette.open());
$('flip').addEventListener('click', flip);
$('versions').addEventListener('click', () => panel.versions());
$('undo').addEventListener('click', () => retrace('undo'));
$('redo').addEventListener('click', () => retrace('redo'));
$('findings-count').addEventListener('click', nextFinding);
$('import').addEventListener('click', () => $('import-form').elements.file.click());
$('import-form').elements.file.addEventListener('change', async event => {
  const [file] = event.target.files, body = new FormData(), stop = new AbortController(), began = Date.now();
  body.append('file', file);
  event.target.value = '';
  // reading a large file takes a while: how long it has been, and a way to end it
  const node = toast('', null, true), words = document.createElement('span');
  const end = Object.assign(document.createElement('button'), { textContent: 'Stop', className: 'chip ml-3' });
  const tell = () => { words.textContent = `Reading ${file.name}, ${Math.round((Date.now() - began) / 1000)} s`; };
  const clock = setInterval(tell, 500);
  tell();
  node.append(words, end);
  end.addEventListener('click', () => stop.abort());
  try {
    const response = await fetch(`${base}/meshes`, { method: 'POST', body, signal: stop.signal, headers: { accept: 'application/json' } });
    node.remove();
    if (!response.ok) toast((await response.json()).message);
    else await refresh(true);
  } catch (error) {
    node.remove();
    toast(error.name === 'AbortError' ? `Reading ${file.name} was stopped; nothing was added.` : SILENT);
  } finally {
    clearInterval(clock);
  }
});
document.body.addEventListener('shot-changed', () => { now.against = null; });
document.body.addEventListener('shot-changed', () => (now.live ? bakeLive() : refresh(true, false)));
document.body.addEventListener('htmx:sendError', () => toast(SILENT));
document.body.addEventListener('htmx:responseError', event => toast(JSON.parse(event.detail.xhr.responseText).message));
addEventListener('resize', () => { if (now.state) strata.draw(now.state, now.chosen); });

clock.onFrame(show);
clock.onFrame(() => { curves.frameChanged(); view.frame(); });
clock.ready = frame => {
  if (frame > clock.end) return true;
  const moving = now.state.layers.filter(x => x.moving && x.representation && x.done && x.frames.includes(frame));
  return moving.every(x => { frames.get(x.key, frame); return frames.ready(x.key, frame); });
};
// what comes too slowly to be played is played more coarsely; at rest all is seen again
clock.late = () => { frames.level = Math.min(2, frames.level + 1); };
clock.onFrame(() => { if (!clock.playing && frames.level) { frames.level = 0; show(); } });

// Layers that act on each other are baked together, so news of one is news of all.
function markRunning(news) {
  if (news && now.state.layers.find(x => x.id === news.layer)?.wanted !== news.key) news = null;
  for (const x of now.state.layers) {
    const mine = news && news.done < news.total && (x.id === news.layer || x.together.includes(news.layer));
    x.running = mine ? news : null;
  }
}

// Progress as it happens. A frame's news is small, so the strata grow from it without asking again.
const source = new EventSource(`/events?shot=${shotId}`);
// A change that somebody else has made; one's own is known by the time this looks.
source.addEventListener('document', event => {
  const { revision } = JSON.parse(event.data);
  setTimeout(() => { if (now.state && now.state.revision !== revision) refresh(true, false); }, 600);
});
source.addEventListener('frame', event => {
  if (!now.state) return;
  const news = JSON.parse(event.data), x = now.state.layers.find(l => l.id === news.layer);
  if (!x) return;
  // what is baked of another quality, or of the document as it was, changes nothing here
  if (news.key !== x.wanted) return;
  markRunning(now.latest = news);
  if (x.key !== news.key || !x.moving || x.state === 'absent' || x.state === 'stale') {
    if (!source.due) source.due = setTimeout(() => { source.due = null; refresh(); }, 150);
    return;
  }
  if (!x.frames.includes(news.frame)) {
    x.frames.push(news.frame);
    for (const [name, values] of Object.entries(x.gauges)) values.push(news.gauges[name] ?? 0);
  }
  x.done = x.frames.length;
  x.state = x.done >= x.total ? 'fresh' : 'partial';
  strata.draw(now.state, now.chosen);
  if (x.id === now.chosen) gauges.draw(now.state, x);
  if (news.frame === clock.frame) show();
});
source.addEventListener('state', () => { if (now.state) { now.latest = null; refresh(); } });
source.addEventListener('open', () => {
  if (now.silent) document.querySelector('.toast')?.remove();
  now.silent = false;
  if (now.state) refresh();
});
source.addEventListener('error', () => {
  if (!now.silent) toast(SILENT, null, true);
  now.silent = true;
});
// a page kept for going back must not keep one of the few connections a browser allows
addEventListener('pagehide', () => source.close());
addEventListener('pageshow', event => { if (event.persisted) location.reload(); });

refresh().catch(error => toast(error.message));
