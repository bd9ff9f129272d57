"""Two editors at once, requests of any kind, and a queue that is asked for the same, or for what kills its worker."""

import os
import random
import threading
import unittest

import httpx

from tests import fuzz_requests
from tests.live import Live, wait_for
from tests.shots import falling_box, tiny
from urst.bake import runner
from urst.db import runs, shots
from urst.db.engine import session
from urst.db.tables import RunRow
from urst.jobs import queue
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.shot.preflight import memory
from urst.store.store import Store


class Editors(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live(worker=False))

    def setUp(self):
        self.shot_id = self.live.add(tiny())
        base = self.live.client.base_url
        self.first, self.second = (self.enterContext(httpx.Client(base_url=base, timeout=30)) for _ in range(2))

    def shot(self):
        with session() as db:
            return shots.get(db, self.shot_id).shot

    def revision(self):
        return str(self.live.state(self.shot_id)["revision"])

    def set(self, who, path, value, seen="", place="recipe/fall"):
        return who.post(
            f"/shots/{self.shot_id}/{place}",
            data={"path": path, "value": value},
            headers={"accept": "text/html", "urst-revision": seen},
        )

    def test_two_that_change_other_settings_at_once_both_do(self):
        for n in range(10):
            ends = threading.Barrier(2)
            replies = []

            def change(who, path, value, ends=ends, replies=replies):
                ends.wait()
                replies.append(self.set(who, path, value).status_code)

            both = [
                threading.Thread(target=change, args=(self.first, "bonds.tension", f"{300 + n} kPa")),
                threading.Thread(target=change, args=(self.second, "bonds.shear", f"{400 + n} kPa")),
            ]
            for one in both:
                one.start()
            for one in both:
                one.join()
            self.assertEqual(replies, [200, 200])
            bonds = self.shot().layer("fall").settings.bonds
            self.assertAlmostEqual(bonds.tension, (300 + n) * 1e3)
            self.assertAlmostEqual(bonds.shear, (400 + n) * 1e3)

    def test_a_setting_that_another_has_changed_is_told_with_both_values(self):
        seen = self.revision()
        self.assertEqual(self.set(self.first, "bonds.tension", "300 kPa", seen).status_code, 200)
        reply = self.set(self.second, "bonds.tension", "500 kPa", seen)
        self.assertEqual(reply.status_code, 409)
        self.assertIn("it has been made 0.3 MPa elsewhere; you put 500 kPa", reply.text)
        self.assertAlmostEqual(self.shot().layer("fall").settings.bonds.tension, 300e3)
        # what was shown with that is what is seen now: put once more it stands
        self.assertEqual(self.set(self.second, "bonds.tension", "500 kPa", self.revision()).status_code, 200)
        self.assertAlmostEqual(self.shot().layer("fall").settings.bonds.tension, 500e3)
        # another setting on the old page, and the same value put twice, are no matter
        self.assertEqual(self.set(self.first, "bonds.shear", "450 kPa", seen).status_code, 200)
        self.assertEqual(self.set(self.first, "bonds.tension", "500 kPa", seen).status_code, 200)

    def test_what_was_undone_is_not_taken_for_what_came_in_its_place(self):
        self.set(self.first, "bonds.tension", "300 kPa")
        seen = self.revision()
        self.first.post(f"/shots/{self.shot_id}/history/undo")
        self.set(self.second, "bonds.tension", "400 kPa")
        self.assertNotEqual(self.revision(), seen)
        self.assertEqual(self.set(self.first, "bonds.tension", "350 kPa", seen).status_code, 409)

    def test_pieces_cues_and_keys_are_found_by_what_they_are(self):
        names = [p.name for p in self.shot().pieces]
        seen = self.revision()
        last = len(names) - 1
        self.assertEqual(self.first.post(f"/shots/{self.shot_id}/add-piece", data={"kind": "box"}).status_code, 200)
        with session() as db:
            kept = shots.get(db, self.shot_id)
            data = kept.shot.model_dump(mode="json")
            data["pieces"].insert(0, data["pieces"].pop())
            shots.change(db, self.shot_id, parse(data), "another order")
        # the page still has it as the last one: the piece is meant, not its place
        reply = self.set(self.second, "position", "1, 2, 3", seen, f"pieces/{last}")
        self.assertEqual(reply.status_code, 200)
        self.assertEqual(self.shot().piece(names[last]).position, (1.0, 2.0, 3.0))

        at = len(self.shot().cues)
        for frame in (3, 5):
            self.first.post(f"/shots/{self.shot_id}/cues", data={"frame": frame})
        seen = self.revision()
        away = lambda who, n: who.post(f"/shots/{self.shot_id}/cues/{n}/remove", headers={"urst-revision": seen})  # noqa: E731
        self.assertEqual(away(self.first, at).status_code, 200)
        # pressed at the same moment by another: the one that is gone is not answered with the next
        self.assertEqual(away(self.second, at).status_code, 409)
        self.assertEqual([c.frame for c in self.shot().cues][at:], [5])
        self.assertEqual(away(self.second, at + 1).status_code, 200)

    def test_an_undo_says_that_it_takes_back_what_another_did(self):
        self.set(self.first, "bonds.tension", "300 kPa")
        self.set(self.second, "bonds.shear", "400 kPa")
        undo = lambda who: who.post(f"/shots/{self.shot_id}/history/undo").json()  # noqa: E731
        self.assertEqual(undo(self.first), {"moved": True, "what": "bonds.shear 400 kPa", "elsewhere": True})
        self.assertEqual(undo(self.first), {"moved": True, "what": "bonds.tension 300 kPa", "elsewhere": False})
        self.assertEqual(self.first.post(f"/shots/{self.shot_id}/history/sideways").status_code, 422)


class Queue(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live(worker=False))

    def test_the_same_asked_for_eight_times_at_once_is_one_run(self):
        shot_id = self.live.add(tiny())
        ready, codes = threading.Barrier(8), []

        def ask():
            with httpx.Client(base_url=self.live.client.base_url, timeout=60) as client:
                ready.wait()
                codes.append(client.post(f"/shots/{shot_id}/bake/fall").status_code)

        askers = [threading.Thread(target=ask) for _ in range(8)]
        for one in askers:
            one.start()
        for one in askers:
            one.join()
        self.assertEqual(sorted(codes), [200] + [422] * 7)
        with session() as db:
            self.assertEqual(len(runs.open_of(db, shot_id)), 1)

    def test_what_needs_more_memory_than_there_is_is_refused_with_both_figures(self):
        found = memory(tiny(), 1e3)
        self.assertTrue(found and found[0].grave)
        self.assertRegex(found[0].title, r"need.* GB of memory and there are 0\.0 GB")
        self.assertEqual(memory(tiny(), 1e15), [])


class Requests(unittest.TestCase):
    def test_whatever_is_asked_is_answered_in_a_sentence_and_breaks_nothing(self):
        rng = random.Random(int(os.environ.get("URST_FUZZ_SEED", "20")))
        with Live(worker=False) as live:
            baked = falling_box(4)
            runner.bake(baked, Store(live.store))
            ids = [live.add(tiny(seed=44)), live.add(baked)]
            known = {"shot_id": ids, "key": [layer_keys(baked)["fall"]]}
            count = int(os.environ.get("URST_FUZZ_REQUESTS", "1000"))
            self.assertEqual(fuzz_requests.tried(live.base, known, rng, count), [])
            self.assertNotIn("Traceback", live.log("serve"))
            for shot_id in ids:
                self.assertEqual(live.state(shot_id)["id"], shot_id)
            self.assertEqual(live.client.get("/").status_code, 200)


class GivenUp(unittest.TestCase):
    def test_a_run_whose_worker_is_ended_each_time_is_given_up_with_the_likely_cause(self):
        live = self.enterContext(Live(worker=False))
        shot_id = live.add(tiny())
        number = queue.submit(shot_id, tiny(), ["fall"])
        with session() as db:
            db.get(RunRow, number).tries = 3
            db.commit()
        live.start("worker")

        def ended():
            with session() as db:
                row = db.get(RunRow, number)
                return row.state == "failed" and row.message

        message = wait_for(ended, "the run to be given up", 120)
        self.assertRegex(message, r"ended 3 times without a frame done.*forecast to take .* GB")
        self.assertEqual(live.state(shot_id)["last"]["state"], "failed")


if __name__ == "__main__":
    unittest.main()
