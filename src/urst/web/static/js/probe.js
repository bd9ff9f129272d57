// What is under the pointer: name, mass, speed, bonds; of water how deep, its pressure and its speed.
import { getJson } from './api.js';

export class Probe {
  constructor(stage, box) {
    Object.assign(this, { stage, box });
    const canvas = stage.renderer.domElement;
    let busy = false;
    canvas.addEventListener('pointermove', event => {
      if (busy || event.buttons) { box.hidden = true; return; }
      busy = true;
      requestAnimationFrame(() => { busy = false; this.at(event); });
    });
    canvas.addEventListener('pointerleave', () => { box.hidden = true; this.wet = null; });
  }

  at(event) {
    const { box: probe, stage } = this, hit = stage.hit(event);
    this.last = event;
    this.water(event, hit ? hit.distance : null);
    if (this.wet && (!hit || this.wet.away < hit.distance)) return;
    probe.hidden = !hit;
    if (!hit) return;
    const { bodies } = hit, x = bodies.info[hit.body], f = bodies.frame, lines = [];
    if (x.mass !== undefined) {
      const v = f ? Math.hypot(...[0, 1, 2].map(i => f.velocity[3 * hit.body + i])) : 0;
      lines.push(`<span class="num">${x.mass >= 1000 ? `${(x.mass / 1000).toFixed(2)} t` : `${x.mass.toPrecision(3)} kg`} &nbsp; ${v.toFixed(1)} m/s</span>`);
    } else if (x.volume !== undefined) lines.push(`<span class="num">${(x.volume * 1000).toPrecision(3)} L</span>`);
    if (f && bodies.bonds?.[hit.body]) {
      let left = 0, load = 0;
      bodies.pair.forEach((b, i) => {
        const bond = i >> 1;
        if (b === hit.body && f.bond_alive[bond]) { left += 1; load = Math.max(load, f.bond_load[bond]); }
      });
      lines.push(`${left} of ${bodies.bonds[hit.body]} bonds left${left ? `, loaded ${(100 * load).toFixed(0)} %` : ''}`);
    }
    this.say(event, x.parts > 1 ? `${x.name} · fragment ${x.number}` : x.name, lines);
  }

  // Ask what the way to the pointer first meets of a liquid; one question at a time, the last one again if the pointer has moved on.
  async water(event, until) {
    const { stage } = this;
    if (!stage.wet) { this.wet = null; return; }
    if (this.asking) return;
    this.asking = true;
    try {
      const { origin, direction } = stage.ray(event), { x, y, z, w } = stage.cut;
      // what is cut away is not met
      const slope = x * direction.x + y * direction.y + z * direction.z, out = -(x * origin.x + y * origin.y + z * origin.z + w);
      const skipped = out > 0 && slope > 0 ? out / slope : 0, eye = origin.clone().addScaledVector(direction, skipped);
      const found = await getJson(`/data/${stage.wet.key}/probe/${stage.wet.frame}?eye=${eye.toArray()}&way=${direction.toArray()}${until ? `&until=${until - skipped}` : ''}`);
      const was = this.wet;
      this.wet = found.readings ? { away: found.away + skipped, readings: found.readings } : null;
      if (this.wet) this.say(this.last, 'Water', this.wet.readings.map(t => `<span class="num">${t.value.toFixed(2)} ${t.unit}</span> ${t.label}`));
      else if (was) this.box.hidden = true;
    } catch (error) {
      this.wet = null;
    } finally {
      this.asking = false;
    }
    if (this.last !== event && !this.box.hidden) this.at(this.last);
  }

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
