"""Queue and worker: progress, stop, a dead worker, a lost database."""

import json
import time
import unittest
from unittest import mock

from sqlalchemy import text

from tests.live import Live, wait_for
from tests.shots import falling_box, tiny
from urst.db import runs
from urst.db.engine import engine, session
from urst.db.tables import BakeRow, RunRow
from urst.jobs import queue
from urst.shot.keys import layer_keys
from urst.shot.plan import plan
from urst.store.store import Store


def row(run):
    with session() as db:
        found = db.get(RunRow, run)
        db.expunge(found)
        return found


class Work(unittest.TestCase):
    def setUp(self):
        self.live = Live(server=False)
        self.live.__enter__()
        self.addCleanup(self.live.__exit__)
        self.store = Store(self.live.store)

    def submit(self, shot, layers=None):
        shot_id = self.live.add(shot)
        return queue.submit(shot_id, shot, layers or [x.id for x in shot.layers])

    def ended(self, run, seconds=120):
        return wait_for(lambda: (r := row(run)).state not in runs.OPEN and r, "the run to end", seconds)

    def test_a_run_ends_with_its_frames_on_disk_and_in_the_index(self):
        shot = falling_box(12)
        done = self.ended(self.submit(shot))
        self.assertEqual((done.state, done.message), ("done", ""))
        self.assertEqual(done.progress["done"], 12)
        key = layer_keys(shot)["fall"]
        self.assertEqual(len(self.store.frames(key)), 12)
        with session() as db:
            kept = db.get(BakeRow, key)
            self.assertEqual((kept.kind, kept.frames), ("fall", 12))
            self.assertEqual(kept.bytes, self.store.usage(key).bytes)

    def test_a_stop_is_obeyed_within_two_seconds(self):
        shot = falling_box(4000)
        run = self.submit(shot)
        wait_for(lambda: row(run).progress.get("done", 0) > 5, "some frames")
        with session() as db:
            runs.request_stop(db, run)
        asked = time.monotonic()
        self.assertEqual(self.ended(run, 10).state, "stopped")
        self.assertLess(time.monotonic() - asked, 2.0)
        self.assertGreater(len(self.store.frames(layer_keys(shot)["fall"])), 5)

    def test_a_waiting_run_is_stopped_at_once(self):
        first = self.submit(falling_box(4000))
        second = self.submit(falling_box(50, steps=2))
        with session() as db:
            runs.request_stop(db, second)
            self.assertEqual(db.get(RunRow, second).state, "stopped")
            runs.request_stop(db, first)
        self.ended(first, 20)
        self.assertEqual(row(second).progress, {})

    def test_a_dead_worker_s_run_is_taken_up_again(self):
        shot = falling_box(500)
        run = self.submit(shot)
        wait_for(lambda: row(run).progress.get("done", 0) > 10, "some frames")
        self.live.kill("worker")
        self.assertEqual(row(run).state, "running")
        third = self.store.folder(layer_keys(shot)["fall"]) / "frame000003.urf"
        written = third.stat().st_mtime_ns
        self.live.start("worker")
        self.assertEqual(self.ended(run, 150).state, "done")
        # what was done before is kept, not baked again
        self.assertEqual(third.stat().st_mtime_ns, written)
        self.assertEqual(len(self.store.frames(layer_keys(shot)["fall"])), 500)

    def test_a_run_whose_job_a_crash_has_ended_or_never_queued_is_worked_off_all_the_same(self):
        ids = []
        for shot in (falling_box(5), falling_box(6)):
            with session() as db:
                ids.append(runs.add(db, self.live.add(shot), shot, ["fall"], "bake").id)
        self.live.kill("worker")
        with engine().begin() as connection:
            connection.execute(text("UPDATE runs SET created = created - interval '1 minute'"))
            # as a worker leaves it that loses the database just as it begins
            connection.execute(
                text(
                    "INSERT INTO procrastinate_jobs (queue_name, task_name, args, status) "
                    "VALUES ('bakes-2', 'run', jsonb_build_object('run_id', :run), 'failed')"
                ),
                {"run": ids[1]},
            )
            connection.execute(text("UPDATE runs SET state = 'running' WHERE id = :run"), {"run": ids[1]})
        with session() as db:
            self.assertEqual(runs.orphans(db), ids)
        self.live.start("worker")
        for run in ids:
            self.assertEqual(self.ended(run, 60).state, "done")
        with session() as db:
            self.assertEqual(runs.orphans(db), [])

    def test_a_lost_database_connection_does_not_stop_the_bake(self):
        shot = falling_box(600)
        run = self.submit(shot)
        wait_for(lambda: row(run).progress.get("done", 0) > 10, "some frames")
        with engine().connect() as connection:
            connection.execution_options(isolation_level="AUTOCOMMIT").execute(
                text(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND "
                    "pid <> pg_backend_pid()"
                )
            )
        engine().dispose()
        self.assertEqual(self.ended(run).state, "done")
        self.assertEqual(len(self.store.frames(layer_keys(shot)["fall"])), 600)

    def test_a_shot_that_cannot_be_baked_fails_in_words(self):
        data = tiny().model_dump(mode="json")
        data["pieces"][7]["shape"] = {"kind": "mesh", "source": "x.obj", "mesh": "0" * 40}
        shot_id = self.live.add(tiny())
        run = queue.submit(shot_id, type(tiny()).model_validate(data), ["fall"])
        done = self.ended(run)
        self.assertEqual(done.state, "failed")
        self.assertIn("import its file again", done.message)

    def baked_once(self, key):
        """Whether no frame was baked twice."""
        lines = (self.store.folder(key) / "times.jsonl").read_text().splitlines()
        frames = [json.loads(line)[0] for line in lines]
        return len(frames) == len(set(frames))

    def test_a_draft_goes_before_a_long_bake_which_then_goes_on(self):
        long = falling_box(3000)
        first = self.submit(long)
        wait_for(lambda: row(first).progress.get("done", 0) > 5, "some frames")
        short = falling_box(20, steps=5)
        second = queue.submit(self.live.add(short), short, ["fall"], urgent=True)
        self.assertEqual(self.ended(second, 60).state, "done")
        self.assertIn(row(first).state, runs.OPEN)
        done = len(self.store.frames(layer_keys(long)["fall"]))
        wait_for(lambda: len(self.store.frames(layer_keys(long)["fall"])) > done + 5, "the long one to go on", 60)
        with session() as db:
            runs.request_stop(db, first)
        self.assertEqual(self.ended(first, 20).state, "stopped")

    def test_two_workers_bake_two_shots_alike_once_and_one_takes_over_when_the_other_dies(self):
        self.live.start("worker2", command="worker")
        shot = falling_box(450)
        key = layer_keys(shot)["fall"]
        both = [queue.submit(self.live.add(shot), shot, ["fall"]) for _ in range(2)]
        wait_for(lambda: len(self.store.frames(key)) > 20, "some frames")
        with session() as db:
            self.assertEqual(len(runs.workers(db)), 2)
        busy = next(r.worker for r in map(row, both) if r.progress.get("done"))
        name = next(n for n, p in self.live.processes.items() if busy.endswith(f" {p.pid}"))
        self.live.kill(name)
        for run in both:
            self.assertEqual(self.ended(run, 150).state, "done")
        self.assertEqual(self.store.frames(key), list(shot.frames()))

    def test_two_shots_alike_are_baked_once(self):
        self.live.start("worker2", command="worker")
        shot = falling_box(400, steps=3)
        both = [queue.submit(self.live.add(shot), shot, ["fall"]) for _ in range(2)]
        for run in both:
            self.assertEqual(self.ended(run, 60).state, "done")
        self.assertTrue(self.baked_once(layer_keys(shot)["fall"]))

    def test_work_waits_for_a_worker_that_it_fits_into(self):
        large = tiny(end=3)
        step = plan(large)[1]
        self.assertEqual(queue.queue_for(large, step), "bakes-2")
        with mock.patch.object(queue, "forecast", lambda shot, x: mock.Mock(memory=5e9)):
            self.assertEqual(queue.queue_for(large, step, 64e9), "bakes-8")
            # the largest there is gets it, and says that it does not fit
            self.assertEqual(queue.queue_for(large, step, 4e9), "bakes-4")
        self.assertEqual(queue.queues_within(9e9), ["bakes-2", "bakes-4", "bakes-8"])
        self.assertEqual(queue.queues_within(1e9), ["bakes-2"])


if __name__ == "__main__":
    unittest.main()
