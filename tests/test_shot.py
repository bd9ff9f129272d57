"""The document: validation, keys, plan, units."""

import json
import unittest

import numpy as np

from tests.shots import falling_box, tiny
from urst.core.geometry import generators
from urst.errors import BadFile, BadValue
from urst.shot import advice, scene
from urst.shot.document import Imported, dumps, loads, parse
from urst.shot.keys import layer_keys
from urst.shot.plan import dependents, groups, plan
from urst.shot.quality import draft, with_frames
from urst.scene.units import parse_number


def changed(shot, path, value):
    data = shot.model_dump(mode="json")
    at = data
    for part in path[:-1]:
        at = at[part]
    at[path[-1]] = value
    return parse(data)


class Advice(unittest.TestCase):
    def test_a_faster_hit_suggests_more_and_smaller_fragments(self):
        shot = tiny()
        slow = advice.breaking(shot, shot.layers[0])
        self.assertEqual(slow.cause, "Counterweight")
        self.assertTrue(3 < slow.speed < 10, slow)
        quick = changed(shot, ("rate",), 48.0)
        fast = advice.breaking(quick, quick.layers[0])
        self.assertAlmostEqual(fast.speed, 2 * slow.speed, places=6)
        self.assertAlmostEqual(fast.size, slow.size / 2 ** (2 / 3), places=9)
        self.assertGreater(fast.count, slow.count)

    def test_where_nothing_strikes_the_height_of_a_fall_counts(self):
        data = tiny().model_dump(mode="json")
        data["pieces"] = [p for p in data["pieces"] if p["motion"] != "driven"]
        shot = parse(data)
        found = advice.breaking(shot, shot.layers[0])
        self.assertAlmostEqual(found.speed, (2 * 9.81 * 4.0) ** 0.5, places=6)
        weightless = changed(shot, ("gravity",), [0.0, 0.0, 0.0])
        self.assertIsNone(advice.breaking(weightless, weightless.layers[0]))


class File(unittest.TestCase):
    def test_a_shot_survives_the_way_to_text_and_back(self):
        self.assertEqual(loads(dumps(tiny())), tiny())

    def test_a_file_cut_in_half_says_so(self):
        text = dumps(tiny())
        with self.assertRaisesRegex(BadFile, "granary.shot.json is not complete JSON .*cut short"):
            loads(text[: len(text) // 2], "granary.shot.json")

    def test_another_kind_of_json_says_so(self):
        with self.assertRaisesRegex(BadFile, "its 'format' must be 'urst-shot/1'"):
            loads("[1, 2]")

    def test_an_imported_mesh_travels_inside(self):
        ball = generators.ball(0.5)[0]
        kept = Imported.from_mesh(ball, "ball.stl").mesh()
        np.testing.assert_array_equal(kept.vertices, ball.vertices)
        np.testing.assert_array_equal(kept.triangles, ball.triangles)


class BadValues(unittest.TestCase):
    def refused(self, sentence, path, value):
        with self.assertRaisesRegex(BadValue, sentence):
            changed(tiny(), path, value)

    def test_an_exaggeration_with_nothing_to_act_on(self):
        link = {"layer": "fall", "both_ways": False, "exaggeration": 2.0}
        self.refused("exaggeration 2 of the link to 'fall' has nothing to act on", ("layers", 2, "reads"), [link])

    def test_a_camera_that_looks_at_itself(self):
        self.refused("the eye is where it looks at", ("camera", "target"), list(tiny().camera.eye))

    def test_a_count_of_none_or_a_million(self):
        self.refused(
            "count: 0 is not allowed; input should be greater than or equal to 1", ("layers", 0, "settings", "count"), 0
        )
        self.refused(
            "count: 1000000 is not allowed; input should be less than or equal to 20000",
            ("layers", 0, "settings", "count"),
            10**6,
        )

    def test_negative_density(self):
        self.refused("density: -5.0 is not allowed; input should be greater than 0", ("pieces", 0, "density"), -5.0)

    def test_an_end_before_the_first_frame(self):
        self.refused("end -3 is before start 1", ("end",), -3)

    def test_an_unknown_layer_kind(self):
        self.refused("does not match any of the expected tags", ("layers", 0, "kind"), "melt")

    def test_a_circle_of_layers(self):
        self.refused("read each other in a circle", ("layers", 1, "reads"), [{"layer": "break"}, {"layer": "shed"}])

    def test_a_link_to_nothing(self):
        self.refused("reads 'gone', which is not in the shot", ("layers", 1, "reads"), [{"layer": "gone"}])

    def test_a_layer_that_lacks_what_it_needs(self):
        self.refused("must read a fall layer", ("layers", 2, "reads"), [])

    def test_a_broken_piece_that_is_not_there(self):
        self.refused("breaks 'Roof', which is no set piece", ("layers", 0, "settings", "pieces"), ["Roof"])

    def test_two_pieces_of_one_name(self):
        self.refused("two set pieces are called 'Quay'", ("pieces", 1, "name"), "Quay")

    def test_a_driven_piece_without_a_path(self):
        self.refused("'Quay' is driven but has no keys", ("pieces", 0, "motion"), "driven")

    def test_not_a_number(self):
        self.refused("rate", ("rate",), float("nan"))

    def test_a_domain_turned_inside_out_or_endless(self):
        self.refused("along x, less than four cells", ("layers", 3, "settings", "high"), [-9, 5, 5])
        self.refused("use larger cells or a smaller domain", ("layers", 3, "settings", "cell_size"), 0.001)

    def test_an_unknown_field(self):
        self.refused("Extra inputs are not permitted|extra inputs are not permitted", ("colour",), "red")


class Keys(unittest.TestCase):
    def test_only_what_depends_on_a_setting_changes_its_key(self):
        shot = tiny()
        before = layer_keys(shot)

        def differing(path, value):
            after = layer_keys(changed(shot, path, value))
            return {x for x in before if before[x] != after[x]}

        self.assertEqual(differing(("layers", 2, "settings", "chips"), 10), {"shed", "billow"})
        self.assertEqual(differing(("layers", 3, "settings", "dissolve"), 3), {"billow"})
        self.assertEqual(differing(("layers", 0, "settings", "seed"), 99), {"break", "fall", "shed", "billow"})
        self.assertEqual(differing(("layers", 1, "name"), "Collapse"), set())
        self.assertEqual(differing(("end",), 12), set())
        self.assertEqual(differing(("rate",), 25), {"fall", "shed", "billow"})
        self.assertEqual(differing(("pieces", 0, "material"), "concrete"), {"fall", "shed", "billow"})

    def test_a_change_taken_back_finds_the_old_key(self):
        shot = tiny()
        there = changed(shot, ("layers", 1, "settings", "steps"), 9)
        self.assertEqual(layer_keys(changed(there, ("layers", 1, "settings", "steps"), 4)), layer_keys(shot))


class Plan(unittest.TestCase):
    def test_layers_come_after_what_they_read_whatever_their_order(self):
        data = tiny().model_dump(mode="json")
        data["layers"].reverse()
        order = [x for step in plan(parse(data)) for x in step.layers]
        self.assertEqual(order, ["break", "fall", "shed", "billow"])

    def test_a_wanted_layer_brings_what_it_reads(self):
        self.assertEqual([s.layers for s in plan(tiny(), ["shed"])], [("break",), ("fall",), ("shed",)])
        self.assertEqual(dependents(tiny(), "fall"), ["shed", "billow"])

    def test_layers_that_act_both_ways_are_one_group_and_say_what_is_missing(self):
        data = tiny().model_dump(mode="json")
        data["layers"][3]["reads"] = [{"layer": "fall", "both_ways": True}, {"layer": "shed"}]
        data["layers"][1]["reads"] = [{"layer": "break"}]
        shot = parse(data)
        self.assertIn({"fall", "billow"}, [set(g) for g in groups(shot)])
        with self.assertRaisesRegex(BadValue, "cannot be stepped together yet"):
            plan(shot)

    def test_an_unknown_layer(self):
        with self.assertRaisesRegex(BadValue, "no layer 'smoke'; it has break, fall, shed, billow"):
            plan(tiny(), ["smoke"])


class Units(unittest.TestCase):
    def test_numbers_as_people_write_them(self):
        for text, unit, expected in (
            ("35 cm", "m", 0.35), ("2.4 t/m3", "kg/m3", 2400), ("0.35 MPa", "Pa", 350e3), ("12", "m", 12), ("350 kPa", "MPa", 0.35),
            ("-3.5e-2", "", -0.035), ("36 km/h", "m/s", 10), ("2.4 t/m³", "kg/m3", 2400),
        ):  # fmt: skip
            self.assertAlmostEqual(parse_number(text, unit), expected, places=9, msg=text)

    def test_what_is_no_number_or_no_fitting_unit(self):
        with self.assertRaisesRegex(BadValue, "Tension: 'strong' is not a number; write one like 0.35 MPa"):
            parse_number("strong", "MPa", "Tension")
        with self.assertRaisesRegex(BadValue, "the unit 'kg' does not fit; use m, cm, mm"):
            parse_number("3 kg", "m", "Width")
        with self.assertRaisesRegex(BadValue, "too large"):
            parse_number("1e999", "m", "Width")


class Paths(unittest.TestCase):
    def test_a_driven_piece_passes_its_keys_and_rests_beyond_them(self):
        shot = tiny()
        weight = next(p for p in shot.pieces if p.name == "Counterweight")
        at = scene.path(weight)
        for key in weight.keys:
            np.testing.assert_allclose(at(key.frame)[0], key.position, atol=1e-9)
        np.testing.assert_allclose(at(-100)[0], weight.keys[0].position)
        np.testing.assert_allclose(at(1e6)[0], weight.keys[-1].position)


class Quality(unittest.TestCase):
    def test_draft_is_coarser_and_frames_end_earlier(self):
        shot = tiny()
        self.assertLess(draft(shot).layers[3].settings.cells(), shot.layers[3].settings.cells())
        self.assertEqual(with_frames(shot, "1-9").end, 9)
        for text, sentence in (
            ("2-9", "starts at frame 1, not 2"),
            ("1-99", "outside 1 to 18"),
            ("nine", "is not a range"),
        ):
            with self.assertRaisesRegex(BadValue, sentence):
                with_frames(shot, text)

    def test_the_small_shot_is_what_it_says(self):
        self.assertEqual(json.loads(dumps(falling_box()))["name"], "Box")


if __name__ == "__main__":
    unittest.main()
