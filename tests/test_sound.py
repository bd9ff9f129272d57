"""Results on disk: what is damaged is seen before it counts as baked, and baked again to the same bytes."""

import contextlib
import io
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from tests.baked import copied
from tests.shots import falling_box
from tests.test_bake import results
from urst import cli
from urst.bake import runner
from urst.core.geometry import generators
from urst.core.geometry.mesh import key_of
from urst.errors import BadValue, StoreFailed
from urst.shot.document import dumps
from urst.shot.keys import layer_keys
from urst.store import frames, proof
from urst.store.meshes import Meshes
from urst.store.store import Store


class Sound(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.shot = falling_box(6)
        self.store = copied(self.shot, self.root / "store")
        self.key = layer_keys(self.shot)[self.shot.layers[-1].id]
        self.whole = results(self.store.root)

    def file(self, frame):
        return self.store.folder(self.key) / f"frame{frame:06d}.urf"

    def cut(self, path):
        path.write_bytes(path.read_bytes()[:-40])

    def flip(self, path):
        data = bytearray(path.read_bytes())
        data[len(data) // 2] ^= 4
        path.write_bytes(data)

    def test_cut_and_changed_frames_are_no_frames_and_are_baked_again(self):
        for harm, frame in ((self.cut, 3), (self.flip, 5), (self.flip, 1), (self.cut, 6)):
            harm(self.file(frame))
            with self.assertLogs("urst.bake", "WARNING"):
                self.assertFalse(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))
            runner.bake(self.shot, self.store)
            self.assertEqual(results(self.store.root), self.whole)

    def test_what_has_not_changed_since_is_not_read_again(self):
        with mock.patch.object(frames, "check", side_effect=AssertionError("it was read again")):
            self.assertTrue(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))
        # an index that is lost or cut short costs a look at the checksums, and nothing else
        index = self.store.folder(self.key) / proof._INDEX
        self.cut(index)
        self.assertTrue(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))
        index.unlink()
        self.assertTrue(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))

    def test_check_looks_at_every_checksum(self):
        # the disk itself changes a bit: neither size nor time tell
        path = self.file(4)
        state = path.stat()
        self.flip(path)
        os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))
        self.assertTrue(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            self.assertEqual(cli.main(["check", "--store", str(self.store.root)]), 1)
            self.assertEqual(cli.main(["check", "--store", str(self.store.root)]), 0)
        self.assertIn("frame000004.urf was damaged and is removed", said.getvalue())
        runner.bake(self.shot, self.store)
        self.assertEqual(results(self.store.root), self.whole)
        with contextlib.redirect_stderr(io.StringIO()) as wrong:
            self.assertEqual(cli.main(["check", "--store", str(self.root / "nowhere")]), 1)
        self.assertIn("There is no store at", wrong.getvalue())

    def test_a_bake_says_so_if_its_file_or_folder_cannot_be_used(self):
        path = self.root / "box.shot.json"
        path.write_text(dumps(self.shot))
        blocked = self.root / "blocked"
        blocked.write_text("a file where a folder should be")
        with contextlib.redirect_stderr(io.StringIO()) as wrong, contextlib.redirect_stdout(io.StringIO()):
            self.assertEqual(cli.main(["bake", str(path), "--out", str(blocked)]), 1)
            self.assertEqual(cli.main(["export", str(path), "--store", str(self.store.root), "--out", str(blocked)]), 1)
        for line in wrong.getvalue().strip().splitlines():
            self.assertRegex(line, "The folder .* cannot be written to")

    def test_what_cannot_fit_into_the_machine_is_refused_before_anything_is_begun(self):
        small, out = lambda: (1e4, 1e4), Store(self.root / "small")
        with (
            mock.patch.object(runner.machine, "memory", small),
            self.assertRaisesRegex(BadValue, "GB of memory and there are"),
        ):
            runner.bake(self.shot, out)
        self.assertEqual(results(out.root), {})
        # what is there already needs none
        with mock.patch.object(runner.machine, "memory", small):
            runner.bake(self.shot, self.store)

    def test_a_disk_that_does_not_take_a_layer_is_said_so(self):
        out = Store(self.root / "odd")
        place = out.folder(self.key)
        place.parent.mkdir(parents=True)
        place.write_text("no folder")
        with self.assertRaisesRegex(
            StoreFailed, "'Fall' could not be baked: the disk says 'File exists' of .*look at the disk"
        ):
            runner.bake(self.shot, out)

    def test_what_ended_writers_left_is_swept_and_what_others_write_is_not(self):
        folder = self.store.folder(self.key)
        left, others = folder / ".frame000009.urf.999999999.ab.part", folder / f".frame000009.urf.{os.getpid()}.ab.part"
        for part in (left, others):
            part.write_bytes(b"half")
        self.assertTrue(runner.is_fresh(self.shot, self.store, self.shot.layers[-1].id, self.key))
        self.assertFalse(left.exists())
        self.assertTrue(others.exists())

    def test_a_mesh_that_is_another_than_its_hash_says_is_none(self):
        meshes, ball = Meshes(self.root / "store"), generators.ball(0.5)[0]
        key = key_of(ball)
        meshes.write(key, ball)
        np.testing.assert_array_equal(meshes.read(key).vertices, ball.vertices)
        path = next((self.root / "store" / "meshes").rglob("*.urm"))
        other = {"vertices": 2.0 * ball.vertices.astype("<f8"), "triangles": ball.triangles.astype("<i4")}
        path.write_bytes(frames.encode(other, {}))
        self.assertEqual(meshes.clear_damaged(), [key])
        self.assertIsNone(meshes.read(key))


if __name__ == "__main__":
    unittest.main()
