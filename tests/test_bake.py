"""Baking to disk: resume, stop, damage, and the command that needs no database."""

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

from tests.shots import falling_box, tiny
from urst.bake import layers as kinds
from urst.bake import runner
from urst.core.debris.solver import DebrisSolver
from urst.errors import CacheDamaged, Stopped, StoreFull
from urst.shot import plan
from urst.shot.document import dumps
from urst.shot.keys import layer_keys
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

    def test_a_changed_setting_bakes_only_what_depends_on_it(self):
        shot, store, seen = tiny(), Store(self.folder()), []
        runner.bake(shot, store)
        data = shot.model_dump(mode="json")
        data["layers"][2]["settings"]["chips"] = 20
        runner.bake(type(shot).model_validate(data), store, report=seen.append)
        self.assertEqual({p.layer for p in seen}, {"shed", "billow"})

    def test_two_bakes_give_the_same_bytes(self):
        first, second = self.folder(), self.folder()
        for root in (first, second):
            runner.bake(tiny(), Store(root))
        self.assertEqual(results(first), results(second))

    def test_more_frames_go_on_from_the_last(self):
        short, whole = self.folder(), self.folder()
        runner.bake(falling_box(10), Store(short))
        seen = []
        runner.bake(falling_box(20), Store(short), report=seen.append)
        runner.bake(falling_box(20), Store(whole))
        self.assertEqual(seen[0].frame, 11)
        frames = lambda root: {k: v for k, v in results(root).items() if "frame" in k}  # noqa: E731
        self.assertEqual(frames(short), frames(whole))

    def test_stopped_it_keeps_what_is_done_and_goes_on(self):
        root, whole, count = self.folder(), self.folder(), []
        with self.assertRaises(Stopped):
            runner.bake(falling_box(20), Store(root), report=count.append, should_stop=lambda: len(count) >= 11)
        self.assertEqual(len(Store(root).frames(count[0].key)), 11)
        runner.bake(falling_box(20), Store(root))
        runner.bake(falling_box(20), Store(whole))
        self.assertEqual(results(root), results(whole))

    def test_a_damaged_frame_of_an_input_is_named_and_baked_again(self):
        shot, root = tiny(), self.folder()
        store, key = Store(root), layer_keys(tiny())
        runner.bake(shot, store, ["fall"])
        before = results(root)
        path = store.folder(key["fall"]) / "frame000007.urf"
        path.write_bytes(path.read_bytes()[:-20])
        with self.assertRaisesRegex(CacheDamaged, "frame000007.urf .*bake this layer again"):
            runner.bake(shot, store, ["shed"])
        runner.bake(shot, store, ["fall"])
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


class Together:
    """Fall and Shed stepped side by side, nothing acting back."""

    moving = True

    def __init__(self, shot, members, inputs):
        self.fall = kinds.FallBake(shot, members[0], inputs[0])
        self.inputs, self.members = inputs, members
        fragments, patches = self.fall.fragments, self.fall.patches
        self.shed = DebrisSolver(fragments, patches, self.fall.static["bond"], members[1].settings, shot.gravity)
        self.dt = 1.0 / shot.rate
        self.statics = {"fall": (self.fall.static, self.fall.meta), "shed": ({}, {})}

    def first(self):
        self.before, gauges = self.fall.first()
        return {"fall": (self.before, gauges), "shed": (self.shed.frame(), self.shed.gauges())}

    def next(self, frame):
        after, gauges = self.fall.next(frame)
        self.shed.step(self.before, after, self.dt)
        self.before = after
        return {"fall": (after, gauges), "shed": (self.shed.frame(), self.shed.gauges())}

    def snapshot(self):
        parts = {"fall": self.fall.snapshot(), "shed": self.shed.snapshot(), "before": self.before}
        return {f"{name}.{k}": v for name, part in parts.items() for k, v in part.items()}

    def restore(self, frame, state):
        part = lambda name: {k.removeprefix(name + "."): v for k, v in state.items() if k.startswith(name + ".")}  # noqa: E731
        self.fall.restore(frame, part("fall"))
        self.shed.restore(part("shed"))
        self.before = part("before")


class Groups(Folder):
    def frames(self, root, shot):
        store, keys = Store(root), layer_keys(shot)
        return [store.read_frame(keys[x], f)[0] for x in ("fall", "shed") for f in shot.frames()]

    def test_layers_stepped_together_are_written_each_under_its_key_and_resume_as_one(self):
        apart = tiny()
        data = apart.model_dump(mode="json")
        data["layers"][2]["reads"] = [{"layer": "fall", "both_ways": True}]
        joined = type(apart).model_validate(data)
        group, count = frozenset({"fall", "shed"}), []
        first, second = self.folder(), self.folder()
        with mock.patch.dict(kinds.GROUPS, {group: Together}), mock.patch.object(plan, "TOGETHER", {group}):
            with self.assertRaises(Stopped):
                runner.bake(joined, Store(first), ["shed"], report=count.append, should_stop=lambda: len(count) > 23)
            runner.bake(joined, Store(first), ["shed"], report=count.append)
            self.assertEqual([p.frame for p in count if p.layer == "shed"][-1], apart.end)
            self.assertTrue(runner.is_fresh(joined, Store(first), "fall", layer_keys(joined)["fall"]))
        runner.bake(apart, Store(second), ["shed"])
        for together, alone in zip(self.frames(first, joined), self.frames(second, apart)):
            for name, array in alone.items():
                self.assertEqual(together[name].tobytes(), array.tobytes(), name)


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
