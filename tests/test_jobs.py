"""Queue and worker: progress, stop, a dead worker, a lost database."""

import time
import unittest

from sqlalchemy import text

from tests.live import Live, wait_for
from tests.shots import falling_box, tiny
from urst.db import runs
from urst.db.engine import engine, session
from urst.db.tables import BakeRow, RunRow
from urst.jobs import queue
from urst.shot.keys import layer_keys
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
        shot = falling_box(1500)
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
        self.assertEqual(len(self.store.frames(layer_keys(shot)["fall"])), 1500)

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
                    "VALUES ('bakes', 'run', jsonb_build_object('run_id', :run), 'failed')"
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


if __name__ == "__main__":
    unittest.main()
