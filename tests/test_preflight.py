"""Preflight findings, their mends, and what the gauges show."""

import unittest
from unittest import mock

import manifold3d
import numpy as np

from tests.shots import falling_box, tiny
from urst.core.checks.meshes import check_solid, self_crossings
from urst.core.geometry import generators
from urst.core.geometry.mesh import Mesh, chained, transformed
from urst.core.geometry.rotation import from_degrees, matrix
from urst.demo import cask, sluice, swell
from urst.errors import BadMesh, BadValue
from urst.scene.shapes import Imported
from urst.shot import preflight as checks
from urst.shot.document import parse
from urst.shot.forecast import forecast
from urst.shot.preflight import disk, mended, preflight, watch


def with_data(shot, change):
    data = shot.model_dump(mode="json")
    change(data)
    return parse(data)


class Findings(unittest.TestCase):
    def one(self, shot, words):
        found = [f for f in preflight(shot) if words in f.title]
        self.assertEqual(len(found), 1, [f.title for f in preflight(shot)])
        return found[0]

    def mends(self, shot, words):
        finding = self.one(shot, words)
        self.assertTrue(finding.fix)
        after = mended(shot, finding)
        self.assertFalse([f for f in preflight(after) if words in f.title], finding.fix)
        return finding

    def test_the_demo_has_nothing_to_find(self):
        from urst.demo import granary

        self.assertEqual([f.title for f in preflight(granary.shot())], [])

    def test_overlap_at_the_start(self):
        shot = with_data(falling_box(), lambda d: d["pieces"][1].update(position=(0, 0, -0.05)))
        self.assertIn("50 mm", self.mends(shot, "overlap").title)

    def test_action_outside_the_domain(self):
        shot = with_data(tiny(), lambda d: d["layers"][3]["settings"].update(high=(1.0, 4.2, 6.2)))
        self.assertIn("along x", self.mends(shot, "stands outside").title)

    def test_a_wall_thinner_than_a_cell(self):
        finding = self.mends(tiny(), "thinner than a cell")
        self.assertIn("a cell of 60 cm", finding.title)

    def test_a_fast_body_against_its_step(self):
        def thin(d):
            d["layers"][1]["settings"].update(steps=1)
            d["pieces"][4]["shape"].update(depth=0.06)

        shot = with_data(tiny(), thin)
        self.assertIn("Counterweight", self.mends(shot, "is fast for its step").title)

    def test_contacts_solved_so_seldom_that_stacks_sway(self):
        shot = with_data(falling_box(), lambda d: d["layers"][0]["settings"].update(steps=8))
        finding = self.mends(shot, "solved coarsely")
        self.assertIn("768 substeps a second", finding.why)
        self.assertEqual(finding.fix, "Use 32 collision steps a frame")

    def test_a_piece_that_floats_just_above_the_ground(self):
        shot = with_data(falling_box(), lambda d: d["pieces"][1].update(position=(0, 0, 0.03), spin=(0, 0, 0)))
        self.assertIn("3 cm above", self.mends(shot, "floats").title)

    def test_what_is_far_heavier_than_what_bears_it(self):
        def stack(d):
            d["pieces"][1].update(position=(0, 0, 0), spin=(0, 0, 0), density=0.4)
            d["pieces"].append(d["pieces"][1] | {"name": "Block", "position": (0, 0, 0.2), "density": 20000})

        self.assertIn("50,000 times heavier", self.one(with_data(falling_box(), stack), "heavier than").title)

    def test_a_liquid_that_is_not_there_or_not_held(self):
        def flood(**settings):
            return lambda d: d["layers"][0]["settings"].update(settings)

        basin = sluice.shot()
        self.assertEqual([f.title for f in preflight(basin)], [])
        self.mends(with_data(basin, flood(level=None, pool_at=None, fills=[])), "has no liquid")
        self.mends(with_data(basin, flood(level=-0.5, pool_at=None)), "lies below the floor of its domain")
        self.mends(with_data(basin, flood(level=2.38, pool_at=None)), "reaches the top of its domain")
        self.mends(with_data(basin, flood(start_below=1.0)), "begins from no frame")
        self.mends(with_data(basin, flood(pool_at=(1.9, 0, 0.4))), "above its level or outside its domain")
        with self.assertRaisesRegex(BadValue, "a place of the pool is given and no level"):
            with_data(basin, flood(level=None))
        self.mends(with_data(basin, flood(high=(3.2, 1.0, 2.4))), "stands partly outside the domain")
        open_water = swell.shot()
        self.assertEqual([f.title for f in preflight(open_water)], [])
        coarse = with_data(open_water, lambda d: d["layers"][1]["settings"].update(cell_size=0.8))
        self.mends(coarse, "smaller than a cell of 'Flood'")

        def unseen(d):
            d["layers"][1]["reads"] = []
            d["couplings"][0]["forth"] = 0.0

        self.mends(with_data(open_water, unseen), "and does not see them")
        self.mends(with_data(basin, lambda d: d["taking_part"].clear()), "stops liquid at the same time")
        with self.assertRaisesRegex(BadValue, "is filled from 'Heap', which is no set piece"):
            with_data(basin, flood(fills=[{"piece": "Heap"}]))

    def test_a_pool_that_what_falls_or_pours_into_it_does_not_suit(self):
        shot = swell.shot()

        def of_flood(**settings):
            return lambda d: d["layers"][1]["settings"].update(settings)

        def higher(d):
            for piece in d["pieces"]:
                if piece.get("motion", "loose") == "loose":
                    piece["position"] = (*piece["position"][:2], piece["position"][2] + 8.0)

        self.mends(with_data(shot, higher), "whose domain ends 2 m above its level")
        deep = shot.layers[1].settings
        self.mends(
            with_data(shot, of_flood(low=(*deep.low[:2], deep.level - 0.05), sides="wall")), "deep when it floats"
        )
        under = {
            "name": "Pipe",
            "shape": {"kind": "box", "width": 0.3, "depth": 0.3, "height": 0.3},
            "motion": "fixed",
            "position": (0, 0, deep.level - 0.6),
        }

        def piped(d):
            d["pieces"].append(under)
            d["taking_part"] = [
                *d.get("taking_part", []),
                {"of": "Pipe", "bodies": False, "liquid": False, "seen": False},
            ]
            d["layers"][1]["settings"]["inflows"] = [{"piece": "Pipe"}]

        self.mends(with_data(shot, piped), "where it is full already")

    def test_a_vessel_that_is_a_plug_or_cannot_be_hollow(self):
        shot = cask.shot()
        self.assertEqual([f.title for f in preflight(shot)], [])

        def of_cask(**shape):
            return lambda d: next(p for p in d["pieces"] if p["name"] == "Cask")["shape"].update(shape)

        solid = with_data(shot, of_cask(matter="solid"))
        self.mends(solid, "'Cask' is filled by 'Flood' and is solid")
        low = with_data(shot, lambda d: d["layers"][2]["settings"]["fills"][0].update(level=-5))
        self.mends(low, "fills 'Cask' up to -5 m, and it begins at 1.7")
        self.mends(with_data(shot, of_cask(wall=0.6)), "'Cask' cannot be hollow")
        self.mends(with_data(shot, of_cask(wall=0.01)), "1 cm thick, thinner than 0.25 of a cell of 4.5 cm")

        def inside(d):
            d["pieces"].append(
                d["pieces"][-1]
                | {
                    "name": "Water",
                    "shape": {"kind": "box", "width": 0.2, "depth": 0.2, "height": 0.2},
                    "position": (-0.62, 0, 2.0),
                    "motion": "fixed",
                }
            )
            d["taking_part"].append({"of": "Water", "bodies": False, "liquid": False, "seen": False})
            d["layers"][2]["settings"]["fills"] = [{"piece": "Water"}]

        self.mends(with_data(solid, inside), "'Water', which 'Flood' fills, lies within 'Cask', which is solid")

    def test_a_hull_whose_inside_begins_full(self):
        def hollow(height):
            def change(d):
                drum = next(p for p in d["pieces"] if p["name"] == "Drum 1")
                drum["shape"].update(matter="hollow", wall=0.05)
                drum["position"][2] = height

            return change

        self.mends(with_data(swell.shot(), hollow(-1.5)), "The inside of 'Drum 1' begins full")
        dry = preflight(with_data(swell.shot(), hollow(1.2)))
        self.assertFalse([f for f in dry if "begins full" in f.title])

    def test_a_pool_above_the_rim_of_its_vessel(self):
        vessel = generators.box(2, 2, 1)[0]
        tub = Imported.from_mesh(Mesh(vessel.vertices, vessel.triangles[[0, 1, *range(4, 12)]]), "tub.obj").model_dump()

        def pour(d):
            piece = d["pieces"][0] | {
                "name": "Tub",
                "shape": tub,
                "position": (0, 0, 0),
                "motion": "fixed",
                "rotation": (0, 0, 0),
                "bonded": False,
            }
            d["pieces"] = [piece]
            d["taking_part"] = []
            d["layers"][0]["settings"].update(
                level=1.2, pool_at=(0, 0, 0.3), low=(-2, -2, -0.5), high=(2, 2, 2), fills=[], inflows=[], regions=[]
            )

        self.mends(with_data(sluice.shot(), pour), "is above the rim of 'Tub' or a hole in it, 1 m")

    def test_a_set_far_from_the_origin(self):
        def move(d):
            for p in d["pieces"]:
                p["position"] = [p["position"][0] + 5e4, p["position"][1], p["position"][2]]

        self.mends(with_data(falling_box(), move), "from the origin")

    def test_an_implausible_size(self):
        def shrink(d):
            for p in d["pieces"]:
                p["shape"] |= {k: p["shape"][k] / 1000 for k in ("width", "depth", "height")}
                p["position"] = [x / 1000 for x in p["position"]]

        self.one(with_data(falling_box(), shrink), "m across")

    def test_an_open_mesh_is_grave(self):
        box = generators.box(1, 1, 1)[0]
        shape = Imported.from_mesh(Mesh(box.vertices, box.triangles[1:]), "box.obj").model_dump()
        finding = self.one(with_data(falling_box(), lambda d: d["pieces"][1].update(shape=shape)), "is open")
        self.assertTrue(finding.grave)

    def test_too_little_disk(self):
        self.assertTrue(disk(tiny(), 1e5)[0].grave)
        self.assertEqual(disk(tiny(), 1e12), [])

    def test_dust_at_the_side_is_found_in_the_gauges_and_mended(self):
        rows = {"billow": {5: {"edge_share": 0.0}, 6: {"edge_share": 0.2}}, "fall": {3: {"deepest_overlap": 0.08}}}
        found = watch(tiny(), rows)
        self.assertEqual([(f.layer, f.frame) for f in found], [("fall", 3), ("billow", 6)])
        wider = mended(tiny(), found[1]).layers[3].settings
        self.assertGreater(wider.cells(), tiny().layers[3].settings.cells())


class Solids(unittest.TestCase):
    BOX = generators.box(1, 1, 1)[0]

    def test_what_is_refused_says_why(self):
        crossing = Mesh(
            np.concatenate([self.BOX.vertices, self.BOX.vertices + 0.4]),
            np.concatenate([self.BOX.triangles, self.BOX.triangles + 8]),
        )
        nan = self.BOX.vertices.copy()
        nan[3, 1] = np.nan
        cases = (
            (Mesh(np.zeros((0, 3)), np.zeros((0, 3), int)), "is empty"),
            (Mesh(nan, self.BOX.triangles), "1 points whose coordinates are not numbers"),
            (Mesh(self.BOX.vertices, self.BOX.triangles[:-2]), "is open: 4 edges"),
            (Mesh(self.BOX.vertices * [1, 1, 0], self.BOX.triangles), "needs a positive volume"),
            (Mesh(self.BOX.vertices, self.BOX.triangles[:, ::-1]), "turn its faces outward"),
            (crossing, "crosses itself: [0-9]+ pairs"),
            (Mesh(self.BOX.vertices, np.zeros((3_000_000, 3), int)), "3,000,000 triangles, more than 1,500,000"),
        )
        for mesh, sentence in cases:
            with self.assertRaisesRegex(BadMesh, sentence):
                check_solid(mesh)

    def test_room_that_is_filled_twice_is_no_solid(self):
        box, inwards = generators.box_between, lambda m: Mesh(m.vertices, m.triangles[:, ::-1])
        one = box((0, 0, 0), (1, 1, 1))
        inner = box((0.25, 0.25, 0.25), (0.75, 0.75, 0.75))
        turned = matrix(from_degrees((20, 50, -10)))
        cases = (
            (Mesh(one.vertices, np.concatenate([one.triangles] * 2)), "12 faces twice"),
            (chained([one, one]), "12 faces twice"),
            (chained([one, inner]), "fills some room twice"),
            (chained([one, box((0.5, 0, 0), (1.5, 1, 1))]), "fills some room twice"),
            (chained([one, inwards(inner), box((0.2, 0.3, 0.3), (0.6, 0.7, 0.7))]), "crosses itself"),
        )
        for mesh, sentence in cases:
            for turn in (np.eye(3), turned):
                with self.assertRaisesRegex(BadMesh, sentence):
                    check_solid(transformed(mesh, turn, np.zeros(3)))
        for mesh in (
            chained([one, inwards(inner)]),
            chained([one, inwards(inner), box((0.3, 0.3, 0.3), (0.7, 0.7, 0.7))]),
            chained([one, box((1, 0, 0), (2, 1, 1))]),
            chained([one, box((1, 0.2, 0.2), (2, 0.8, 0.8)), box((5, 0, 0), (6, 1, 1))]),
        ):
            for turn in (np.eye(3), turned):
                check_solid(transformed(mesh, turn, np.zeros(3)))

    def test_sound_meshes_pass(self):
        solid = (manifold3d.Manifold.sphere(1.0, 48) - manifold3d.Manifold.cube((2, 2, 2))).to_mesh64()
        mesh = Mesh(
            np.asarray(solid.vert_properties)[:, :3].astype(float), np.asarray(solid.tri_verts).astype(np.int64)
        )
        check_solid(mesh)
        self.assertEqual(len(self_crossings(generators.ball(1.0, 16)[0])), 0)


class Large(unittest.TestCase):
    """What there is too much of is said so, in bounded time and room."""

    def test_pairs_that_overlap_are_told_one_by_one_up_to_a_number(self):
        data = falling_box().model_dump(mode="json")
        box = data["pieces"][1]
        data["pieces"] += [
            box | {"name": f"Box {k}", "position": (0.15 * (k % 16), 0.1 * (k // 16), 2.0), "spin": (0, 0, 0)}
            for k in range(96)
        ]
        found = [f for f in preflight(parse(data)) if "overlap" in f.title]
        self.assertEqual(sum("overlap by" in f.title for f in found), checks.MOST_LISTED)
        self.assertEqual(sum("pairs of pieces overlap" in f.title for f in found), 1)

    def test_layers_are_judged_for_so_long_and_the_rest_is_named(self):
        with mock.patch.object(checks, "LAYERS_LONGEST", 0.0):
            found = preflight(tiny(seed=77))
        self.assertTrue(any("of 4 layers were judged" in f.title for f in found), found)


class Forecasts(unittest.TestCase):
    def test_cost_follows_the_settings(self):
        shot = tiny()
        finer = with_data(shot, lambda d: d["layers"][3]["settings"].update(cell_size=0.3))
        ratio = forecast(finer, "billow").disk / forecast(shot, "billow").disk
        self.assertAlmostEqual(ratio, finer.layers[3].settings.cells() / shot.layers[3].settings.cells(), places=9)
        self.assertEqual(forecast(shot, "fall", rate=2.0).seconds, 36.0)
        stepped = with_data(shot, lambda d: d["layers"][1]["settings"].update(steps=8))
        self.assertAlmostEqual(forecast(stepped, "fall").seconds, 2 * forecast(shot, "fall").seconds, places=9)


if __name__ == "__main__":
    unittest.main()
