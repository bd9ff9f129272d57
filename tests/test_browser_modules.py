"""The scripts' modules by themselves, run in the browser against what Python computes."""

import base64
import unittest

import numpy as np

from tests.live import Live
from tests.pages import browser
from urst.core.air import DUST_EXTINCTION
from urst.core.preview import kernels, look
from urst.core.preview.colour import linear
from urst.drawn import codec, representations
from urst.drawn.volume import as_dust

RNG = np.random.default_rng(11)


class Modules(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live(worker=False))
        cls.page = browser()
        cls.addClassCleanup(cls.page.quit)
        cls.page.get(f"{cls.live.base}/queue")

    def run_module(self, name, body, *arguments):
        """Run a body that sees the module as m and the arguments as a; what it returns comes back."""
        found = self.page.execute_async_script(
            f"""const a = [...arguments], done = a.pop();
            import('/static/js/{name}.js').then(async m => {{ {body} }}).then(done, error => done({{ error:
            String(error.stack || error) }}));""",
            *arguments,
        )
        if isinstance(found, dict):
            self.assertNotIn("error", found, found)
        return found

    def test_the_figure_stands_in_nothing(self):
        box = lambda low, high: {"low": low, "high": high}  # noqa: E731
        quay, kerb = box((-1.6, -1.7, -0.3), (0, 1.7, 1.7)), box((-1, -2.0, -0.3), (7, -1.7, 0.12))
        away = [box((-9, -9, -1), (9, 9, 0.02)), box((-1, -3, 2.0), (1, 3, 2.5)), box((1, -9, 0), (2, 9, 3))]
        for boxes, stands in (
            ([quay, kerb], -2.4),
            ([kerb, quay], -2.4),
            ([quay], -2.1),
            (away, -0.8),
            ([quay, box((-2, -5, 0), (2, -3, 1))], -2.1),
            ([box((-9, -9, -1), (9, 9, 0.5))], -0.8),
        ):
            found = self.run_module("furniture", "return m.clearOf(a[0], -0.5, -0.8);", boxes)
            self.assertAlmostEqual(found, stands)

    def test_bodies_between_frames_stand_where_movies_show_them(self):
        n, span = 6, 1.0 / 24.0
        first, second = (
            {
                "position": RNG.uniform(-1, 1, (n, 3)),
                "velocity": RNG.normal(size=(n, 3)),
                "spin": np.zeros((n, 3)),
                "orientation": np.array([1.0, 0, 0, 0]) + RNG.normal(0, 0.02, (n, 4)),
            }
            for _ in range(2)
        )
        second["position"] = first["position"] + span * 0.5 * (first["velocity"] + second["velocity"])
        # one is struck on its way
        second["position"][3] += (0.3, 0.0, 0.0)
        for frame in (first, second):
            frame["orientation"] /= np.linalg.norm(frame["orientation"], axis=1, keepdims=True)
        # the same turn the other way about
        second["orientation"][1] *= -1
        wire = [{k: v.ravel().tolist() for k, v in f.items()} for f in (first, second)]
        for fraction in (0.25, 0.8):
            right = representations.REPRESENTATIONS["bodies"].between(first, second, span, fraction)
            found = self.run_module(
                "between",
                "const f = m.between(a[0], a[1], a[2], a[3]); return [[...f.position], [...f.orientation]];",
                *wire,
                span,
                fraction,
            )
            np.testing.assert_allclose(np.reshape(found[0], (n, 3)), right["position"], atol=1e-6)
            turned = np.abs((np.reshape(found[1], (n, 4)) * right["orientation"]).sum(axis=1))
            np.testing.assert_allclose(turned, 1.0, atol=1e-6)
        pace = self.run_module("between", "return [0, 1, 1.5, 9].map(x => m.paceAt(a[0], 1, x));", [1.0, 0.5, 0.1])
        np.testing.assert_allclose(pace, [1.0, 1.0, 0.75, 0.1])

    def test_arrays_are_unpacked_as_they_were_packed(self):
        arrays = {
            "a": RNG.normal(size=(7, 3)).astype(np.float32),
            "b": RNG.integers(-9, 9, (5, 2)).astype(np.int16),
            "c": np.array([0, -1.5, 65504, 6e-8, 0.1, np.inf], np.float16),
            "d": np.zeros((0, 3), np.float32),
            "e": RNG.integers(0, 255, 9).astype(np.uint8),
            "f": RNG.integers(-(2**31), 2**31 - 1, 4).astype(np.int32),
            "p": codec.quantised(RNG.uniform(-3, 9, (20, 3))),
        }
        data = base64.b64encode(codec.encode(arrays, {"most": 0.25})).decode()
        found = self.run_module(
            "arrays",
            """await m.ready; const bytes = Uint8Array.from(atob(a[0]), c => c.charCodeAt(0)), found = m.decode(bytes);
            return [found.meta.most, Object.fromEntries('abcdef'.split('').map(n => [n, Array.from(found[n],
            String)])), found.a.shape, Array.from(m.places(found.p))];""",
            data,
        )
        most, plain, shape, places = found
        self.assertEqual((most, shape), (0.25, [7, 3]))
        for name, values in plain.items():
            read = np.array([float(v.replace("Infinity", "inf")) for v in values])
            np.testing.assert_allclose(read, arrays[name].astype(float).ravel(), rtol=1e-6, err_msg=name)
        np.testing.assert_allclose(np.reshape(places, (-1, 3)), arrays["p"].values(), atol=1e-5)
        self.assertEqual(
            self.run_module(
                "arrays", "try { m.decode(new Uint8Array(40)); return 'read'; } catch (e) { return e.message; }"
            ),
            "no arrays of Urst",
        )

    def test_light_in_dust_is_what_the_quick_renderer_has(self):
        density = np.zeros((24, 20, 28))
        density[6:18, 4:16, 8:20] = 0.3
        cell, sun = 0.2, np.array([-0.55, -0.8, 1.3])
        sun /= np.linalg.norm(sun)
        ((out, meta),) = representations.frame("volume", {"density": density})
        fraction = 2 * DUST_EXTINCTION * look.DIMMING * meta["most"]["density"] * cell / (8 * 65025)
        drawn = self.run_module(
            "light",
            "const [x, y, z] = a[3]; return Array.from(m.shine(Uint8Array.from(a[0]), a[1], a[2], { x, y, z }));",
            out["density"].ravel().tolist(),
            fraction,
            list(density.shape),
            sun.tolist(),
        )
        drawn = np.reshape(drawn, (14, 10, 12, 2)).transpose(2, 1, 0, 3) / 255
        from_sun, from_sky = np.empty_like(density), np.empty_like(density)
        kernels.light_through(density, look.DIMMING * DUST_EXTINCTION, cell, sun, from_sun, from_sky)
        halved = from_sun.reshape(12, 2, 10, 2, 14, 2).mean(axis=(1, 3, 5))
        # cells twice as wide see the shadow a little softer
        self.assertLess(np.abs(drawn[..., 0] - halved).mean(), 0.03)
        self.assertGreater(np.corrcoef(drawn[..., 0].ravel(), halved.ravel())[0, 1], 0.98)
        self.assertEqual(drawn[:, :, -1].min(), 1.0, "nothing stands over the top")

    def test_several_concentrations_are_seen_as_pictures_have_them(self):
        scalars = {name: RNG.uniform(0.0, most, (4, 5, 6)) for name, most in (("density", 0.3), ("soot", 0.05))}
        ((out, meta),) = representations.frame("volume", scalars)
        shades = [("density", "#c0b090", 60.0), ("soot", "#202020", 600.0)]
        density, albedo = as_dust(scalars, [(n, linear(c), e) for n, c, e in shades])
        drawn = self.run_module(
            "shades",
            """const [bytes, meta, shades, usual] = a, arrays = { meta };
            for (const [name, values] of Object.entries(bytes)) arrays[name] = Uint8Array.from(values);
            const one = m.blend(arrays, shades.slice(0, 1), usual), all = m.blend(arrays, shades, usual);
            return { most: all.most, density: Array.from(all.density), tint: Array.from(all.tint), alone: one.colour,
            plain: one.most };""",
            {name: x.ravel().tolist() for name, x in out.items()},
            meta,
            [{"name": n, "colour": c, "extinction": e} for n, c, e in shades],
            DUST_EXTINCTION,
        )
        self.assertEqual((drawn["alone"], drawn["plain"]), ("#c0b090", meta["most"]["density"]))
        shape = (6, 5, 4)
        seen = (np.reshape(drawn["density"], shape).transpose(2, 1, 0) / 255) ** 2 * drawn["most"]
        np.testing.assert_allclose(seen, density, atol=0.01 * density.max())
        tint = (np.reshape(drawn["tint"], (*shape, 4)).transpose(2, 1, 0, 3)[..., :3] / 255) ** 2
        # the page takes a power of 2.2 for the curve of sRGB
        np.testing.assert_allclose(tint, albedo, atol=0.03)

    def test_a_pointer_finds_the_same_triangle_with_runs_as_against_each(self):
        middle = np.cumsum(RNG.normal(size=(3000, 1, 3)) * 0.05, axis=0)
        skin = (middle + RNG.normal(size=(3000, 3, 3)) * 0.04).astype(np.float32)
        found = self.run_module(
            "bodies",
            """
            const { skins } = await import('/static/js/prepare.js'), THREE = await import('/static/vendor/three.js'),
            skin = Float32Array.from(a[0]), n = skin.length / 9;
            const arrays = { skin, crease: new Uint8Array(3 * n), body: Int32Array.from({ length: n }, (_, t) => (t <
            1000 ? 0 : 1)), inner: new Uint8Array(n), centre: new Float32Array(6) };
            const info = [0, 1].map(piece => ({ piece, centre: [0, 0, 0] }));
            const made = skins(arrays), bodies = new m.Bodies({ ...arrays, ...made, normal: new Int8Array(skin.length)
            }, info);
            const open = new m.Bodies({ ...arrays, ...made, spheres: made.spheres.map((x, i) => (i % 4 === 3 ? 1e6 :
            x)), normal: new Int8Array(skin.length) }, info);
            const rays = a[1].map(([o, w]) => [bodies, open].map(b => { const h = b.pick(new THREE.Vector3(...o), new
            THREE.Vector3(...w).normalize()); return h ? [h.body, h.distance] : null; }));
            return { rays, runs: made.runStarts[2] };""",
            skin.ravel().tolist(),
            [[(np.array(p) + [0.1, 0.05, 5]).tolist(), [-0.02, -0.01, -1]] for p in middle[::15, 0].tolist()],
        )
        self.assertEqual(found["runs"], 8 + 16)
        hits = [x for x, y in found["rays"] if x]
        self.assertGreater(len(hits), 50)
        for with_runs, against_each in found["rays"]:
            self.assertEqual(with_runs, against_each)

    def test_frames_come_in_rows_wait_longer_after_each_failure_and_give_way(self):
        found = self.run_module(
            "frames",
            """ const asked = [], cancelled = []; let time = 0, answer = f => ({ frame: f, arrays: { bytes: 100, meta:
            { levels: 1 } } }); const loader = { ask(job) {
              const [, first, last] = job.url.match(/frames\\/(-?\\d+)-(-?\\d+)/).map(Number), list = [];
              for (let f = first; f <= last; f += 1) list.push(f);
              asked.push(list);
              return { promise: answer ? Promise.resolve(list.map(answer)) : Promise.reject(new Error('gone')), cancel:
              () => cancelled.push(first) };
            } }; const frames = new m.Frames(loader, () => {}, () => ({}), () => time), settle = () => new 
            Promise(r => { setTimeout(r, 5); }), out = {}; const all = Array.from({ length: 20 }, (_, i) => i + 1);
            frames.ahead('k', all, 1, 20); await settle(); out.first = asked.splice(0); frames.ahead('k', all, 1, 20);
            await settle(); out.rows = asked.splice(0); out.kept = all.filter(f => frames.has('k', f)); answer = null;
            const tries = []; for (time = 0; time < 9000; time += 100) { if (frames.get('gone', 1) === null &&
            asked.length) { asked.length = 0; tries.push(time); } await settle(); } out.tries = tries; answer = f =>
            new Promise(() => {}); frames.get('slow', 7); frames.only(new Set(['k'])); out.cancelled = cancelled;
            return out;""",
        )
        # nothing is known of the sizes at first: one by one, then eight in a row
        self.assertEqual(found["first"], [[1], [2], [3], [4]])
        self.assertEqual(found["rows"], [list(range(5, 13)), list(range(13, 21))])
        self.assertEqual(found["kept"], list(range(1, 21)))
        waits = np.diff(found["tries"])
        np.testing.assert_array_equal(waits[:4], [500, 1000, 2000, 4000])
        self.assertEqual(found["cancelled"], [7])

    def test_a_coarser_level_is_shown_until_the_full_one_is_there(self):
        found = self.run_module(
            "frames",
            """ const open = [], loader = { ask(job) { return { promise: new Promise(done => open.push({ job, done
            })), cancel() {} }; } }; const frames = new m.Frames(loader, () => {}), settle = () => new Promise(r => {
            setTimeout(r, 5); }), out = []; const give = async (level, name) => { open.shift().done([{ frame: 1,
            arrays: { name, bytes: 9, meta: { levels: 3, level } } }]); await settle(); }; frames.get('k', 1); await
            give(0, 'full'); out.push(frames.get('k', 1).name); frames.level = 2; out.push(frames.get('k', 1).name,
            open[0].job.url.split('=')[1]); await give(2, 'coarse'); out.push(frames.get('k', 1).name); frames.level =
            0; out.push(frames.get('k', 1).name); return out;""",
        )
        self.assertEqual(found, ["full", "full", "2", "coarse", "full"])

    def test_a_loader_spreads_work_and_tells_what_failed(self):
        found = self.run_module(
            "loader",
            """ const made = [], make = () => { const w = { heard: [], postMessage(x) { w.heard.push(x); } };
            made.push(w); return w; }; const loader = new m.Loader(make, 2), out = {}; const asked = [1, 2, 3].map(
            n => loader.ask({ kind: 'static', url: String(n) })); out.spread = made.map(w => w.heard.map(x => x.url));
            const answer = (w, id, more) => w.onmessage({ data: { id, ...more } }); const position = new
            Float32Array(3); answer(made[0], 0, { reply: { position }, about: { position: { low: [1] } } }); out.low =
            (await asked[0].promise).position.low; answer(made[1], 1, { error: 'broken', network: false }); out.failed
            = await asked[1].promise.catch(e => e.message); asked[2].cancel(); out.stopped = made[0].heard.at(-1);
            return out;""",
        )
        self.assertEqual(found["low"], [1])
        self.assertEqual(found["failed"], "broken")
        self.assertEqual(sorted(url for heard in found["spread"] for url in heard), ["1", "2", "3"])
        self.assertEqual(found["stopped"], {"id": 2, "stop": True})

    def test_only_the_answer_to_the_last_question_fills_the_panel(self):
        found = self.run_module(
            "panel",
            """ const element = document.createElement('div'); document.body.append(element);
            window.htmx = { ajax: () => {} };
            const panel = new m.Panel(element, '', () => 'fall', () => {}), xhrs = [{}, {}, {}];
            const tell = (name, xhr) => {
            const e = new CustomEvent(name, { detail: { xhr, target: element, shouldSwap: true } });
            document.body.dispatchEvent(e); return e.detail.shouldSwap; }; for (const x of xhrs)
            tell('htmx:beforeRequest', x); return [tell('htmx:beforeSwap', xhrs[1]), tell('htmx:beforeSwap', xhrs[0]),
            tell('htmx:beforeSwap', xhrs[2])];""",
        )
        self.assertEqual(found, [True, False, True])


if __name__ == "__main__":
    unittest.main()
