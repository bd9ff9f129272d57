"""Large results in a real browser: what a frame weighs, and how long the page's own thread is held while they play.

It needs the tests' database, so it is run by `./urst bench browser`.

The graphics card's work is left out: `render` is replaced by nothing, so that what is timed is scripts alone.
"""

import sys

import numpy as np

from tests.live import Live
from tests.pages import browser
from tests.shots import falling_box
from urst.core.bodies.fragments import Solid, assemble
from urst.core.geometry import generators
from urst.drawn import codec, representations
from urst.store.store import Store

RNG = np.random.default_rng(3)
KEYS = {name: digit * 40 for name, digit in (("bodies", "a"), ("points", "b"), ("volume", "c"), ("surface", "d"))}
CELLS = 256

PLAY = """
const [cases, frames, done] = arguments;
(async () => {
  const [{ Stage, SUN }, { Loader }, { Frames }] = await Promise.all(['stage', 'loader', 'frames'].map(m =>
  import(`/static/js/${m}.js`)));
  const found = {}, loader = new Loader();
  const look = { extinction: 60, dimming: 0.45, chip: 1.15 };
  const shades = [{ name: 'density', colour: '#bbaa99', extinction: 60 }];
  const element = document.body.appendChild(Object.assign(document.createElement('div'), { style:
  'position:fixed;inset:0' }));
  const stage = new Stage(element, 'none', loader);
  stage.renderer.render = () => {};
  stage.meta = { sorts: {}, sliced: {}, pieces: [{ name: 'x', colour: '#998877', motion: 'loose', seen: true, since:
  null, until: null }], casts: { x: [0] },
    matter: { x: { colour: '#998877', dust: '#bbaa99' } }, look, picture: { width: 16, height: 9 } };
  stage.boxes = new Map();
  for (const { name, key, cells } of cases) {
    const kept = new Frames(loader, () => {}, () => (cells ? { cell: 0.1, shades,
    look: { ...look, sun: { x: SUN.x, y: SUN.y, z: SUN.z } } } : {}));
    const layer = { id: 'x', key }, domain = { low: [0, 0, 0], cell: 0.1, shape: [cells, cells, cells] };
    const what = arrays => ({ at: 1, posed: [], still: [], points: [], volumes: [], surfaces: [], domains: [],
      ...{ bodies: { posed: [{ layer, frame: arrays }] }, points: { points: [{ layer, arrays }] }, volume: { volumes:
      [{ layer, arrays, domain }] }, surface: { surfaces: [{ layer, arrays }] } }[name] });
    const all = Array.from({ length: frames }, (_, i) => i + 1);
    let longest = 0, bytes = 0, shown = 0, gap = 0, last = performance.now(), going = true;
    // how late a timer that is due every few milliseconds comes tells how long the thread was held
    const tick = () => { const now = performance.now(); gap = Math.max(gap, now - last); last = now; if (going)
    setTimeout(tick, 4); };
    // the first frame also makes what is kept from then on
    while (!kept.get(key, 1)) await new Promise(r => { setTimeout(r, 10); });
    await stage.show(what(kept.get(key, 1)));
    await new Promise(r => { setTimeout(r, 300); });
    const asked = last = performance.now();
    setTimeout(tick, 4);
    for (const f of all) {
      kept.ahead(key, all, f, 4);
      while (!kept.get(key, f)) await new Promise(r => { setTimeout(r, 4); });
      const arrays = kept.get(key, f), began = performance.now();
      bytes = Math.max(bytes, arrays.bytes);
      await stage.show(what(arrays));
      longest = Math.max(longest, performance.now() - began);
      shown += 1;
      await new Promise(requestAnimationFrame);
    }
    going = false;
    found[name] = { megabytes: bytes / 1e6, show: longest, held: gap, shown, rate: 1000 * shown / (performance.now() -
    asked) };
  }
  done(found);
})().catch(error => done({ error: String(error.stack || error) }));
"""


def _bodies(store, frames, count=5000):
    side = round(count ** (1 / 3)) + 1
    places = [(x, y, z) for x in range(side) for y in range(side) for z in range(side)][:count]
    solids = [
        Solid(0, generators.box_between(p, np.add(p, 0.8)), np.zeros(12, bool), part=n) for n, p in enumerate(places)
    ]
    found = assemble(solids)
    pair = np.column_stack([np.arange(count - 1), np.arange(1, count)])
    arrays = found.to_arrays() | {
        "mass": found.volume * 2000,
        "motion": np.full(count, 2),
        "bond": np.arange(count - 1),
        "patch_pair": pair,
    }
    store.write_static(KEYS["bodies"], arrays, {"kind": "fall"})
    for frame in range(1, frames + 1):
        turn = RNG.normal(size=(count, 4))
        yield (
            frame,
            {
                "position": found.centre - [0, 0, 0.05 * frame],
                "orientation": turn / np.linalg.norm(turn, axis=1, keepdims=True),
                "velocity": RNG.normal(size=(count, 3)),
                "bond_alive": RNG.random(count - 1) > 0.1,
                "bond_load": RNG.random(count - 1),
            },
        )


def _points(store, frames, count=1_000_000):
    store.write_static(KEYS["points"], {}, {"kind": "shed"})
    position, size = RNG.normal(size=(count, 3)) * 4, RNG.uniform(0.005, 0.05, count)
    for frame in range(1, frames + 1):
        yield frame, {"position": position - [0, 0, 0.1 * frame], "size": size}


def _volume(store, frames):
    store.write_static(KEYS["volume"], {}, {"kind": "billow"})
    x = (np.arange(CELLS) + 0.5) / CELLS - 0.5
    away = np.sqrt(x[:, None, None] ** 2 + x[None, :, None] ** 2 + x[None, None, :] ** 2)
    noise = RNG.random((CELLS, CELLS, CELLS)).astype(np.float32)
    for frame in range(1, frames + 1):
        # a ball of dust of a third of the domain, rough all through
        yield frame, {"density": np.where(away < 0.3 + 0.005 * frame, 0.4 * noise, 0).astype(np.float16)}


def _surface(store, frames, side=500):
    store.write_static(KEYS["surface"], {}, {"kind": "shed"})
    i, j = np.meshgrid(np.arange(side), np.arange(side), indexing="ij")
    n = (i * side + j)[:-1, :-1].ravel()
    triangles = np.concatenate(
        [np.column_stack([n, n + side, n + 1]), np.column_stack([n + 1, n + side, n + side + 1])]
    )
    for frame in range(1, frames + 1):
        z = 0.3 * np.sin(0.08 * i + 0.3 * frame) * np.cos(0.05 * j)
        normal = np.stack(
            [-np.gradient(z, axis=0) / 0.04, -np.gradient(z, axis=1) / 0.04, np.ones_like(z)], axis=-1
        ).reshape(-1, 3)
        yield (
            frame,
            {
                "position": np.stack([0.04 * i, 0.04 * j, z], axis=-1).reshape(-1, 3),
                "triangles": triangles,
                "normal": normal / np.linalg.norm(normal, axis=1, keepdims=True),
            },
        )


def measure(frames: int = 12) -> dict[str, dict[str, float]]:
    """Return by representation: megabytes of a frame, milliseconds of its longest showing and of the longest hold,
    frames a second."""
    with Live(worker=False) as live:
        store = Store(live.store)
        for name, made in (("bodies", _bodies), ("points", _points), ("volume", _volume), ("surface", _surface)):
            for frame, arrays in made(store, frames):
                levels = representations.frame(name, arrays)
                for level, (out, meta) in enumerate(levels):
                    data = codec.encode(out, meta | {"representation": name, "levels": len(levels), "level": level})
                    store.write_beside(KEYS[name], f"drawn{frame:06d}{f'.{level}' if level else ''}.urd", data)
        page = browser()
        try:
            page.set_script_timeout(300)
            page.get(f"{live.base}/shots/{live.add(falling_box(2))}")
            cases = [{"name": n, "key": k, "cells": CELLS if n == "volume" else 0} for n, k in KEYS.items()]
            return page.execute_async_script(PLAY, cases, frames)
        finally:
            page.quit()


if __name__ == "__main__":
    result = measure()
    if "error" in result:
        sys.exit(str(result["error"]))
    print(f"{'case':<12}{'MB a frame':>12}{'longest show, ms':>18}{'longest hold, ms':>18}{'frames a second':>18}")
    for name, x in result.items():
        print(f"{name:<12}{x['megabytes']:>12.2f}{x['show']:>18.1f}{x['held']:>18.1f}{x['rate']:>18.1f}")
