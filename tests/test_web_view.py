"""Over HTTP: pieces moved, cameras, the picture, sources and quick movies."""

import io
import unittest

import numpy as np
from PIL import Image

from tests.live import Live
from tests.shots import falling_box, tiny
from urst.bake.runner import bake
from urst.core.curves.curve import Curve
from urst.db import shots, versions
from urst.db.engine import session
from urst.demo import smoke, sparks
from urst.drawn import codec
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.store.store import Store
from urst.web.data import set_meta


def picture(width=64, height=36, kind="JPEG"):
    data = io.BytesIO()
    Image.fromarray(np.full((height, width, 3), 90, np.uint8)).save(data, kind)
    return data.getvalue()


class View(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live(worker=False))
        cls.http = cls.live.client

    def shot(self, shot_id):
        with session() as db:
            return shots.get(db, shot_id).shot

    def test_a_piece_is_moved_and_a_driven_one_with_its_path(self):
        shot_id = self.live.add(tiny())
        before = self.shot(shot_id)
        driven = next(i for i, p in enumerate(before.pieces) if p.motion == "driven")
        for number in (0, driven):
            self.http.post(f"/shots/{shot_id}/pieces/{number}/move", data={"x": 0.1, "z": -2}).raise_for_status()
            old, new = before.pieces[number], self.shot(shot_id).pieces[number]
            for a, b in zip((old, *old.keys), (new, *new.keys)):
                np.testing.assert_allclose(np.subtract(b.position, a.position), (0.1, 0, -2), atol=1e-9)
        for data, number in (({"x": "far"}, 0), ({"x": "nan"}, 0), ({"x": 1}, 99)):
            self.assertEqual(self.http.post(f"/shots/{shot_id}/pieces/{number}/move", data=data).status_code, 422)

    def test_a_plane_across_water_and_a_probe_in_it(self):
        pool = parse(
            {
                "name": "Pool",
                "start": 1,
                "end": 2,
                "pieces": [],
                "layers": [
                    {
                        "id": "flood",
                        "name": "Flood",
                        "kind": "flood",
                        "settings": {"cell_size": 0.1, "low": (-1, -1, 0), "high": (1, 1, 2), "level": 1.0},
                    }
                ],
            }
        )
        shot_id, key = self.live.add(pool), layer_keys(pool)["flood"]
        bake(pool, Store(self.live.store))
        base = f"/data/{key}"
        meta = self.http.get(f"/shots/{shot_id}/stage").json()
        self.assertEqual([s["name"] for s in meta["sliced"]["flood"]], ["pressure", "speed", "cells"])
        # on a pool's floor there is a grid, under an open sea there is none
        self.assertFalse(meta["sea"])
        sea = pool.model_dump(mode="json")
        sea["layers"][0]["settings"] |= {"sides": "waves", "waves": {"wind": 6.0}}
        self.assertTrue(set_meta(parse(sea))["sea"])
        ask = {"of": "pressure", "axis": "y", "at": 0.05}

        def plane(**more):
            return codec.decode(self.http.get(f"{base}/slices/2", params=ask | more).content)

        found, about = plane()
        values, known = found["values"], found["known"]
        self.assertEqual(values.shape, (24, 24))
        # hydrostatic: ten cells of a tenth of a metre, from the middle of the lowest
        self.assertEqual(int(known[10].sum()), 10)
        np.testing.assert_allclose(values[10, :10], 9.81 * (0.95 - 0.1 * np.arange(10)), rtol=0.02)
        self.assertEqual(about["most"], 10.0)
        # beyond the grid there is nothing
        far, _ = plane(at=50)
        self.assertEqual(far["known"].sum(), 0)
        cells = plane(of="cells")[0]["values"]
        self.assertEqual(set(cells[10].tolist()), {0.0, 1.0, 2.0})
        for wrong in ({"of": "taste"}, {"axis": "w"}):
            refused = self.http.get(f"{base}/slices/2", params=ask | wrong)
            self.assertEqual((refused.status_code, "choose" in refused.json()["message"]), (422, True))
        # straight down, and from within
        told = self.http.get(f"{base}/probe/2", params={"eye": "0.05,0.05,3", "way": "0,0,-1"}).json()
        self.assertAlmostEqual(told["away"], 2.0, delta=0.06)
        said = {t["label"]: t["value"] for t in told["readings"]}
        self.assertAlmostEqual(said["of water here"], 1.0, delta=0.06)
        self.assertLess(said["below the surface"], 0.06)
        deep = self.http.get(f"{base}/probe/2", params={"eye": "0.05,0.05,0.4", "way": "0,1,0"}).json()["readings"]
        said = {t["label"]: t["value"] for t in deep}
        self.assertAlmostEqual(said["below the surface"], 0.6, delta=0.06)
        self.assertAlmostEqual(said["pressure"], 0.6 * 9.81, delta=0.4)
        # what stands nearer is in the way, and a way past it meets nothing
        for way in ({"until": 1.0}, {"way": "0,0,1"}):
            asked = {"eye": "0.05,0.05,3", "way": "0,0,-1"} | way
            self.assertEqual(self.http.get(f"{base}/probe/2", params=asked).json(), {})
        for way in ("0,0,0", "up", "nan,0,1", "1,2"):
            refused = self.http.get(f"{base}/probe/2", params={"eye": "0,0,3", "way": way})
            self.assertEqual(refused.status_code, 422)
        self.assertEqual(
            self.http.get(f"/data/{'0' * 39}/probe/2", params={"eye": "0,0,3", "way": "0,0,1"}).status_code, 404
        )

    def test_cameras_and_the_picture(self):
        shot_id = self.live.add(falling_box())
        place = {"eye": "1, 2, 3", "target": "0, 0, 1"}
        for number in (1, 2):
            self.http.post(f"/shots/{shot_id}/camera", data=place | {"new": True}).raise_for_status()
            self.assertEqual(self.shot(shot_id).through, f"camera {number}")
        self.http.post(
            f"/shots/{shot_id}/whole/0", data={"path": "cameras.2.name", "value": "close"}
        ).raise_for_status()
        self.assertEqual(self.shot(shot_id).camera.name, "close")
        self.http.post(f"/shots/{shot_id}/seen", data={"path": "through", "value": "main"}).raise_for_status()
        refused = self.http.post(f"/shots/{shot_id}/seen", data={"path": "through", "value": "none"})
        self.assertIn(
            "seen through 'none', which is no camera; there are main, camera 1, close", refused.json()["message"]
        )
        self.assertEqual(self.http.post(f"/shots/{shot_id}/seen", data={"path": "end", "value": "3"}).status_code, 422)
        for _ in range(2):
            self.http.post(f"/shots/{shot_id}/cameras/remove").raise_for_status()
        last = self.http.post(f"/shots/{shot_id}/cameras/remove")
        self.assertIn("at least one camera", last.json()["message"])
        self.http.post(f"/shots/{shot_id}/seen", data={"path": "picture.exposure", "value": "-1.5"}).raise_for_status()
        self.assertEqual(self.shot(shot_id).picture.exposure, -1.5)
        meta = self.http.get(f"/shots/{shot_id}/stage").json()
        self.assertEqual((meta["picture"]["width"], meta["cameras"]), (1920, ["close"]))

    def test_sources_tell_places_velocities_and_the_total(self):
        data = smoke.shot().model_dump(mode="json")
        source = data["layers"][0]["settings"]["sources"][0]
        source |= {"rate": {"over": "frame", "points": [{"at": 1, "value": 0}, {"at": 49, "value": 0.4}]}, "until": 48}
        shot = parse(data)
        shot_id = self.live.add(shot)
        (found,) = self.http.get(f"/shots/{shot_id}/sources/smoke", params={"frame": 12}).json()
        # the integral of a straight rise over 48 frames at the shot's rate
        total = 0.5 * 0.4 * 48 / shot.rate
        self.assertIn(f"{total:.3g} kg over frames 1 to 48", found["total"])
        self.assertIsInstance(shot.layers[0].settings.sources[0].rate, Curve)
        places, piece = np.array(found["places"]).reshape(-1, 3), shot.piece(found["piece"])
        self.assertLess(np.abs(places[:, :2] - piece.position[:2]).max(), 3.0)
        velocity = np.array([v for _, v in found["arrows"]])
        np.testing.assert_allclose(velocity, np.tile(source["velocity"], (len(velocity), 1)), atol=1e-6)
        (later,) = self.http.get(f"/shots/{shot_id}/sources/smoke", params={"frame": 55}).json()
        self.assertEqual((found["open"], later["open"]), (True, False))
        (points,) = self.http.get(f"/shots/{self.live.add(sparks.shot())}/sources/sparks", params={"frame": 3}).json()
        self.assertIn("points over frames", points["total"])
        self.assertEqual(self.http.get(f"/shots/{self.live.add(tiny())}/sources/fall", params={"frame": 3}).json(), [])

    def test_a_movie_is_kept_with_the_version_it_shows(self):
        shot_id = self.live.add(falling_box())

        def make(*pictures, **data):
            files = [("pictures", (f"{i}.jpg", p, "image/jpeg")) for i, p in enumerate(pictures)]
            return self.http.post(f"/shots/{shot_id}/movies", files=files, data={"first": 3} | data)

        for answer, sentence in (
            (make(b"no picture"), "is no picture that can be read"),
            (make(picture(kind="PNG")), "is no picture that can be read"),
            (make(picture(5000, 4)), "2 to 4096 pixels"),
            (make(picture(), quality="fine"), "there are shot and draft"),
        ):
            self.assertEqual((answer.status_code, sentence in answer.json()["message"]), (422, True), answer.text)
        self.assertIn("of one size", make(picture(), picture(32, 36)).json()["message"])
        with session() as db:
            self.assertEqual(versions.every(db, shot_id), [])
        first, again = make(picture(), picture()).json(), make(picture(65, 37)).json()
        self.assertEqual((first["version"], first["file"]), (1, "movies/v1-3-4-shot.mp4"))
        self.assertEqual((again["version"], again["file"]), (1, "movies/v1-3-3-shot.mp4"))
        self.assertEqual(make(picture()).json()["file"], "movies/v1-3-3-shot-2.mp4")
        self.assertEqual(
            self.http.get(f"/shots/{shot_id}/handover/{first['file']}").headers["content-type"], "video/mp4"
        )
        self.http.post(f"/shots/{shot_id}/seen", data={"path": "picture.exposure", "value": "1"}).raise_for_status()
        self.assertEqual(make(picture()).json()["version"], 2)
        page = self.http.get(f"/shots/{shot_id}/versions", headers={"accept": "text/html"}).text
        self.assertEqual(page.count(", movie</a>"), 4)


if __name__ == "__main__":
    unittest.main()
