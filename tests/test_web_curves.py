"""Curves and cues over HTTP: typed, refused, followed, measured."""

import unittest

from tests.live import Live
from tests.shots import falling_box, tiny
from urst.core.curves.curve import Curve
from urst.db import shots
from urst.db.engine import session


class Curves(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live())
        cls.http = cls.live.client

    def shot(self, shot_id):
        with session() as db:
            return shots.get(db, shot_id).shot

    def post(self, shot_id, route, path, value):
        return self.http.post(
            f"/shots/{shot_id}/{route}", data={"path": path, "value": value}, headers={"accept": "text/html"}
        ).text

    def points(self, number):
        self.assertIsInstance(number, Curve)
        return [(p.at, p.value) for p in number.points]

    def test_a_curve_is_typed_in_the_units_shown_and_said_again_in_the_same_words(self):
        shot_id = self.live.add(tiny())
        reply = self.post(shot_id, "recipe/fall", "bonds.tension", "over height 0: 0.1, 250 cm: 400 kPa")
        self.assertEqual(self.points(self.shot(shot_id).layer("fall").settings.bonds.tension), [(0, 1e5), (2.5, 4e5)])
        self.assertIn('value="over height 0: 0.1, 2.5: 0.4"', reply)
        self.post(shot_id, "recipe/fall", "bonds.shear", "over distance from 1 -2 0.5 0: 0.1, 3: 0.2")
        self.assertEqual(self.shot(shot_id).layer("fall").settings.bonds.shear.origin, (1.0, -2.0, 0.5))
        self.post(shot_id, "recipe/fall", "bonds.shear", "0.3")
        self.assertEqual(self.shot(shot_id).layer("fall").settings.bonds.shear, 3e5)
        self.post(shot_id, "whole/0", "time_scale", "over frame 5: 1, 9: 0.33")
        self.assertAlmostEqual(self.shot(shot_id).clock().dt(15), 0.33 / 24, places=9)

    def test_what_is_no_curve_is_refused_in_one_sentence(self):
        shot_id = self.live.add(tiny())
        for path, text, sentence in (
            ("scalars.1.rise", "over speed 0: 1, 2: 3", "Temperature rise: a curve here runs over frame"),
            ("scalars.1.rise", "over frame 0: 1, two: 3", "&#39;two&#39; is no frame and no cue; the cues are: hit"),
            ("scalars.1.rise", "over frame 9: 1, 4: 3", "their frames must rise"),
            ("scalars.1.rise", "over frame 1: 0, 9: 5000", "5000 at frame 9 must lie from -200 to 2000"),
            ("scalars.1.rise", "over frame", "the curve has no points"),
            ("scalars.1.rise", "over frame 3", "&#39;3&#39; is no point of a curve"),
            ("swirl", "over height 2 kg: 1", "the unit &#39;kg&#39; does not fit"),
            ("cell_size", "over frame 1: 0.2", "is not a number"),
        ):
            self.assertIn(sentence, self.post(shot_id, "recipe/billow", path, text), text)
        self.assertEqual(self.shot(shot_id), tiny())

    def test_curves_and_frames_follow_the_cues_they_name(self):
        shot_id = self.live.add(tiny())
        hit = self.shot(shot_id).cues[0].frame
        self.post(shot_id, "recipe/billow", "scalars.1.rise", "over frame hit - 2: 0, hit + 4: 40, 60: 0")
        self.http.post(f"/shots/{shot_id}/recipe/billow/entries/sources", data={"piece": "Quay"})
        reply = self.post(shot_id, "recipe/billow", "sources.0.since", "= hit + 1")
        self.assertIn('value="= hit + 1"', reply)
        self.assertIn('value="over frame hit - 2: 0, hit + 4: 40, 60: 0"', reply)
        settings = self.shot(shot_id).layer("billow").settings
        self.assertEqual([p.at for p in settings.scalars[1].rise.points], [hit - 2, hit + 4, 60])
        self.assertEqual(settings.sources[0].since, hit + 1)
        self.post(shot_id, "whole/0", "cues.0.frame", "20")
        self.post(shot_id, "whole/0", "cues.0.name", "strike")
        settings = self.shot(shot_id).layer("billow").settings
        self.assertEqual(
            ([p.at for p in settings.scalars[1].rise.points], settings.sources[0].since), ([18, 24, 60], 21)
        )
        # a cue that would turn the curve round is refused, and nothing is lost
        self.assertIn("their frames must rise", self.post(shot_id, "whole/0", "cues.0.frame", "70"))
        self.assertEqual(self.shot(shot_id).cues[0].frame, 20)
        self.assertIn("has no value", self.post(shot_id, "recipe/billow", "scalars.0.buoyancy", "= strike x 1.2.3"))
        self.assertIn("only frames follow a cue", self.post(shot_id, "recipe/billow", "scalars.0.buoyancy", "= strike"))
        self.http.post(f"/shots/{shot_id}/cues/0/remove")
        shot = self.shot(shot_id)
        self.assertEqual((shot.uses, shot.layer("billow").settings.sources[0].since), ((), 21))

    def test_what_drives_a_curve_is_measured_at_the_frame(self):
        shot_id = self.live.add(tiny(seed=23))
        ask = lambda layer, **query: self.http.get(f"/shots/{shot_id}/measured/{layer}", params=query)  # noqa: E731
        self.assertEqual(ask("shed", path="chips", over="speed", frame=16).json()["bars"], [])
        self.live.bake(shot_id, "break")
        for layer, path, over in (
            ("shed", "chips", "speed"),
            ("shed", "restitution", "speed"),
            ("shed", "puff_giving", "age"),
            ("fall", "bonds.tension", "height"),
            ("fall", "bonds.tension", "distance"),
            ("billow", "swirl", "height"),
            ("billow", "scalars.1.rise", "frame"),
        ):
            found = ask(layer, path=path, over=over, frame=16).json()
            self.assertGreater(sum(found["bars"]), 0, (layer, path, over))
            self.assertGreater(found["high"], found["low"])
        bonds = ask("fall", path="bonds.tension", over="height", frame=16).json()
        self.assertTrue(2.5 < bonds["high"] < 4.5, bonds["high"])
        far = ask("fall", path="bonds.tension", over="distance", frame=16, origin="0 0 100").json()
        self.assertTrue(96 < far["high"] < 101, far["high"])
        # a changed layer is still measured by what is in view of it
        key = next(x["key"] for x in self.http.get(f"/shots/{shot_id}/state").json()["layers"] if x["id"] == "shed")
        self.post(shot_id, "recipe/shed", "chips", "261")
        self.assertEqual(ask("shed", path="restitution", over="speed", frame=16).json()["bars"], [])
        seen = ask("shed", path="restitution", over="speed", frame=16, shown=f"shed:{key}").json()
        self.assertGreater(sum(seen["bars"]), 0)
        for query in (
            {"over": "colour"},
            {"over": "distance", "origin": "1 2"},
            {"over": "height", "shown": "shed:../../etc"},
        ):
            self.assertEqual(ask("shed", **({"path": "chips", "frame": 16} | query)).status_code, 422, query)

    def test_a_layer_without_frames_or_bonds_says_nothing_is_measured(self):
        shot_id = self.live.add(falling_box(4, top_speed=61))
        reply = self.http.get(
            f"/shots/{shot_id}/measured/fall", params={"path": "bonds.shear", "over": "height", "frame": 2}
        )
        self.assertIn("no height measured", reply.json()["about"])


if __name__ == "__main__":
    unittest.main()
