"""What the air carries: several concentrations and temperatures, each by rules of its own."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from pydantic import ValidationError

from tests.bodies import fragments_of
from tests.test_gas import DT, Blow, advance, gas
from urst.bake import runner
from urst.core.bodies.boundary import Boundary
from urst.core.gas.settings import GasSettings, Scalar
from urst.core.geometry import generators
from urst.demo import smoke
from urst.drawn.volume import as_dust
from urst.formats import vdb
from urst.handover import export as handover
from urst.kinds.billow.settings import BillowSettings
from urst.shot.document import loads, parse
from urst.shot.keys import layer_keys
from urst.shot.preflight import preflight
from urst.store.store import Store

CLEAR = 1e5


def concentration(name, **changes):
    return Scalar(name=name, **({"clearing": CLEAR, "buoyancy": 0.0} | changes))


def temperature(name="temperature", **changes):
    return Scalar(name=name, measure="temperature", **({"clearing": CLEAR} | changes))


class Into(Blow):
    """A source that gives to one of several."""

    def __init__(self, scalar, *args):
        super().__init__(*args)
        self.scalar = scalar

    def between(self, time, dt):
        births = super().between(time, dt)
        return births and births._replace(scalar=self.scalar)


class Fields(unittest.TestCase):
    def middle(self, s, name):
        z, field = (np.arange(s.shape[2]) + 0.5) * s.cell, s.scalars[name]
        return float((field.sum(axis=(0, 1)) * z).sum() / field.sum())

    def test_diffusion_spreads_by_twice_diffusivity_and_time_whatever_the_step(self):
        # the variance of a cloud grows by 2 D t along each axis (Fick); D t / dx^2 is 0.06, 1 and 5 a step
        for rate, steps in ((0.1, 50), (0.1, 3), (0.5, 3)):
            s = gas(size=4.0, scalars=(concentration("density", diffusion=rate),))
            at = (np.arange(s.shape[0]) + 0.5) * s.cell - 2.0
            ball = np.exp(-(at**2) / (2 * 0.3**2))
            s.scalars["density"][:] = ball[:, None, None] * ball[None, :, None] * ball[None, None, :]
            before, time = s.scalars["density"].sum(dtype=float), 0.3 * 0.1 / rate
            for _ in range(steps):
                s.scalars.diffuse_and_decay(time / steps, s.settings.scalars)
            field = s.scalars["density"].astype(float)
            self.assertAlmostEqual(field.sum() / before, 1.0, places=3)
            for axis in range(3):
                fraction = field.sum(axis=tuple(a for a in range(3) if a != axis)) / field.sum()
                self.assertAlmostEqual(float((fraction * at**2).sum()), 0.3**2 + 2 * rate * time, delta=2e-3)

    def test_nothing_diffuses_through_a_wall(self):
        wall = Boundary(fragments_of([generators.box_between((0.9, -1, -1), (1.2, 3, 3))]))
        s = gas(boundaries=[wall], scalars=(concentration("density", diffusion=1.0),))
        s.scalars["density"][:7] = 1.0
        for _ in range(10):
            s.scalars.diffuse_and_decay(DT, s.settings.scalars)
        self.assertEqual(float(s.scalars["density"][10:].max()), 0.0)
        self.assertAlmostEqual(float(s.scalars["density"].sum()) / (7 * 16 * 16), 1.0, places=4)

    def test_each_clears_and_weighs_by_its_own_rules(self):
        sources = [Into(0, (0.5, 1, 1)), Into(1, (1.5, 1, 1))]
        rules = (concentration("density", buoyancy=2.0, clearing=0.5), concentration("smoke"))
        s = gas(sources=sources, scalars=rules)
        for _ in range(12):
            advance(s, DT)
            for source in sources:
                source.on = False
        np.testing.assert_allclose(s.scalars.given, 0.02, rtol=1e-5)
        kept = s.scalars["density"].sum() / s.scalars["smoke"].sum()
        self.assertAlmostEqual(float(kept), 0.05 ** (12 * DT / 0.5), delta=0.02)
        self.assertLess(self.middle(s, "density"), 0.98)

    def test_what_weighs_and_what_lifts_alike_leave_the_air_still(self):
        s = gas(scalars=(concentration("density", buoyancy=1.0), concentration("smoke", buoyancy=-1.0)))
        for name in ("density", "smoke"):
            s.scalars[name][5:11, 5:11, 5:11] = 0.3
        advance(s, DT)
        self.assertLess(max(float(np.abs(u).max()) for u in s.velocity), 1e-6)

    def test_fresh_dust_brings_its_temperature_and_temperatures_cool_apart(self):
        source = Blow((1, 1, 1))
        s = gas(
            sources=[source], scalars=(concentration("density"), temperature(rise=80.0, clearing=1.0, buoyancy=0.0))
        )
        advance(s, DT)
        self.assertAlmostEqual(float(s.scalars["temperature"].max()), 80.0 * 0.05**DT, delta=0.2)
        source.on = False
        for _ in range(23):
            advance(s, DT)
        self.assertAlmostEqual(float(s.scalars["temperature"].max()), 4.0, delta=0.1)
        self.assertAlmostEqual(s.scalars.mass(), 0.02, delta=0.001)

    def test_what_leaves_is_no_drift(self):
        s = gas(sources=[Blow((1, 1, 1))], scalars=(concentration("density"),), wind=(3.0, 0, 0))
        for _ in range(24):
            advance(s, DT)
        gauges = s.gauges()
        self.assertGreater(gauges["dust_left"], 0.25 * gauges["dust_given"])
        self.assertLess(abs(gauges["dust_drift"]), 0.02)
        self.assertAlmostEqual(
            gauges["dust_mass"] + gauges["dust_left"] - gauges["dust_drift"] * gauges["dust_given"],
            gauges["dust_given"],
            places=4,
        )

    def test_a_start_takes_up_what_has_the_same_names(self):
        first = gas(sources=[Into(1, (1, 1, 1))], scalars=(concentration("density"), concentration("smoke")))
        advance(first, DT)
        again = gas(scalars=(concentration("smoke"), temperature()))
        again.begin_from(first.frame())
        np.testing.assert_allclose(again.scalars["smoke"], first.scalars["smoke"], atol=1e-3)
        self.assertAlmostEqual(again.gauges()["dust_given"], 0.02, places=4)
        with self.assertRaisesRegex(ValueError, "The start holds no steam"):
            gas(scalars=(concentration("steam"),)).begin_from(first.frame())


class Document(unittest.TestCase):
    def test_lists_that_make_no_sense_are_refused(self):
        for sentence, make in (
            ("called 'smoke'", lambda: GasSettings(scalars=(concentration("smoke"), concentration("smoke")))),
            ("add a concentration", lambda: GasSettings(scalars=(temperature(),))),
            ("the air's own motion", lambda: concentration("velocity_x")),
            ("called in files", lambda: concentration("levels")),
            ("should match pattern", lambda: concentration("Black smoke")),
            ("'steam' is no concentration of this air: choose density", lambda: BillowSettings(debris_gives="steam")),
            ("'temperature' is no conc", lambda: BillowSettings(sources=[{"piece": "P", "gives": "temperature"}])),
        ):
            with self.assertRaisesRegex(ValidationError, sentence):
                make()

    def test_dust_and_warmth_of_older_documents_become_two_entries(self):
        data = json.loads(smoke.shot().model_dump_json())
        settings = data["layers"][0]["settings"]
        curve = {"over": "frame", "points": [{"at": 1, "value": 90.0}, {"at": 9, "value": 0.0}]}
        del settings["scalars"], settings["debris_gives"], settings["sources"][0]["gives"]
        settings |= {"weight": 0.2, "heat": curve, "clearing": 6.0}
        data["layers"][0]["keeps"] = ["heat"]
        data["values"] = [{"name": "load", "value": 0.4}, {"name": "fade", "value": 3.0, "unit": "s"}]
        data["cues"] = [{"name": "out", "frame": 12}]
        data["uses"] = [
            {"owner": "smoke", "path": "weight", "value": "load"},
            {"owner": "smoke", "path": "clearing", "value": "fade"},
            {"owner": "smoke", "path": "heat.points.1.at", "value": "out"},
        ]
        shot = loads(json.dumps(data | {"format": "urst-shot/4"}))
        dust, warmth = shot.layer("smoke").settings.scalars
        self.assertEqual((dust.name, dust.buoyancy, dust.clearing), ("density", 0.4, 3.0))
        self.assertEqual((warmth.name, warmth.buoyancy, warmth.clearing), ("temperature", 1.0, 3.0))
        self.assertEqual([p.at for p in warmth.rise.points], [1, 12])
        self.assertEqual(shot.layer("smoke").keeps, ("temperature",))


class Baked(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        cls.root = Path(cls.temporary.name)
        data = smoke.shot(end=4, cell_size=0.25).model_dump(mode="json")
        layer = data["layers"][0]
        layer["keeps"] = ["velocity", "temperature"]
        layer["settings"]["scalars"] = [
            {"name": "density"},
            {"name": "soot", "colour": "#202020", "extinction": 600.0},
            {"name": "temperature", "measure": "temperature", "rise": 50.0},
        ]
        layer["settings"]["sources"].append({"piece": "Pier", "rate": 0.1, "gives": "soot"})
        cls.shot, cls.store = parse(data), Store(cls.root / "store")
        runner.bake(cls.shot, cls.store)
        cls.frame = cls.store.read_frame(layer_keys(cls.shot)["smoke"], 4)[0]

    def test_a_concentration_that_nothing_gives_beside_one_that_is_given_is_a_finding(self):
        self.assertEqual([f.title for f in preflight(self.shot)], [])
        data = self.shot.model_dump(mode="json")
        data["layers"][0]["settings"]["sources"][-1]["gives"] = ""
        self.assertEqual([f.title for f in preflight(parse(data))], ["Nothing gives 'Smoke' any soot."])

    def test_frames_hold_each_by_its_name(self):
        self.assertEqual({n for n in self.frame if "velocity" not in n}, {"density", "soot", "temperature"})
        heap, pier = (slice(0, 9),), (slice(9, None),)
        self.assertGreater(self.frame["density"][heap].sum(), 10 * self.frame["density"][pier].sum())
        self.assertGreater(self.frame["soot"][pier].sum(), 10 * self.frame["soot"][heap].sum())

    def test_volumes_are_handed_over_with_all_of_them(self):
        handover.export(self.shot, self.root / "store", self.root / "out", ["vdb"])
        path = self.root / "out" / "smoke" / "smoke.000004.vdb"
        for name in ("density", "soot", "temperature"):
            values, _ = vdb.read(path, self.frame[name].shape, name)
            np.testing.assert_allclose(values, self.frame[name].astype(np.float32), atol=2e-6, err_msg=name)
        values, _ = vdb.read(path, (*self.frame["soot"].shape, 3), "velocity")
        w = self.frame["velocity_z"].astype(np.float32)
        np.testing.assert_allclose(values[..., 2], 0.5 * (w[:, :, 1:] + w[:, :, :-1]), atol=2e-6)

    def test_several_look_like_one_dust_that_takes_as_much_light(self):
        layer = self.shot.layer("smoke")
        shades = [(s.name, np.full(3, n), s.extinction) for n, s in enumerate(layer.settings.scalars[:2])]
        density, albedo = as_dust(self.shot.kind_of(layer).drawn(self.frame), shades)
        soot = self.frame["soot"].astype(float)
        np.testing.assert_allclose(density, self.frame["density"] + 10.0 * soot, rtol=1e-6)
        there = density > 1e-3
        np.testing.assert_allclose(albedo[there][:, 0], (10.0 * soot / np.maximum(density, 1e-9))[there], rtol=1e-6)


if __name__ == "__main__":
    unittest.main()
