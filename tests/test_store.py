"""The store: whole or not at all, checked on reading, the same bytes for the same content."""

import errno
import hashlib
import itertools
import os
import struct
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from urst.errors import CacheDamaged, Stopped, StoreFailed, StoreFull
from urst.store import frames, lease
from urst.store.holding import Holding, look
from urst.store.store import Store

KEY = "ab" * 20


class FrameFiles(unittest.TestCase):
    ARRAYS = {
        "a": np.arange(12, dtype=np.float32).reshape(3, 4),
        "empty": np.zeros((0, 3)),
        "flags": np.array([1, 0], np.uint8),
    }

    def test_arrays_and_meta_come_back_exactly(self):
        arrays, meta = frames.decode(frames.encode(self.ARRAYS, {"frame": 3, "gauges": {"x": 0.1}}))
        self.assertEqual(meta, {"frame": 3, "gauges": {"x": 0.1}})
        for name, array in self.ARRAYS.items():
            np.testing.assert_array_equal(arrays[name], array)
            self.assertEqual(arrays[name].dtype, array.dtype)

    def test_same_content_same_bytes(self):
        self.assertEqual(frames.encode(self.ARRAYS, {"f": 1}), frames.encode(dict(self.ARRAYS), {"f": 1}))

    def test_any_changed_byte_is_noticed(self):
        data = frames.encode(self.ARRAYS, {})
        for at in (9, len(data) // 2, len(data) - 1):
            bad = bytearray(data)
            bad[at] ^= 1
            with self.assertRaisesRegex(CacheDamaged, "does not match its checksum"):
                frames.decode(bytes(bad))
        with self.assertRaises(CacheDamaged):
            frames.decode(data[: len(data) // 2])


def headed(header: bytes) -> bytes:
    """A file of the right form with another head."""
    body = frames.MAGIC + struct.pack("<I", len(header)) + header
    return body + hashlib.blake2b(body, digest_size=16).digest()


class OddHeads(unittest.TestCase):
    """Files whose checksum is right and which are not ours."""

    HEADS = (
        b"",
        b"7",
        b"null",
        b"[]",
        b"{}",
        b'{"meta":3,"arrays":[]}',
        b'{"meta":{"gauges":7},"arrays":[7]}',
        b"[" * 50_000,
        b'{"meta":{"gauges":{"a":"x"}},"arrays":[{"name":"a","dtype":"<f4","shape":[9],"at":0,"size":0}]}',
        b"\xff\xfe",
        b'{"meta":{"gauges":[1]},"arrays":{"a":1}}',
        b'{"meta":{"gauges":null},"arrays":[{"name":"a","dtype":"O","shape":[1],"at":0,"size":1}]}',
    )

    def test_each_is_told_as_damaged(self):
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "x.urf"
            for head in self.HEADS:
                with self.subTest(head[:60]):
                    path.write_bytes(headed(head))
                    self.assertRaises(CacheDamaged, frames.decode, headed(head))
                    self.assertRaises(CacheDamaged, frames.read_gauges, path)

    def test_a_store_with_such_files_is_listed_and_mended(self):
        with tempfile.TemporaryDirectory() as name:
            store, key = Store(name), "a" * 40
            store.write_static(key, {}, {"gauges": {"x": 1.0}})
            for n, head in enumerate(self.HEADS):
                (store.folder(key) / f"frame{n:06d}.urf").write_bytes(headed(head))
            (store.folder(key) / "frame000050.urf").mkdir()
            (store.folder(key) / "times.jsonl").write_bytes(b'[1]\n{}\n3\n\xff\n[1, 0.5]\n["a", "b"]\n')
            self.assertEqual(store.read_gauges(key), {})
            self.assertEqual(store.seconds_per_frame(key), 0.5)
            self.assertRaises(CacheDamaged, store.read_frame, key, 50)
            self.assertIn("frame000050.urf", store.clear_damaged(key, fully=True))
            self.assertNotIn(50, store.frames(key))


class Elsewhere(unittest.TestCase):
    """A sound file that was put into another's place."""

    def setUp(self):
        self.store = Store(self.enterContext(tempfile.TemporaryDirectory()))
        self.other = "cd" * 20
        for key in (KEY, self.other):
            for frame in (10, 20):
                self.store.write_frame(key, frame, {"a": np.arange(3)}, {"gauges": {"x": float(frame)}})
            self.store.write_static(key, {"s": np.arange(2)}, {})

    def test_it_is_not_believed_and_found_by_a_check(self):
        def swap(source, target):
            (source[0] / source[1]).replace(target[0] / target[1])

        mine, its = self.store.folder(KEY), self.store.folder(self.other)
        swap((mine, "frame000020.urf"), (mine, "frame000010.urf"))
        with self.assertRaisesRegex(CacheDamaged, "another place"):
            frames.read_gauges(mine / "frame000010.urf")
        self.assertEqual(self.store.read_gauges(KEY), {})
        self.assertEqual(self.store.clear_damaged(KEY), ["frame000010.urf"])
        swap((its, "static.urf"), (mine, "static.urf"))
        swap((its, "frame000010.urf"), (mine, "frame000010.urf"))
        with self.assertRaisesRegex(CacheDamaged, "another place"):
            self.store.read_frame(KEY, 10)
        self.assertEqual(self.store.clear_damaged(KEY, fully=True), ["static.urf"])

    def test_one_of_an_earlier_version_names_no_place(self):
        data = frames.encode({"a": np.arange(3)}, {})
        (self.store.folder(KEY) / "frame000030.urf").write_bytes(data)
        self.assertEqual(self.store.read_frame(KEY, 30)[0]["a"].tolist(), [0, 1, 2])
        self.assertEqual(self.store.clear_damaged(KEY, fully=True), [])


class StoreTests(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = Store(folder.name)

    def test_frames_are_listed_in_order_with_their_gauges(self):
        for frame in (3, -2, 10):
            self.store.write_frame(KEY, frame, {"x": np.zeros(2)}, {"frame": frame, "gauges": {"g": float(frame)}})
        self.assertEqual(self.store.frames(KEY), [-2, 3, 10])
        self.assertEqual(self.store.read_gauges(KEY)[10], {"g": 10.0})
        self.assertEqual(self.store.usage(KEY).frames, 3)

    def test_a_damaged_frame_is_refused_and_then_absent(self):
        self.store.write_frame(KEY, 1, {"x": np.arange(100.0)}, {})
        path = self.store.folder(KEY) / "frame000001.urf"
        data = bytearray(path.read_bytes())
        data[40] ^= 255
        path.write_bytes(data)
        with self.assertRaisesRegex(CacheDamaged, "bake this layer again"):
            self.store.read_frame(KEY, 1)
        self.assertEqual(self.store.frames(KEY), [])

    def test_a_full_disk_leaves_nothing_half_written(self):
        self.store.write_frame(KEY, 1, {"x": np.zeros(2)}, {})
        with mock.patch.object(frames.os, "fsync", side_effect=OSError(errno.ENOSPC, "no space")):
            with self.assertRaisesRegex(StoreFull, "no room for .* free some space"):
                self.store.write_frame(KEY, 2, {"x": np.zeros(2)}, {})
        self.assertEqual(sorted(p.name for p in self.store.folder(KEY).glob("*frame*")), ["frame000001.urf"])

    def test_only_the_last_two_checkpoints_are_kept_and_damaged_ones_passed_over(self):
        for frame in (8, 16, 24):
            self.store.write_checkpoint(KEY, frame, {"s": np.array([frame])})
        self.assertEqual(len(list(self.store.folder(KEY).glob("checkpoint*"))), 2)
        self.assertEqual(self.store.read_checkpoint(KEY, 30)[0], 24)
        self.assertEqual(self.store.read_checkpoint(KEY, 20)[0], 16)
        self.assertIsNone(self.store.read_checkpoint(KEY, 10))
        (self.store.folder(KEY) / "checkpoint000024.urf").write_bytes(b"half")
        self.assertEqual(self.store.read_checkpoint(KEY, 30)[0], 16)

    def test_what_a_key_holds_is_counted_while_it_is_written(self):
        stop = threading.Event()

        def write():
            for n in itertools.count():
                if stop.is_set():
                    return
                self.store.write_checkpoint(KEY, n, {"s": np.zeros(10)})

        # so that there is something to count before the writer gets its turn
        self.store.write_checkpoint(KEY, 0, {"s": np.zeros(10)})
        writer = threading.Thread(target=write)
        writer.start()
        try:
            seen = [self.store.usage(KEY) for _ in range(300)]
        finally:
            stop.set()
            writer.join()
        # two checkpoints, and one more while it is written
        one = self.store.usage(KEY).bytes / 2
        self.assertEqual({u.frames for u in seen}, {0})
        self.assertLessEqual(max(u.bytes for u in seen), 3.5 * one)
        self.assertGreater(max(u.bytes for u in seen), 0)

    def test_paths_do_not_leave_the_store(self):
        for key in ("../../etc", "AB" * 20, "", "ab/../" + "a" * 34):
            with self.assertRaises(ValueError):
                self.store.folder(key)

    def test_a_removed_key_is_gone(self):
        self.store.write_static(KEY, {}, {})
        self.assertEqual(self.store.keys(), [KEY])
        self.store.remove(KEY)
        self.assertEqual(self.store.keys(), [])
        self.assertFalse(Path(self.store.folder(KEY)).exists())


class Holdings(unittest.TestCase):
    def setUp(self):
        self.store = Store(Path(self.enterContext(tempfile.TemporaryDirectory())))

    def aged(self):
        """Let the folder have changed a while ago."""
        past = time.time() - 60
        os.utime(self.store.folder(KEY), (past, past))

    def test_nothing_is_nothing(self):
        self.assertEqual(look(self.store, KEY), Holding())

    def test_what_is_known_is_not_read_again_and_what_changed_is(self):
        self.store.write_static(KEY, {}, {"gauges": {"volume": 2.0}})
        for frame in (3, 1):
            self.store.write_frame(KEY, frame, {"a": np.zeros(3)}, {"gauges": {"mass": float(frame)}})
        young = look(self.store, KEY)
        self.assertEqual((young.frames, young.still), ({1: {"mass": 1.0}, 3: {"mass": 3.0}}, {"volume": 2.0}))
        self.assertEqual(young.seen, 0, "a folder that changed just now may change again unseen")
        self.aged()
        found = look(self.store, KEY, young)
        self.assertGreater(found.seen, 0)
        with mock.patch.object(Store, "frames", side_effect=AssertionError("the disk was walked")):
            self.assertIs(look(self.store, KEY, found), found)
        self.store.write_frame(KEY, 2, {"a": np.zeros(3)}, {"gauges": {"mass": 2.0}})
        with mock.patch.object(Store, "read_gauges", wraps=self.store.read_gauges) as read:
            more = look(self.store, KEY, found)
            read.assert_called_once_with(KEY, [2])
        self.assertEqual(list(more.frames), [1, 2, 3])
        self.assertEqual(more.bytes, self.store.usage(KEY).bytes)
        # a frame found damaged is taken off the disk, and so out of what is held
        path = self.store.folder(KEY) / "frame000003.urf"
        path.write_bytes(path.read_bytes()[:-5])
        with self.assertRaises(CacheDamaged):
            self.store.read_frame(KEY, 3)
        self.assertEqual(list(look(self.store, KEY, more).frames), [1, 2])
        self.store.remove(KEY)
        self.assertEqual(look(self.store, KEY, more), Holding())


class Leases(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = Store(folder.name)
        self.path = self.store.folder(KEY) / "lease"

    def test_one_holds_a_key_and_another_waits_and_may_give_up(self):
        looks = []

        def look():
            looks.append(1)
            if len(looks) > 2:
                raise Stopped("enough")

        with self.store.claim(KEY):
            self.assertIn(str(os.getpid()), self.path.read_text())
            with self.assertRaises(Stopped), self.store.claim(KEY, look):
                self.fail("two hold it")
        self.assertFalse(self.path.exists())
        with self.store.claim(KEY):
            pass

    def test_what_a_dead_one_held_is_taken_over_once(self):
        self.path.parent.mkdir(parents=True)
        self.path.write_text("elsewhere 1 x")
        old = time.time() - lease.DEAD_AFTER - 5
        os.utime(self.path, (old, old))
        with self.store.claim(KEY):
            self.assertIn(str(os.getpid()), self.path.read_text())
        self.assertEqual(list(self.path.parent.iterdir()), [])

    def test_a_holder_learns_that_it_was_taken_for_dead(self):
        with mock.patch.object(lease, "BEAT", 0.01), self.store.claim(KEY) as mine:
            mine.check()
            self.path.write_text("another 2 y")
            deadline = time.monotonic() + 5
            while time.monotonic() < deadline and not mine._lost:
                time.sleep(0.01)
            with self.assertRaisesRegex(StoreFailed, "Another process has taken over"):
                mine.check()
        # what is another's stays
        self.assertEqual(self.path.read_text(), "another 2 y")


if __name__ == "__main__":
    unittest.main()
