"""Baking to disk: resume, stop, damage, and the command that needs no database."""

import contextlib
import hashlib
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import manifold3d
import numpy as np

from tests.baked import baked, copied
from tests.shots import falling_box, random_graph, tiny
from urst.bake import runner
from urst.core.geometry import generators, rotation
from urst.core.geometry.mesh import Mesh
from urst.demo import glasshouse, kiln, sluice, smoke, sparks
from urst.errors import BadValue, SolverFailed, Stopped, StoreFull
from urst.handover.baked import Baked
from urst.handover.export import export
from urst.handover.played import played
from urst.kinds.flood import work
from urst.scene.shapes import Imported
from urst.shot.document import dumps, loads, parse
from urst.shot.forecast import forecast
from urst.shot.keys import layer_keys
from urst.shot.preflight import mended, preflight
from urst.store.store import Store


def results(root: Path) -> dict[str, str]:
    """Digest of every result file; how long frames took is no result."""
    kept = [p for p in sorted(root.rglob("*.urf"))]
    return {p.relative_to(root).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest() for p in kept}


class Folder(unittest.TestCase):
    def folder(self) -> Path:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        return Path(folder.name)


class Baking(Folder):
    def test_every_layer_of_a_shot_is_written_and_then_fresh(self):
        shot, store, seen = tiny(), Store(self.folder()), []
        runner.bake(shot, store, report=seen.append)
        for layer, key in layer_keys(shot).items():
            self.assertTrue(runner.is_fresh(shot, store, layer, key), layer)
        self.assertEqual({p.layer for p in seen}, {"break", "fall", "shed", "billow"})
        gauges = store.read_gauges(layer_keys(shot)["billow"])
        self.assertGreater(gauges[18]["dust_mass"], 0.0)
        again = []
        runner.bake(shot, store, report=again.append)
        self.assertEqual(again, [])

    def test_a_ball_of_the_set_rolls_as_round_though_it_is_drawn_with_facets(self):
        degrees, radius = 20.0, 0.5
        slope = np.radians(degrees)
        # the slope is turned about its own base; the ball stands on its top
        up, middle = np.array([np.sin(slope), 0.0, np.cos(slope)]), np.array([0.0, 0.0, -1.0])
        low = middle + up * (1.0 + radius) - [0.0, 0.0, radius]
        data = falling_box(24, angular_damping=0).model_dump(mode="json")
        data["pieces"] = [
            {
                "name": "Slope",
                "shape": {"kind": "box", "width": 30, "depth": 10, "height": 1},
                "motion": "fixed",
                "position": tuple(middle),
                "rotation": (0, degrees, 0),
            },
            {"name": "Ball", "shape": {"kind": "ball", "radius": radius, "rings": 4}, "position": tuple(low)},
        ]
        shot, store = parse(data), Store(self.folder())
        runner.bake(shot, store)
        frame, _ = store.read_frame(layer_keys(shot)["fall"], 24)
        # with the rolling resistance of concrete
        expected = 5 / 7 * 9.81 * (np.sin(slope) - 0.015 * np.cos(slope)) * 23 / 24
        self.assertAlmostEqual(np.linalg.norm(frame["velocity"][1]), expected, delta=0.005 * expected)

    def test_a_changed_setting_bakes_only_what_depends_on_it(self):
        shot, seen = tiny(), []
        store = copied(shot, self.folder())
        data = shot.model_dump(mode="json")
        data["layers"][2]["settings"]["chips"] = 20
        runner.bake(type(shot).model_validate(data), store, report=seen.append)
        self.assertEqual({p.layer for p in seen}, {"shed", "billow"})

    def test_two_bakes_give_the_same_bytes(self):
        first, second = self.folder(), self.folder()
        copied(tiny(), first)
        runner.bake(tiny(), Store(second))
        self.assertEqual(results(first), results(second))

    def test_more_frames_go_on_from_the_last(self):
        short, whole = self.folder(), self.folder()
        runner.bake(falling_box(10), Store(short))
        seen = []
        runner.bake(falling_box(20), Store(short), report=seen.append)
        copied(falling_box(20), whole)
        self.assertEqual(seen[0].frame, 11)
        frames = lambda root: {k: v for k, v in results(root).items() if "frame" in k}  # noqa: E731
        self.assertEqual(frames(short), frames(whole))

    def test_stopped_it_keeps_what_is_done_and_goes_on(self):
        root, whole, count = self.folder(), self.folder(), []
        with self.assertRaises(Stopped):
            runner.bake(falling_box(20), Store(root), report=count.append, should_stop=lambda: len(count) >= 11)
        self.assertEqual(len(Store(root).frames(count[0].key)), 11)
        runner.bake(falling_box(20), Store(root))
        copied(falling_box(20), whole)
        self.assertEqual(results(root), results(whole))

    def test_a_damaged_frame_of_an_input_is_baked_again_before_it_is_read(self):
        shot, root = tiny(), self.folder()
        store, key = copied(shot, root, ["fall"]), layer_keys(shot)
        before = results(root)
        path = store.folder(key["fall"]) / "frame000007.urf"
        path.write_bytes(path.read_bytes()[:-20])
        with self.assertLogs("urst.bake", "WARNING"):
            runner.bake(shot, store, ["shed"])
        self.assertEqual({k: v for k, v in results(root).items() if k in before}, before)

    def test_a_full_disk_stops_in_words_and_loses_nothing(self):
        root, count = self.folder(), []
        room = lambda self: 10**12 if len(count) < 5 else 10**6  # noqa: E731
        with (
            mock.patch.object(Store, "free_bytes", room),
            self.assertRaisesRegex(StoreFull, "free some space, then bake again"),
        ):
            runner.bake(falling_box(20), Store(root), report=count.append)
        self.assertEqual(Store(root).frames(count[0].key), [1, 2, 3, 4, 5])
        runner.bake(falling_box(20), Store(root))
        self.assertEqual(len(Store(root).frames(count[0].key)), 20)


def with_data(shot, change):
    data = shot.model_dump(mode="json")
    change(data)
    return parse(data)


class Groups(Folder):
    def coupled(self):
        """The granary, small: wall and counterweight in the air they move, debris in it too."""
        pairs = [{"first": "fall", "second": "billow"}, {"first": "shed", "second": "billow"}]
        return with_data(tiny(), lambda d: d.update(couplings=pairs))

    def test_three_layers_that_act_on_each_other_bake_as_one_and_resume_to_the_same_bytes(self):
        shot, first, second, count = self.coupled(), self.folder(), self.folder(), []
        with self.assertRaises(Stopped):
            runner.bake(shot, Store(first), ["shed"], report=count.append, should_stop=lambda: len(count) > 40)
        runner.bake(shot, Store(first), ["shed"], report=count.append)
        copied(shot, second)
        self.assertEqual([p.frame for p in count if p.layer == "shed"][-1], shot.end)
        self.assertEqual(results(first), results(second))
        keys = layer_keys(shot)
        gauges = Store(first).read_gauges(keys["billow"])
        self.assertLess(max(g["momentum_lost"] for g in gauges.values()), 1e-4)
        self.assertGreater(gauges[18]["dust_mass"], 0.05)

    def test_the_air_holds_light_debris_back(self):
        shot, alone = self.coupled(), tiny()
        baked(shot)
        store = baked(alone)
        speed = {}
        for name, s in (("coupled", shot), ("alone", alone)):
            frame = store.read_frame(layer_keys(s)["fall"], 18)[0]
            speed[name] = np.linalg.norm(frame["velocity"], axis=1)
        # bricks are heavy, so air takes little of their speed, but it takes some and adds none to all of them; which is
        # the fastest is chance once they have met
        self.assertGreater(np.abs(speed["coupled"] - speed["alone"]).max(), 1e-4)
        self.assertLess((speed["coupled"] ** 2).mean(), 1.05 * (speed["alone"] ** 2).mean())

    def test_a_wind_that_is_baked_carries_debris_and_must_keep_its_velocity(self):
        def wind(d):
            d["layers"][3] |= {"reads": [], "keeps": ["velocity"]}
            d["layers"][3]["settings"]["wind"] = [6.0, 0, 0]
            d["couplings"] = [{"first": "billow", "second": "shed", "back": 0.0}]

        shot = with_data(tiny(), wind)
        baked(shot)
        store = baked(tiny())
        drift = {}
        for name, s in (("wind", shot), ("still", tiny())):
            frame = store.read_frame(layer_keys(s)["shed"], 18)[0]
            small = frame["size"] < 0.01
            drift[name] = float(frame["velocity"][small, 0].mean())
        self.assertGreater(drift["wind"], drift["still"] + 0.2)
        without = with_data(shot, lambda d: d["layers"][3].update(keeps=[]))
        found = [f for f in preflight(without) if "keeps no velocity" in f.title]
        self.assertEqual((len(found), found[0].grave), (1, True))
        self.assertEqual(mended(without, found[0]).layers[3].keeps, ("velocity",))
        with self.assertRaisesRegex(BadValue, "keeps no velocity"):
            runner.bake(without, Store(self.folder()))

    def test_a_layer_in_a_group_may_follow_a_baked_gas_as_well(self):
        def wind(d):
            far = dict(d["layers"][3]) | {"id": "wind", "name": "Wind", "reads": [], "keeps": ["velocity"]}
            far["settings"] = dict(far["settings"]) | {"cell_size": 1.0, "wind": [3.0, 0, 0]}
            d["layers"].append(far)
            d["layers"][1]["reads"] = ["break", "wind"]
            d["layers"][2]["reads"] = ["fall", "wind"]
            d["couplings"] = [{"first": "fall", "second": "billow"}, {"first": "billow", "second": "shed"}]

        shot = with_data(tiny(), wind)
        store = baked(shot)
        gauges = store.read_gauges(layer_keys(shot)["billow"])
        self.assertLess(max(g["momentum_lost"] for g in gauges.values()), 1e-4)

    def test_whatever_graph_validates_bakes(self):
        rng, store, baked = np.random.default_rng(5), Store(self.folder()), 0
        base = tiny().model_dump(mode="json") | {"end": 3}
        base["layers"][0]["settings"]["count"] = 165
        base["layers"][3]["settings"]["cell_size"] = 0.9
        for _ in range(120):
            try:
                shot = parse(random_graph(rng, base))
            except BadValue:
                continue
            runner.bake(shot, store)
            baked += 1
        self.assertGreater(baked, 20)


class Alone(Folder):
    """Layers that stand alone."""

    def test_a_shot_of_gas_only_bakes_and_is_handed_over(self):
        shot, root = smoke.shot(end=12, cell_size=0.25), self.folder()
        self.assertEqual([x.kind for x in shot.layers], ["billow"])
        self.assertEqual([f.title for f in preflight(shot)], [])
        runner.bake(shot, Store(root / "store"))
        gauges = Store(root / "store").read_gauges(layer_keys(shot)["smoke"])
        self.assertGreater(gauges[12]["dust_given"], 0.0)
        self.assertLess(abs(gauges[12]["dust_drift"]), 0.15)
        names = {p.suffix for p in export(shot, root / "store", root / "out", ["vdb", "csv", "movie"])}
        self.assertEqual(names, {".vdb", ".csv", ".mp4"})

    def test_a_shot_of_liquid_only_bakes_goes_on_from_a_frame_and_is_handed_over(self):
        shot, root = sluice.shot(end=8, cell_size=0.2), self.folder()
        store, keys = Store(root / "store"), layer_keys(shot)
        runner.bake(shot, store)
        gauges = store.read_gauges(keys["flood"])
        filled = [int(store.read_frame(keys["flood"], f)[0]["filled"][0]) for f in (1, 8)]
        self.assertEqual(*filled)
        self.assertLess(abs(gauges[8]["volume_drift"]), 0.03)
        self.assertAlmostEqual(
            shot.kind_of(shot.layers[0]).count(shot, shot.layers[0]) / gauges[1]["particles"], 1.0, delta=0.25
        )
        self.assertLess(gauges[8]["energy"], gauges[1]["energy"] * 1.001)
        frame = store.read_frame(keys["flood"], 8)[0]
        # it has run over the pool and stays between the walls, but for what goes over the sill
        self.assertLess(float(np.abs(frame["position"][:, 0]).max()), 2.71)
        self.assertLess(float(frame["position"][:, 1].max()), 1.71)
        self.assertGreater(float((frame["position"][:, 1] > -1.71).mean()), 0.97)
        self.assertGreater(float(frame["velocity"][:, 0].max()), 1.0)
        data = shot.model_dump(mode="json")
        data["layers"].append(data["layers"][0] | {"id": "later", "start": {"of": "flood", "frame": 8}})
        later = parse(data)
        runner.bake(later, store)
        first = store.read_frame(layer_keys(later)["later"], 1)[0]
        self.assertEqual(len(first["position"]), len(frame["position"]))
        files = export(shot, root / "store", root / "out", ["points", "csv", "movie"])
        self.assertEqual({p.suffix for p in files}, {".usd", ".csv", ".mp4"})

    def test_what_has_come_to_rest_once_is_used_by_all_that_begins_so(self):
        def pool(**settings):
            level = {"cell_size": 0.2, "low": (-1, -1, 0), "high": (1, 1, 2), "level": 0.6, "settle": 0.5}
            return parse(
                {
                    "name": "Pool",
                    "start": 1,
                    "end": 3,
                    "pieces": [
                        {
                            "name": "Spout",
                            "shape": {"kind": "box", "width": 0.5, "depth": 0.5, "height": 0.3},
                            "position": (0, 0, 1.2),
                            "motion": "fixed",
                        }
                    ],
                    "taking_part": [{"of": "Spout", "bodies": False, "liquid": False, "seen": False}],
                    "layers": [{"id": "flood", "name": "Flood", "kind": "flood", "settings": level | settings}],
                }
            )

        store, told, rests = Store(self.folder()), [], work.settle_liquid
        # a pool that does not settle tells of its pressure from the first frame on: that of 0.6 m
        calm = pool(settle=0.0)
        runner.bake(calm, store)
        pressure = store.read_frame(layer_keys(calm)["flood"], 1)[0]["pressure"]
        self.assertAlmostEqual(float(pressure.max()), 9.81 * 0.5, delta=0.05)
        runner.bake(pool(), store, report_progress=lambda *x: told.append(x))
        self.assertEqual(told[0], ("Flood comes to rest", 0, 5))
        poured = pool(inflows=[{"piece": "Spout"}])
        with mock.patch.object(work, "settle_liquid", side_effect=AssertionError("it came to rest again")):
            runner.bake(poured, store)
        anew = Store(self.folder())
        runner.bake(poured, anew)
        key = layer_keys(poured)["flood"]
        for name, array in store.read_frame(key, 3)[0].items():
            np.testing.assert_array_equal(array, anew.read_frame(key, 3)[0][name], err_msg=name)
        # another level begins otherwise
        with mock.patch.object(work, "settle_liquid", side_effect=rests) as again:
            runner.bake(pool(level=0.8), store)
        again.assert_called_once()

    def test_a_wall_pours_from_a_face_of_it(self):
        wall = {
            "name": "Wall",
            "shape": {"kind": "box", "width": 0.4, "depth": 2.0, "height": 2.0},
            "position": (-0.8, 0, 1),
            "motion": "fixed",
        }
        hole = {
            "name": "Hole",
            "shape": {"kind": "box", "width": 0.6, "depth": 0.5, "height": 0.5},
            "position": (-0.6, 0, 1),
            "motion": "fixed",
        }
        inflow = {
            "piece": "Wall",
            "out_of": "faces",
            "facing": (1, 0, 0),
            "region": "Hole",
            "launch": {"way": "outward", "speed": 3.0},
        }
        data = {
            "name": "Spring",
            "start": 1,
            "end": 9,
            "pieces": [wall, hole],
            "taking_part": [{"of": "Hole", "bodies": False, "liquid": False, "seen": False}],
            "layers": [
                {
                    "id": "flood",
                    "name": "Flood",
                    "kind": "flood",
                    "settings": {"cell_size": 0.1, "low": (-1, -1, 0), "high": (1, 1, 2), "inflows": [inflow]},
                }
            ],
        }
        shot, store = parse(data), Store(self.folder())
        self.assertEqual([f.title for f in preflight(shot)], [])
        runner.bake(shot, store)
        gauges = store.read_gauges(layer_keys(shot)["flood"])
        expected = 0.25 * 3.0 * 8 / shot.clock().rate
        self.assertAlmostEqual(gauges[9]["poured"] / expected, 1.0, delta=0.1)
        frame = store.read_frame(layer_keys(shot)["flood"], 9)[0]
        self.assertGreater(float(frame["position"][:, 0].min()), -0.6)
        self.assertEqual(layer_keys(loads(dumps(shot))), layer_keys(shot))
        # what looks no way is said before the bake, and mended
        up = parse(
            data
            | {
                "layers": [
                    data["layers"][0]
                    | {"settings": data["layers"][0]["settings"] | {"inflows": [inflow | {"facing": (0, 0, 1)}]}}
                ]
            }
        )
        found = preflight(up)[0]
        self.assertIn("No face of 'Wall' within 'Hole'", found.title)
        self.assertEqual(preflight(mended(up, found)), [])
        with self.assertRaisesRegex(BadValue, "No face of 'Wall' is chosen"):
            runner.bake(up, store)

    def test_a_shot_of_points_only_bakes_and_is_handed_over(self):
        shot, root = sparks.shot(end=12), self.folder()
        self.assertEqual([x.kind for x in shot.layers], ["shed"])
        self.assertEqual([f.title for f in preflight(shot)], [])
        store = Store(root / "store")
        runner.bake(shot, store)
        frame = store.read_frame(layer_keys(shot)["sparks"], 12)[0]
        self.assertGreater(len(frame["size"]), 50)
        # nothing is under the ground it falls on
        self.assertGreater(float((frame["position"][:, 2] - 0.5 * frame["size"]).min()), -1e-3)
        files = export(shot, root / "store", root / "out", ["points", "csv", "movie"])
        self.assertEqual({p.suffix for p in files}, {".usd", ".csv", ".mp4"})

    def test_a_chimney_is_cut_at_its_foot_and_leans(self):
        shot, store = kiln.shot(end=24), Store(self.folder())
        self.assertEqual([f.title for f in preflight(shot)], [])
        runner.bake(shot, store)
        key = layer_keys(shot)["fall"]
        gauges = store.read_gauges(key)
        # it stands until the twelfth frame, and then what stood on it comes down in one piece
        self.assertEqual((gauges[12]["moving"], gauges[12]["bonds_left"]), (0.0, 1.0))
        self.assertLess(gauges[13]["bonds_left"], 0.95)
        self.assertGreater(gauges[24]["largest_piece"], 15e3)
        self.assertGreater(gauges[13]["top_speed"], 5.0)

    def test_a_van_on_wheels_runs_into_a_glasshouse(self):
        shot, store = glasshouse.shot(end=9, fragments=90), Store(self.folder())
        self.assertEqual([f.title for f in preflight(shot)], [])
        runner.bake(shot, store)
        key = layer_keys(shot)["fall"]
        static = store.read_static(key)[0]
        (van,) = np.flatnonzero(np.isclose(static["mass"], 1.24 * 2.7 * 0.75 * 420))
        first, before, last = (store.read_frame(key, f)[0] for f in (1, 5, 9))
        rolled = before["position"][van] - first["position"][van]
        np.testing.assert_allclose(rolled, (0.0, 13.0 * 4 / 24, 0.0), atol=0.05)
        self.assertLess(last["velocity"][van, 1], 12.5)
        self.assertLess(store.read_gauges(key)[9]["bonds_left"], 0.7)

    def test_what_is_played_slowly_shows_frames_between_those_that_are_baked(self):
        shot = with_data(falling_box(12), lambda d: d.update(played=0.4))
        self.assertEqual(len(list(played(shot))), 28)
        ramp = {"over": "frame", "points": [{"at": 1, "value": 1.0}, {"at": 12, "value": 0.25}]}
        self.assertGreater(len(list(played(with_data(shot, lambda d: d.update(played=ramp))))), 15)
        store = Store(self.folder())
        runner.bake(shot, store)
        self.assertEqual(layer_keys(shot), layer_keys(falling_box(12)))
        baked = Baked(shot, store)
        layer = shot.layers[0]
        # in free flight the cubic is the parabola itself
        first, middle, last = (baked.at(layer, f) for f in (2.0, 2.5, 3.0))
        fallen = 0.5 * (first["position"][-1, 2] + last["position"][-1, 2]) + 9.81 * (1 / 24) ** 2 / 8
        self.assertAlmostEqual(float(middle["position"][-1, 2]), float(fallen), delta=1e-6)
        spin = first["spin"][-1].astype(float)
        turned = rotation.matrix(middle["orientation"][-1]) @ rotation.matrix(first["orientation"][-1].astype(float)).T
        angle = np.arccos(0.5 * (np.trace(turned) - 1.0))
        self.assertAlmostEqual(float(angle), float(np.linalg.norm(spin) / 48), delta=2e-3)

    def test_no_source_at_all_is_a_finding(self):
        for shot in (smoke.shot(end=4), sparks.shot(end=4)):
            bare = with_data(shot, lambda d: d["layers"][0]["settings"].update(sources=[]))
            self.assertIn("Nothing gives", " ".join(f.title for f in preflight(bare)))
            runner.bake(bare, Store(self.folder()))

    def test_several_layers_of_a_kind_bake_side_by_side(self):
        def twice(d):
            second = dict(d["layers"][2]) | {"id": "shed-2", "name": "Fine"}
            second["settings"] = dict(second["settings"]) | {"seed": 9, "chips": 90.0}
            coarse = dict(d["layers"][3]) | {"id": "billow-2", "name": "Far", "reads": ["fall", "shed", "shed-2"]}
            coarse["settings"] = dict(coarse["settings"]) | {"cell_size": 0.9}
            d["layers"] += [second, coarse]

        shot, store, root = with_data(tiny(), twice), copied(tiny(), self.folder()), self.folder()
        runner.bake(shot, store)
        keys = layer_keys(shot)
        self.assertEqual(len(set(keys.values())), 6)
        given = {x: store.read_gauges(keys[x])[18]["dust_given"] for x in ("billow", "billow-2")}
        self.assertAlmostEqual(given["billow-2"] / given["billow"], 2.0, delta=0.2)
        names = {p.name for p in export(shot, store.root, root, ["points", "csv"])}
        self.assertLessEqual({"shed.usd", "shed-2.usd", "billow-2.gauges.csv"}, names)


class Saying(Folder):
    """What the document can say, seen through a bake."""

    def frames(self, shot, layer="fall"):
        store, key = baked(shot, [layer]), layer_keys(shot)[layer]
        return [store.read_frame(key, f)[0] for f in shot.frames()]

    def test_slow_motion_slows_everything_alike(self):
        fast = self.frames(falling_box(12))
        slow = self.frames(
            with_data(falling_box(34), lambda d: d.update(time_scale={"points": [{"at": 1, "value": 1 / 3}]}))
        )
        # three slow frames are one at full speed; checks fall at other times, so not to the bit
        np.testing.assert_allclose(slow[12]["position"], fast[4]["position"], atol=2e-3)
        np.testing.assert_allclose(slow[12]["velocity"], fast[4]["velocity"], atol=2e-2)

    def test_a_driven_piece_is_slowed_with_all_else(self):
        shot = with_data(tiny(), lambda d: d.update(time_scale={"points": [{"at": 1, "value": 0.5}]}))
        slow, fast = self.frames(shot), self.frames(tiny())
        # the counterweight is the first of the driven bodies
        store = baked(shot, ["fall"])
        mine = int(np.flatnonzero(store.read_static(layer_keys(shot)["fall"])[0]["motion"] == 1)[0])
        np.testing.assert_allclose(slow[8]["position"][mine], fast[4]["position"][mine], atol=1e-4)

    def test_an_unseen_pusher_is_taken_away_and_what_lay_on_it_falls(self):
        def shelf(d):
            d["pieces"].append(
                {
                    "name": "Shelf",
                    "shape": {"kind": "box", "width": 1, "depth": 1, "height": 0.1},
                    "position": [0, 0, 0.2],
                    "motion": "fixed",
                }
            )
            d["pieces"][1] |= {"position": [0, 0, 0.3], "spin": [0, 0, 0]}
            d["taking_part"] = [{"of": "Shelf", "until": 8, "seen": False}]

        frames = self.frames(with_data(falling_box(20), shelf))
        height = [f["position"][1, 2] for f in frames]
        self.assertAlmostEqual(height[7], height[0], delta=2e-3)
        self.assertLess(height[11], height[7] - 0.05)

    def test_what_gas_passes_stops_bodies_all_the_same(self):
        shot = with_data(tiny(), lambda d: d.update(taking_part=[{"of": "Wall", "gas": False}]))
        baked(shot)
        self.assertEqual(layer_keys(shot)["fall"], layer_keys(tiny())["fall"])
        self.assertNotEqual(layer_keys(shot)["billow"], layer_keys(tiny())["billow"])

    def test_pieces_of_one_tag_take_part_alike(self):
        def tagged(d):
            for p in d["pieces"]:
                p["tags"] = ["crates"] if p["name"].startswith("Crate") else []
            d["taking_part"] = [{"of": "crates", "bodies": False}]

        shot = with_data(tiny(), tagged)
        fall = shot.layer("fall")
        names = {shot.pieces[i].name for i in shot.kind_of(fall).cast(shot, fall)}
        self.assertFalse(any(n.startswith("Crate") for n in names))
        self.assertIn("Drum 1", names)

    def test_frames_keep_what_is_asked_for(self):
        shot = with_data(
            smoke.shot(end=3, cell_size=0.3), lambda d: d["layers"][0].update(keeps=["velocity", "temperature"])
        )
        frame = self.frames(shot, "smoke")[-1]
        self.assertEqual(set(frame), {"density", "temperature", "velocity_x", "velocity_y", "velocity_z"})
        bare = smoke.shot(end=3, cell_size=0.3)
        self.assertEqual(set(self.frames(bare, "smoke")[-1]), {"density"})
        self.assertGreater(forecast(shot, "smoke").disk, 5 * forecast(bare, "smoke").disk)

    def test_a_layer_begins_from_a_frame_of_an_earlier_bake(self):
        def again(d):
            d["layers"].append(
                {
                    "id": "again",
                    "name": "Again",
                    "kind": "fall",
                    "settings": d["layers"][0]["settings"],
                    "start": {"of": "fall", "frame": 7},
                }
            )

        shot = with_data(falling_box(14), again)
        first, second = self.frames(shot, "fall"), self.frames(shot, "again")
        np.testing.assert_allclose(second[0]["position"], first[6]["position"], atol=1e-6)
        np.testing.assert_allclose(second[3]["position"], first[9]["position"], atol=5e-3)
        # a kept copy, by its key, in another shot
        kept = with_data(
            falling_box(9), lambda d: d["layers"][0].update(start={"of": layer_keys(shot)["fall"], "frame": 5})
        )
        np.testing.assert_allclose(self.frames(kept, "fall")[0]["position"], first[4]["position"], atol=1e-6)
        gone = with_data(falling_box(9), lambda d: d["layers"][0].update(start={"of": "0" * 40, "frame": 5}))
        with self.assertRaisesRegex(BadValue, "which is not baked"):
            self.frames(gone, "fall")

    def test_what_is_hollow_holds_what_falls_into_it_whether_it_stands_or_falls(self):
        cube = manifold3d.Manifold.cube
        raw = (cube((1.2, 1.2, 0.8), True) - cube((1.0, 1.0, 0.8), True).translate((0, 0, 0.1))).to_mesh64()
        trough = Mesh(np.asarray(raw.vert_properties)[:, :3].astype(float), np.asarray(raw.tri_verts).astype(np.int64))
        shape = Imported.from_mesh(trough, "trough.obj").model_dump(mode="json")
        for motion in ("fixed", "loose"):
            crate = {"name": "Trough", "shape": shape, "position": [0, 0, 0.42], "motion": motion, "bonded": False}

            def put(d, crate=crate):
                d["pieces"][1] |= {"position": [0.1, 0.05, 1.1], "spin": [0, 0, 0]}
                d["pieces"].append(crate)

            frames = self.frames(with_data(falling_box(40), put))
            (inside,) = frames[-1]["position"][1:2]
            # its floor is 0.1 m thick
            self.assertAlmostEqual(float(inside[2]), 0.2 + (0.02 if motion == "fixed" else 0.0), delta=0.01, msg=motion)
            self.assertLess(float(np.abs(inside[:2]).max()), 0.4)

    def test_things_lie_on_terrain_open_meshes_and_endless_ground(self):
        box = generators.box_between((-6, -6, 0), (6, 6, 1))
        up = np.array([t for t in box.triangles if (box.vertices[t][:, 2] == 1).all()])
        open_top = Imported.from_mesh(Mesh(box.vertices - [0, 0, 1], up), "lid.obj").model_dump(mode="json")
        for shape, low in (
            ({"kind": "ground"}, -0.01),
            (open_top, -0.01),
            ({"kind": "terrain", "width": 12, "depth": 12, "relief": 0.4, "feature": 6, "cells": 8}, -0.05),
        ):

            def lay(d, shape=shape):
                d["pieces"][0] |= {"shape": shape, "position": [0, 0, 0]}
                d["pieces"][1] |= {"position": [0, 0, 0.5], "spin": [0, 0, 0]}

            shot = with_data(falling_box(40), lay)
            self.assertEqual([f.title for f in preflight(shot) if f.grave], [])
            frames = self.frames(shot)
            lowest = min(float(f["position"][-1, 2]) for f in frames)
            self.assertGreater(lowest, low, shape["kind"])
            self.assertLess(float(np.abs(frames[-1]["velocity"][-1]).max()), 1.5, shape["kind"])
            self.assertLess(float(frames[-1]["position"][-1, 2]), 0.7)

    def test_water_lies_on_terrain_in_open_sheets_and_on_endless_ground(self):
        trough = generators.box_between((-0.8, -0.8, -0.6), (0.8, 0.8, 0.3))
        # without its lid it is a sheet, turned so that its skin is within
        open_ = np.array([t[::-1] for t in trough.triangles if not (trough.vertices[t][:, 2] == 0.3).all()])
        sheet = Imported.from_mesh(Mesh(trough.vertices, open_), "trough.obj").model_dump(mode="json")
        terrain = {"kind": "terrain", "width": 6, "depth": 6, "relief": 0.4, "feature": 3.0, "cells": 24, "seed": 1}
        for shape, at, place, lowest in (
            (terrain, (0, 0, -0.6), (0, 0, -0.1), -0.78),
            (sheet, (0, 0, 0), (0, 0, -0.3), -0.62),
            ({"kind": "ground"}, (0, 0, -1), None, -1.01),
        ):
            shot = parse(
                {
                    "name": "Lying",
                    "end": 6,
                    "pieces": [{"name": "Bed", "shape": shape, "position": at, "motion": "fixed"}],
                    "layers": [
                        {
                            "id": "flood",
                            "name": "Flood",
                            "kind": "flood",
                            "settings": {
                                "cell_size": 0.2,
                                "low": (-2, -2, -1.2),
                                "high": (2, 2, 1),
                                "level": 0.0,
                                "pool_at": place,
                            },
                        }
                    ],
                }
            )
            store, key = Store(self.folder()), layer_keys(shot)["flood"]
            runner.bake(shot, store)
            first, last = (store.read_frame(key, f)[0] for f in (1, 6))
            self.assertEqual(*(int(f["filled"][0]) for f in (first, last)), shape["kind"])
            self.assertGreater(float(last["position"][:, 2].min()), lowest, shape["kind"])
            self.assertLess(store.read_gauges(key)[6]["top_speed"], 0.3, shape["kind"])
            if shape is sheet:
                self.assertLess(float(np.abs(last["position"][:, :2]).max()), 0.85)

    def test_a_named_value_reaches_the_bake(self):
        def named(d):
            d["values"] = [{"name": "pace", "value": 1.5, "unit": "m/s"}]
            d["uses"] = [{"owner": "fall", "path": "top_speed", "value": "pace"}]
            d["pieces"][1] |= {"position": [0, 0, 3], "spin": [0, 0, 0]}

        frames = self.frames(with_data(falling_box(14), named))
        self.assertAlmostEqual(max(float(np.linalg.norm(f["velocity"][1])) for f in frames), 1.5, delta=0.02)


class Broken(Folder):
    def test_whatever_a_layer_raises_is_one_sentence(self):
        for error in (TypeError("arrays of\nmany lines"), ZeroDivisionError(), MemoryError()):
            with (
                mock.patch("urst.kinds.break_.work.break_pieces", side_effect=error),
                self.assertLogs("urst.bake", "ERROR")
                if not isinstance(error, MemoryError)
                else contextlib.nullcontext(),
                self.assertRaises(SolverFailed) as caught,
            ):
                runner.bake(tiny(), Store(self.folder()), ["break"])
            self.assertRegex(str(caught.exception), r"^[^\n]*'Break'[^\n]*\.$")


class Command(Folder):
    def start(self, shot_file, out, *words):
        env = {k: v for k, v in os.environ.items() if k != "URST_DATABASE"}
        command = [sys.executable, "-m", "urst.cli", "bake", str(shot_file), "--out", str(out), *words]
        return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=env)

    def test_killed_at_any_moment_it_ends_with_the_same_bytes(self):
        folder = self.folder()
        shot = tiny()
        (folder / "tiny.shot.json").write_text(dumps(shot))
        runner.bake(shot, Store(folder / "whole"))
        keys = layer_keys(shot)
        # once within the fall, once within the billow
        for layer, frames in (("fall", 5), ("billow", 10)):
            process = self.start(folder / "tiny.shot.json", folder / "killed")
            deadline = time.monotonic() + 120
            while len(Store(folder / "killed").frames(keys[layer])) < frames and process.poll() is None:
                self.assertLess(time.monotonic(), deadline)
                time.sleep(0.01)
            process.send_signal(signal.SIGKILL)
            process.communicate()
        process = self.start(folder / "tiny.shot.json", folder / "killed", "--resume")
        out, err = process.communicate(timeout=180)
        self.assertEqual(process.returncode, 0, err)
        self.assertIn("frame 18 18/18", out)
        self.assertEqual(results(folder / "killed"), results(folder / "whole"))
        self.assertTrue((folder / "killed" / "fall.gauges.csv").read_text().startswith("frame,moving,"))

    def test_it_goes_on_unless_told_to_bake_anew(self):
        folder = self.folder()
        (folder / "box.shot.json").write_text(dumps(falling_box(3)))
        frame = Store(folder / "out").folder(layer_keys(falling_box(3))["fall"]) / "frame000002.urf"
        written = []
        for words in ((), (), ("--no-resume",)):
            process = self.start(folder / "box.shot.json", folder / "out", *words)
            _, err = process.communicate(timeout=120)
            self.assertEqual(process.returncode, 0, err)
            written.append(frame.stat().st_mtime_ns)
        self.assertEqual(written[0], written[1])
        self.assertGreater(written[2], written[1])

    def test_an_interrupt_ends_it_in_words_with_a_status(self):
        folder = self.folder()
        (folder / "box.shot.json").write_text(dumps(falling_box(4000)))
        process = self.start(folder / "box.shot.json", folder / "out")
        process.stdout.readline()
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=30)
        self.assertEqual(process.returncode, 130)
        self.assertIn("its finished frames are kept", err)

    def test_bad_files_end_with_one_sentence(self):
        folder = self.folder()
        (folder / "half.shot.json").write_text(dumps(tiny())[:500])
        for name, sentence in (("half.shot.json", "is not complete JSON"), ("none.shot.json", "cannot be read")):
            process = self.start(folder / name, folder / "out")
            _, err = process.communicate(timeout=60)
            self.assertEqual(process.returncode, 1)
            self.assertIn(sentence, err)
            self.assertNotIn("Traceback", err)


if __name__ == "__main__":
    unittest.main()
