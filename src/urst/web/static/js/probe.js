// What is under the pointer: name, mass, speed, bonds.
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
    canvas.addEventListener('pointerleave', () => { box.hidden = true; });
  }

  at(event) {
    const { box: probe, stage } = this, hit = stage.hit(event);
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
    const title = document.createElement('b');
    title.className = 'font-semibold';
    title.textContent = x.parts > 1 ? `${x.name} · fragment ${x.number}` : x.name;
    probe.replaceChildren(title);
    for (const line of lines) probe.insertAdjacentHTML('beforeend', `<br>${line}`);
    const box = stage.element.getBoundingClientRect();
    probe.style.left = `${Math.min(event.clientX - box.left + 14, box.width - 200)}px`;
    probe.style.top = `${Math.min(event.clientY - box.top + 14, box.height - 90)}px`;
  }
}
