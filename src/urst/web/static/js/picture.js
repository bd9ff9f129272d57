// The picture that is taken: its shape in the view, its exposure, stills and quick movies.
import { Refused } from './api.js';

/** @import { Stage } from './stage.js' */

export class Picture {
  /**
   * @param {Stage} stage
   * @param {HTMLElement} mask
   * @param {HTMLElement} share where the share of clipped pixels is told
   */
  constructor(stage, mask, share) {
    this.stage = stage;
    this.mask = mask;
    this.share = share;
    stage.after(() => this.drawn());
  }

  /** @param {number} stops brighter */
  expose(stops) {
    this.stage.composite.light.exposure = 2 ** stops;
    this.stage.draw();
  }

  /** @param {boolean} on */
  markClipped(on) {
    this.stage.composite.light.mark = on ? 1 : 0;
    this.share.hidden = !on;
    this.stage.draw();
  }

  drawn() {
    this.place();
    if (this.stage.composite.light.mark) this.share.textContent = `${(100 * this.stage.composite.clipped()).toFixed(1)} %`;
  }

  // The picture's rectangle in the stage, in pixels of the page.
  frame() {
    const { clientWidth: w, clientHeight: h } = this.stage.element, rect = this.stage.eye.pictureRect();
    return { left: (w - rect.width) / 2, top: (h - rect.height) / 2, ...rect };
  }

  // What lies outside is dimmed, where the view is one that a camera could have.
  place() {
    this.mask.hidden = this.stage.eye.isStraight || !this.stage.shown.picture;
    if (this.mask.hidden) return;
    const { left, top, width, height } = this.frame();
    Object.assign(this.mask.style, { left: `${left}px`, top: `${top}px`, width: `${width}px`, height: `${height}px` });
  }

  // The picture alone, as a canvas; marks of clipped pixels are not part of it.
  canvas() {
    const source = this.stage.renderer.domElement, scale = source.width / this.stage.element.clientWidth;
    const whole = this.mask.hidden, { left, top, width, height } = whole ? { left: 0, top: 0, width: source.width / scale, height: source.height / scale } : this.frame();
    const out = document.createElement('canvas');
    out.width = 2 * Math.floor(width * scale / 2);
    out.height = 2 * Math.floor(height * scale / 2);
    out.getContext('2d')?.drawImage(source, left * scale, top * scale, out.width, out.height, 0, 0, out.width, out.height);
    return out;
  }

  /**
   * @param {string} type
   * @param {number} [quality]
   * @returns {Promise<Blob>}
   */
  blob(type, quality) {
    return new Promise((done, failed) => {
      this.canvas().toBlob(found => { if (found) done(found); else failed(new Refused('The picture is too large for this browser: take a smaller one.')); }, type, quality);
    });
  }

  /** @param {string} name */
  async still(name) {
    const link = document.createElement('a');
    link.href = URL.createObjectURL(await this.blob('image/png'));
    link.download = name;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  }

  /**
   * Frames of a range as a movie.
   * @param {string} base
   * @param {number[]} frames
   * @param {string} quality
   * @param {(frame: number) => Promise<void>} see resolves when it has been drawn
   * @param {(done: number, all: number) => boolean} told returns false to stop
   */
  async movie(base, frames, quality, see, told) {
    const body = new FormData(), { mark } = this.stage.composite.light;
    this.stage.composite.light.mark = 0;
    try {
      for (const [i, f] of frames.entries()) {
        await see(f);
        body.append('pictures', await this.blob('image/jpeg', 0.93), `${f}.jpg`);
        if (told(i + 1, frames.length) === false) return null;
      }
    } finally { this.stage.composite.light.mark = mark; }
    body.append('first', String(frames[0]));
    body.append('quality', quality);
    const response = await fetch(`${base}/movies`, { method: 'POST', body, headers: { accept: 'application/json' } });
    const text = await response.text();
    if (response.ok) return JSON.parse(text);
    let message = text;
    try { message = JSON.parse(text).message; } catch { /* plain text */ }
    throw new Refused(message);
  }
}
