// What is under the pointer: name, mass, speed, bonds; of water how deep, its pressure and its speed.
import { getJson } from './api.js';

/** @import { Bodies } from './bodies.js' */
/** @import { Stage } from './stage.js' */
/** @typedef {{ away: number, readings: { label: string, value: number, unit: string }[] }} Met what the way to the pointer meets of a liquid */

export class Probe {
  /**
   * @param {Stage} stage
   * @param {HTMLElement} box
   */
  constructor(stage, box) {
    this.stage = stage;
    this.box = box;
    /** @type {Met | null} */
    this.wet = null;
    /** where the pointer was last @type {MouseEvent | null} */
    this.last = null;
    this.asking = false;
    const canvas = stage.renderer.domElement;
    let busy = false;
    canvas.addEventListener('pointermove', event => {
      if (busy || event.buttons) { box.hidden = true; return; }
      busy = true;
      requestAnimationFrame(() => { busy = false; this.at(event); });
    });
    canvas.addEventListener('pointerleave', () => { box.hidden = true; this.wet = null; });
  }

  /** @param {MouseEvent} event */
  at(event) {
    const { box: probe, stage } = this, hit = stage.hit(event);
    this.last = event;
    this.water(event, hit ? hit.distance : null);
    if (this.wet && (!hit || this.wet.away < hit.distance)) return;
    probe.hidden = !hit;
    if (!hit) return;
    const x = hit.bodies.info[hit.body];
    this.say(event, x.parts > 1 ? `${x.name} · fragment ${x.number}` : x.name, [...weight(hit), ...bondsLeft(hit)]);
  }

  /**
   * Ask what the way to the pointer first meets of a liquid; one question at a time, the last one again if the pointer has
   * moved on.
   * @param {MouseEvent} event
   * @param {number | null} until
   */
  async water(event, until) {
    const { stage } = this;
    if (!stage.wet) { this.wet = null; return; }
    if (this.asking) return;
    this.asking = true;
    try {
      const { origin, direction } = stage.eye.ray(event), { x, y, z, w } = stage.cut;
      // what is cut away is not met
      const slope = x * direction.x + y * direction.y + z * direction.z, out = -(x * origin.x + y * origin.y + z * origin.z + w);
      const skipped = out > 0 && slope > 0 ? out / slope : 0, eye = origin.clone().addScaledVector(direction, skipped);
      const found = await getJson(`/data/${stage.wet.key}/probe/${stage.wet.frame}?eye=${eye.toArray()}&way=${direction.toArray()}${until ? `&until=${until - skipped}` : ''}`);
      const was = this.wet;
      this.wet = found.readings ? { away: found.away + skipped, readings: found.readings } : null;
      if (this.wet) this.say(this.last || event, 'Water', this.wet.readings.map(t => `<span class="num">${t.value.toFixed(2)} ${t.unit}</span> ${t.label}`));
      else if (was) this.box.hidden = true;
    } catch {
      this.wet = null;
    } finally {
      this.asking = false;
    }
    if (this.last && this.last !== event && !this.box.hidden) this.at(this.last);
  }

  /**
   * @param {MouseEvent} event
   * @param {string} name
   * @param {string[]} lines
   */
  say(event, name, lines) {
    const { box: probe, stage } = this, title = document.createElement('b');
    probe.hidden = false;
    title.className = 'font-semibold';
    title.textContent = name;
    probe.replaceChildren(title);
    for (const line of lines) probe.insertAdjacentHTML('beforeend', `<br>${line}`);
    const box = stage.element.getBoundingClientRect();
    probe.style.left = `${Math.min(event.clientX - box.left + 14, box.width - 200)}px`;
    probe.style.top = `${Math.min(event.clientY - box.top + 14, box.height - 90)}px`;
  }
}

/**
 * Mass and speed of a body, or its volume before it has a mass.
 * @param {{ bodies: Bodies, body: number }} hit
 */
function weight({ bodies, body }) {
  const { mass, volume } = bodies.info[body], v = bodies.frame?.velocity;
  if (mass === undefined) return volume === undefined ? [] : [`<span class="num">${(volume * 1000).toPrecision(3)} L</span>`];
  const speed = v ? Math.hypot(v[3 * body], v[3 * body + 1], v[3 * body + 2]) : 0;
  return [`<span class="num">${mass >= 1000 ? `${(mass / 1000).toFixed(2)} t` : `${mass.toPrecision(3)} kg`} &nbsp; ${speed.toFixed(1)} m/s</span>`];
}

/**
 * How many of its bonds are left, and how much the one is loaded that is loaded most.
 * @param {{ bodies: Bodies, body: number }} hit
 */
function bondsLeft({ bodies: { pair, bonds, frame }, body }) {
  const alive = frame?.bond_alive, loads = frame?.bond_load;
  if (!alive || !loads || !pair || !bonds?.[body]) return [];
  let left = 0, load = 0;
  pair.forEach((b, i) => {
    const bond = i >> 1;
    if (b === body && alive[bond]) { left += 1; load = Math.max(load, loads[bond]); }
  });
  return [`${left} of ${bonds[body]} bonds left${left ? `, loaded ${(100 * load).toFixed(0)} %` : ''}`];
}
