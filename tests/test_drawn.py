"""What is drawn of results: how far off it may be, its levels, its files."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from tests.shots import falling_box
from urst.bake import runner
from urst.drawn import codec, files, representations
from urst.drawn.codec import Quantised, quantised
from urst.kinds.registry import named
from urst.shot.keys import layer_keys
from urst.store.store import Store

RNG = np.random.default_rng(5)


class Codec(unittest.TestCase):
    def test_arrays_of_every_type_come_back(self):
        arrays = {
            "a": RNG.normal(size=(7, 3)).astype(np.float32),
            "b": RNG.integers(-9, 9, (5, 2, 3)).astype(np.int16),
            "c": RNG.normal(size=11).astype(np.float16),
            "d": np.zeros((0, 3), np.float32),
            "e": RNG.integers(0, 255, 9).astype(np.uint8),
            "f": RNG.integers(-(2**31), 2**31 - 1, 4).astype(np.int32),
        }
        found, meta = codec.decode(codec.encode(arrays, {"most": 0.5}))
        self.assertEqual((meta, list(found)), ({"most": 0.5}, list(arrays)))
        for name, array in arrays.items():
            self.assertEqual(found[name].dtype, array.dtype)
            np.testing.assert_array_equal(found[name], array)
        self.assertEqual(codec.encode(arrays, {}), codec.encode(arrays, {}))

    def test_places_are_off_by_at_most_half_a_step(self):
        values = RNG.uniform((-3, 0, 100), (5, 0.01, 900), (1000, 3))
        found = codec.decode(codec.encode({"p": quantised(values)}, {}))[0]["p"]
        self.assertIsInstance(found, Quantised)
        half = (values.max(axis=0) - values.min(axis=0)) / 65535 / 2
        self.assertTrue((np.abs(found.values() - values) <= half * 1.0001).all())
        flat = quantised(np.full((3, 3), 7.0))
        np.testing.assert_array_equal(flat.values(), 7.0)
        self.assertEqual(quantised(np.zeros((0, 3))).values().shape, (0, 3))


class Representations(unittest.TestCase):
    def test_bodies_far_apart_keep_their_precision(self):
        near = {
            "position": RNG.uniform(-5, 5, (50, 3)),
            "orientation": np.tile([0.5, -0.5, 0.5, 0.5], (50, 1)),
            "velocity": RNG.normal(size=(50, 3)) * 20,
        }
        ((out, _),) = representations.frame("bodies", near)
        self.assertIsInstance(out["position"], Quantised)
        np.testing.assert_allclose(out["orientation"] / 32767, near["orientation"], atol=2e-5)
        np.testing.assert_allclose(out["velocity"].astype(float), near["velocity"], rtol=1e-3)
        far = near | {"position": near["position"] + np.r_[[[4000.0, 0, 0]], np.zeros((49, 3))]}
        ((out, _),) = representations.frame("bodies", far)
        self.assertEqual(out["position"].dtype, np.float32)
        np.testing.assert_allclose(out["position"], far["position"], rtol=1e-7)

    def test_levels_of_points_are_fair_samples(self):
        position = RNG.uniform(0, (1, 2, 4), (450_000, 3))
        levels = representations.frame("points", {"position": position, "size": np.full(450_000, 0.02)})
        self.assertEqual([len(out["size"]) for out, _ in levels], [450_000, 112_500, 28_125])
        for out, meta in levels:
            np.testing.assert_allclose(out["position"].values().mean(axis=0), (0.5, 1, 2), atol=0.02)
            least, most = np.log(meta["sizes"])
            # an eighth of a thousandth of the logarithm of the range: 2.3 % of a size
            np.testing.assert_allclose(np.exp(least + out["size"] / 255 * (most - least)), 0.02, rtol=0.023)
        few = representations.frame("points", {"position": position[:9], "size": np.full(9, 0.02)})
        velocity = np.array([[3.0, 4.0, 0.0], [0.0, 0.0, 1.0]])
        ((out, meta),) = representations.frame(
            "points", {"position": position[:2], "size": np.full(2, 0.02), "velocity": velocity}
        )
        np.testing.assert_allclose(out["pace"] / 255 * meta["fastest"], [5.0, 1.0], atol=0.02)
        np.testing.assert_allclose(few[0][0]["position"].values(), position[:9], atol=1e-4)

    def test_levels_of_a_volume_hold_the_same_dust(self):
        density = np.zeros((130, 129, 128), np.float32)
        density[20:60, 30:50, 10:90] = RNG.uniform(0.2, 1.0, (40, 20, 80))
        levels = representations.frame("volume", {"density": density})
        self.assertEqual([m["shape"] for _, m in levels], [[130, 129, 128], [65, 65, 64]])
        for out, meta in levels:
            self.assertEqual(out["density"].shape, tuple(reversed(meta["shape"])))
            amount = (out["density"].astype(float) / 255) ** 2 * meta["most"]["density"] * meta["across"] ** 3
            self.assertAlmostEqual(amount.sum() / density.sum(), 1.0, places=2)
        ((out, meta),) = representations.frame("volume", {"density": np.zeros((8, 8, 8))})
        self.assertEqual((meta["most"]["density"], int(out["density"].max())), (0.0, 0))

    def test_a_surface_comes_back(self):
        triangles = RNG.integers(0, 40, (90, 3))
        normal = RNG.normal(size=(40, 3))
        normal /= np.linalg.norm(normal, axis=1, keepdims=True)
        ((out, _),) = representations.frame(
            "surface", {"position": RNG.uniform(size=(40, 3)), "normal": normal, "triangles": triangles}
        )
        np.testing.assert_array_equal(np.cumsum(out["steps"]).reshape(-1, 3), triangles)
        np.testing.assert_allclose(out["normal"] / 127, normal, atol=0.005)


class Files(unittest.TestCase):
    def setUp(self):
        self.store = Store(Path(self.enterContext(tempfile.TemporaryDirectory())))

    def test_a_bake_leaves_what_is_drawn_and_what_is_missing_is_made_again(self):
        shot = falling_box(3)
        runner.bake(shot, self.store)
        key, kind = layer_keys(shot)["fall"], named("fall")
        for frame in (1, 2, 3):
            path = self.store.path_beside(key, f"drawn{frame:06d}.urd")
            self.assertIsNotNone(path, "converted at bake")
            before = path.read_bytes()
            path.unlink()
            again = files.frame_file(self.store, kind, key, frame, level=2)
            self.assertEqual((again, again.read_bytes()), (path, before))
            again.write_bytes(before[:-1])
            self.assertEqual(files.frame_file(self.store, kind, key, frame).read_bytes(), before)
        static = files.static_file(self.store, key)
        arrays, meta = codec.decode(static.read_bytes())
        self.assertEqual((meta["kind"], len(arrays["centre"])), ("fall", 2))
        self.assertGreater(
            self.store.usage(key).bytes, sum(p.stat().st_size for p in self.store.folder(key).glob("*.urf"))
        )


if __name__ == "__main__":
    unittest.main()
