"""Two thousand documents and a hundred mesh files with something wrong in them: each is taken or refused in a
sentence, in time."""

import contextlib
import json
import os
import random
import subprocess
import sys
import time
import unittest
from pathlib import Path

from pydantic import BaseModel

from tests import fuzz
from tests.shots import tiny
from urst.core.gas.settings import GasSettings
from urst.core.liquid.settings import LiquidSettings
from urst.demo import basin, cask, kiln, sluice, smoke, sparks, swell
from urst.errors import BadFile, BadValue, UrstError
from urst.scene import mesh_codec
from urst.shot.document import Shot, ShotFile, dumps, loads, parse
from urst.shot.forecast import forecast
from urst.shot.keys import layer_keys
from urst.shot.preflight import judged, preflight

#: of both; another number, other faults
SEED = int(os.environ.get("URST_FUZZ_SEED", "7"))
DOCUMENTS = int(os.environ.get("URST_FUZZ_DOCUMENTS", "2000"))
MESHES = int(os.environ.get("URST_FUZZ_MESHES", "100"))
#: longest that one document may take [s], and longest sentence that refuses one
SLOW, LONG = 5.0, 900


def sources():
    """Sound documents."""
    made = (tiny(), *(m.shot() for m in (kiln, sluice, cask, basin, sparks, smoke, swell)))
    return [s.model_dump(mode="json") for s in made]


class Documents(unittest.TestCase):
    def test_each_is_taken_or_refused_in_a_sentence(self):
        rng, sound, taken, slowest = random.Random(SEED), sources(), 0, 0.0
        for number in range(DOCUMENTS):
            text = fuzz.text(rng.choice(sound), rng)
            began = time.process_time()
            with self.subTest(seed=SEED, number=number):
                try:
                    shot = loads(text, "it")
                except UrstError as error:
                    self.assertLess(len(str(error)), LONG)
                    self.assertRegex(str(error), r"[.]$")
                    continue
                # what is taken can be judged, keyed, forecast and kept, whatever it says
                self.assertTrue(all(f.title for f in preflight(shot)))
                with contextlib.suppress(UrstError):
                    judged(shot)
                self.assertEqual(len(layer_keys(shot)), len(shot.layers))
                for layer in shot.layers:
                    self.assertGreaterEqual(forecast(shot, layer.id).memory, 0.0)
                self.assertEqual(loads(dumps(shot), "it"), shot)
                taken += 1
            slowest = max(slowest, time.process_time() - began)
        self.assertGreater(taken, DOCUMENTS // 20)
        self.assertLess(slowest, SLOW)


class Bounds(unittest.TestCase):
    def test_every_number_list_and_word_of_a_document_is_bounded(self):
        loose = []

        def walk(node, at):
            if isinstance(node, list):
                for n, x in enumerate(node):
                    walk(x, f"{at}/{n}")
            if not isinstance(node, dict):
                return
            fixed = "const" in node or "enum" in node or "pattern" in node
            ends = [{"minimum", "exclusiveMinimum"} & set(node), {"maximum", "exclusiveMaximum"} & set(node)]
            if node.get("type") in ("number", "integer") and not fixed and not all(ends):
                loose.append(at)
            if node.get("type") == "string" and not fixed and "maxLength" not in node:
                loose.append(at)
            if node.get("type") == "array" and "maxItems" not in node:
                loose.append(at)
            for name, x in node.items():
                walk(x, f"{at}/{name}")

        schema = ShotFile.model_json_schema()
        walk(schema["properties"], "shot")
        for name, part in schema["$defs"].items():
            # packed meshes are bounded by what they unfold to
            if name != "PackedMesh":
                walk(part.get("properties", {}), name)
        self.assertEqual(loose, [])

    def test_no_part_of_a_document_takes_what_is_no_number(self):
        seen, heap, loose = set(), [Shot], []
        while heap:
            model = heap.pop()
            if model in seen:
                continue
            seen.add(model)
            if model.model_config.get("allow_inf_nan", True):
                loose.append(model.__name__)
            heap += [m for m in _models(tuple(f.annotation for f in model.model_fields.values()))]
        self.assertGreater(len(seen), 25)
        self.assertEqual(loose, [])

    def test_odd_words_depth_and_crowds_are_refused_in_a_sentence(self):
        data = tiny().model_dump(mode="json")
        for name in ("a\x00b", "a\ud800", "x" * 5000, ""):
            with self.assertRaises(BadValue) as refused:
                parse(data | {"name": name})
            self.assertLess(len(str(refused.exception)), LONG)
        for deep in (b"[" * 20_000, b'{"format":' * 20_000, b'{"a":[' * 20_000 + b"1" + b"]}" * 20_000):
            with self.assertRaises(BadFile):
                loads(deep)
        box = data["pieces"][0]
        crowd = [box | {"name": f"Box {n}"} for n in range(10_001)]
        began = time.process_time()
        with self.assertRaisesRegex(BadValue, "10000|10,000"):
            parse(data | {"pieces": crowd})
        wall = box | {
            "shape": {"kind": "brick wall", "width": 100, "height": 100, "brick_length": 1.0, "course_height": 0.6}
        }
        with self.assertRaisesRegex(BadValue, "bodies, more than"):
            parse(data | {"pieces": [wall | {"name": f"Wall {n}"} for n in range(10)]})
        self.assertLess(time.process_time() - began, SLOW)

    def test_a_domain_of_whole_blocks_has_no_more(self):
        rng = random.Random(3)
        for _ in range(500):
            cell, blocks, low = (
                rng.choice((0.1, 0.07, 0.03, 1 / 3, 0.015, 0.2)),
                rng.randint(1, 15),
                round(rng.uniform(-50, 50), 2),
            )
            high = low + 8 * blocks * cell
            for settings in (GasSettings, LiquidSettings):
                found = settings(cell_size=cell, low=(low,) * 3, high=(high,) * 3).shape()
                self.assertEqual(found, (8 * blocks,) * 3, (cell, blocks, low))

    def test_a_small_text_that_unfolds_to_much_is_not_unfolded(self):
        import base64
        import zlib

        bomb = base64.b64encode(zlib.compress(bytes(400 * 2**20), 9)).decode()
        self.assertLess(len(bomb), 2**20)
        with self.assertRaisesRegex(BadFile, "unfolds to more than"):
            mesh_codec.unpack(bomb, bomb, "bomb")


def _models(annotations):
    """The models that types are made of."""
    for a in annotations:
        if isinstance(a, type) and issubclass(a, BaseModel):
            yield a
        yield from _models(getattr(a, "__args__", ()))


class Meshes(unittest.TestCase):
    def test_each_is_taken_or_refused_in_a_sentence(self):
        # in a process of their own, as files from outside always are
        done = subprocess.run(
            [sys.executable, "-m", "tests.fuzz_meshes", str(SEED), str(MESHES)],
            cwd=Path(__file__).parent.parent,
            capture_output=True,
            text=True,
            timeout=60 + MESHES,
        )
        self.assertEqual(done.returncode, 0, done.stderr[-3000:])
        told = json.loads(done.stdout)
        self.assertEqual(told["faults"], [])
        self.assertGreater(told["taken"], 0)
        self.assertGreater(told["refused"], MESHES // 4)


if __name__ == "__main__":
    unittest.main()
