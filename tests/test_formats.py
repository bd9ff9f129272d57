"""Open formats, each read back by its own library; meshes in, good and bad."""

import base64
import csv
import io
import json
import struct
import tempfile
import unittest
from pathlib import Path

import av
import numpy as np
import pygltflib
import trimesh
from PIL import Image
from pxr import Usd, UsdGeom, UsdUtils

from tests.baked import copied
from tests.shots import tiny
from urst.bake import runner
from urst.core.bodies.fragments import Fragments, Solid, assemble
from urst.core.geometry import generators
from urst.core.geometry.mesh import mass_properties, open_edges
from urst.core.geometry.rotation import matrix
from urst.demo import sluice
from urst.errors import BadFile, BadMesh, BadValue
from urst.formats import gltf, usd, vdb
from urst.formats.meshes import read_meshes
from urst.formats.trajectories import length, read_trajectories
from urst.handover import export as handover
from urst.handover.baked import Baked
from urst.handover.pictures import CARD, keep_card, pictures, telling
from urst.kinds.registry import KINDS
from urst.shot.document import parse
from urst.shot.keys import layer_keys
from urst.store.store import Store

FRAME = 15


class Wet(unittest.TestCase):
    """A splash as it is handed over: its surface, and its froth kind by kind."""

    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        root = Path(cls.temporary.name)
        data = sluice.shot(cell_size=0.16, end=6).model_dump(mode="json")
        data["layers"][1]["keeps"] = ["levels"]
        data["layers"][2]["settings"]["births"] = {
            "speed": {"none": 0.0, "full": 0.5},
            "clash": {"none": 0.0, "full": 1.0},
        }
        cls.shot, cls.store, cls.out = parse(data), Store(root / "store"), root / "out"
        runner.bake(cls.shot, cls.store)
        handover.export(cls.shot, root / "store", cls.out, ["surface", "ply", "obj", "glb", "levels", "froth"])
        keys = layer_keys(cls.shot)
        cls.skin = cls.store.read_frame(keys["skin"], 6)[0]
        cls.froth = cls.store.read_frame(keys["froth"], 6)[0]

    def test_meshes_are_closed_and_carry_velocities(self):
        mesh = trimesh.load(self.out / "skin" / "skin.000006.ply", process=False)
        self.assertTrue(mesh.is_watertight and mesh.volume > 1.0)
        np.testing.assert_allclose(mesh.vertices, self.skin["position"], atol=1e-6)
        raw = mesh.metadata["_ply_raw"]["vertex"]["data"]
        np.testing.assert_allclose(raw["vz"].ravel(), self.skin["velocity"][:, 2], atol=1e-6)
        obj = trimesh.load(self.out / "skin" / "skin.000006.obj", process=False)
        self.assertEqual(len(obj.faces), len(self.skin["triangles"]))
        # y up in the file
        glb = trimesh.load(self.out / "skin" / "skin.000006.glb", process=False, force="mesh")
        self.assertTrue(glb.is_watertight)
        back = lambda x: np.column_stack([x[:, 0], -x[:, 2], x[:, 1]])  # noqa: E731
        np.testing.assert_allclose(back(glb.vertices), self.skin["position"], atol=1e-5)
        found = np.asarray(glb.vertex_attributes["_VELOCITY"])
        np.testing.assert_allclose(back(found), self.skin["velocity"], atol=1e-5)

    def test_usd_changes_its_triangles(self):
        stage = Usd.Stage.Open(str(self.out / "skin.usd"))
        mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/shot/surface"))
        points, faces = (np.array(a.Get(6)) for a in (mesh.GetPointsAttr(), mesh.GetFaceVertexIndicesAttr()))
        np.testing.assert_array_equal(points, self.skin["position"])
        np.testing.assert_array_equal(faces.reshape(-1, 3), self.skin["triangles"])
        self.assertEqual(len(np.array(mesh.GetVelocitiesAttr().Get(6))), len(points))
        self.assertNotEqual(len(np.array(mesh.GetPointsAttr().Get(1))), len(points))

    def test_level_sets_come_back(self):
        values, place = vdb.read(self.out / "skin" / "skin.000006.vdb", self.skin["levels"].shape, "levels")
        width = 3 * place["cell"]
        np.testing.assert_allclose(values, np.clip(self.skin["levels"].astype(float), -width, width), atol=2e-3)
        self.assertAlmostEqual(place["cell"], 0.08)

    def test_each_kind_of_froth_by_itself(self):
        stage = Usd.Stage.Open(str(self.out / "froth.usd"))
        for number, name in enumerate(("foam", "bubbles", "spray", "mist")):
            points = np.array(UsdGeom.Points(stage.GetPrimAtPath(f"/shot/{name}")).GetPointsAttr().Get(6)).reshape(
                -1, 3
            )
            np.testing.assert_array_equal(points, self.froth["position"][self.froth["kind"] == number])
        self.assertGreater(len(self.froth["kind"]), 100)


class HandOver(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.addClassCleanup(cls.temporary.cleanup)
        root = Path(cls.temporary.name)
        cls.shot, cls.out = tiny(), root / "out"
        cls.store = copied(cls.shot, root / "store")
        cls.files = handover.export(cls.shot, root / "store", cls.out)
        cls.keys = layer_keys(cls.shot)
        cls.pose = cls.store.read_frame(cls.keys["fall"], FRAME)[0]
        cls.fragments = Fragments.from_arrays(cls.store.read_static(cls.keys["fall"])[0])

    def corners(self, b):
        """Where the first corner of a fragment's skin is at the frame."""
        local = self.fragments.skin[self.fragments.skin_start[b], 0].astype(float)
        return matrix(self.pose["orientation"][b].astype(float)) @ local + self.pose["position"][b]

    def test_usd_fragments_move_as_baked(self):
        stage = Usd.Stage.Open(str(self.out / "fall.usd"))
        self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()), (1, 18, 24))
        self.assertEqual((UsdGeom.GetStageUpAxis(stage), UsdGeom.GetStageMetersPerUnit(stage)), ("Z", 1.0))
        meshes = [p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
        self.assertEqual(len(meshes), len(self.fragments))
        cache = UsdGeom.XformCache(FRAME)
        moved = np.linalg.norm(self.pose["velocity"], axis=1).argsort()[-5:]
        for prim in meshes:
            b = int(prim.GetName().split("_")[1])
            if b not in moved:
                continue
            world = np.array(cache.GetLocalToWorldTransform(prim))
            points = np.array(UsdGeom.Mesh(prim).GetPointsAttr().Get())
            placed = points @ world[:3, :3] + world[3, :3]
            self.assertLess(np.linalg.norm(placed - self.corners(b), axis=1).min(), 1e-4)

    def test_usd_points_are_the_chips(self):
        stage = Usd.Stage.Open(str(self.out / "shed.usd"))
        points = UsdGeom.Points(stage.GetPrimAtPath("/shot/debris"))
        baked = self.store.read_frame(self.keys["shed"], FRAME)[0]
        chip = baked["kind"] == 0
        self.assertGreater(chip.sum(), 0)
        np.testing.assert_array_equal(np.array(points.GetPointsAttr().Get(FRAME)), baked["position"][chip])
        np.testing.assert_array_equal(np.array(points.GetWidthsAttr().Get(FRAME)), baked["size"][chip])

    def test_gltf_holds_every_fragment_and_one_animation(self):
        document = pygltflib.GLTF2().load(str(self.out / "fall.glb"))
        self.assertEqual(len(document.nodes), len(self.fragments))
        self.assertEqual(len(document.animations), 1)
        scene = trimesh.load(self.out / "fall.glb")
        low, high = scene.bounds
        # y is up there: the quay's top lies at 0, the wall above it
        self.assertGreater(high[1], 3.9)
        channel = next(c for c in document.animations[0].channels if c.target.path == "translation")
        accessor = document.accessors[document.animations[0].samplers[channel.sampler].output]
        view = document.bufferViews[accessor.bufferView]
        raw = document.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength]
        x, y, z = np.frombuffer(raw, np.float32).reshape(-1, 3)[FRAME - 1]
        np.testing.assert_allclose([x, -z, y], self.pose["position"][channel.target.node], atol=1e-6)

    def test_vdb_density_and_place(self):
        baked = self.store.read_frame(self.keys["billow"], FRAME)[0]["density"].astype(np.float32)
        files = sorted((self.out / "billow").glob("*.vdb"))
        self.assertEqual(len(files), 18)
        density, place = vdb.read(files[FRAME - 1], baked.shape, "density")
        self.assertGreater(baked.max(), 0)
        np.testing.assert_allclose(density, baked, atol=2e-6)
        self.assertAlmostEqual(place["cell"], 0.6)
        np.testing.assert_allclose(place["origin"], self.shot.layers[3].settings.low, atol=1e-9)

    def test_csv_gauges(self):
        with open(self.out / "fall.gauges.csv", newline="") as file:
            rows = list(csv.DictReader(file))
        self.assertEqual([int(r["frame"]) for r in rows], list(range(1, 19)))
        self.assertEqual(float(rows[FRAME - 1]["moving"]), self.store.read_gauges(self.keys["fall"])[FRAME]["moving"])

    def test_the_frame_that_tells_most_is_seen_after_things_break(self):
        fall, ready = KINDS["fall"], list(range(1, 49))
        rows = {
            f: {"kinetic_energy": 100.0 / f, "bonds_left": 1.0 if f < 12 else max(0.3, 1.0 - 0.1 * (f - 11))}
            for f in ready
        }
        # 80 % of what parts has parted at frame 17, and a third of a second later it is apart
        self.assertEqual(telling(fall, rows, ready, 24.0), 25)
        self.assertEqual(telling(fall, rows, ready[:20], 24.0), 20)
        whole = {f: {"kinetic_energy": float(f % 30), "bonds_left": 1.0} for f in ready}
        self.assertEqual(telling(fall, whole, ready, 24.0), 29)

    def test_a_card_shows_that_frame(self):
        store = self.store
        keep_card(self.shot, store)
        rows = store.read_gauges(self.keys["fall"])
        lively = telling(KINDS["fall"], rows, sorted(rows), 24.0)
        (expected,) = pictures(Baked(self.shot, store), frames=[lively], size=CARD)
        kept = np.asarray(Image.open(store.path_beside(self.keys["billow"], "card.png")))
        np.testing.assert_array_equal(kept, expected)
        (other,) = pictures(Baked(self.shot, store), frames=[1], size=CARD)
        self.assertGreater(np.abs(kept.astype(int) - other).mean(), 0.2)

    def test_the_movie_plays_and_something_moves_in_it(self):
        with av.open(str(self.out / "preview.mp4")) as container:
            pictures = [f.to_ndarray(format="rgb24") for f in container.decode(video=0)]
            self.assertEqual(container.streams.video[0].average_rate, 24)
        self.assertEqual(len(pictures), 18)
        self.assertEqual(pictures[0].shape, (540, 960, 3))
        self.assertGreater(np.abs(pictures[-1].astype(int) - pictures[0]).mean(), 1.0)

    def test_an_unknown_format(self):
        with self.assertRaisesRegex(BadValue, "'tape' is not a format"):
            handover.export(self.shot, self.store.root, self.out, ["tape"])


class Ways(unittest.TestCase):
    """Animations of glTF and USD files, as Urst itself and others write them."""

    #: an arm that turns by a quarter about what is up in 24 of 48 time codes a second, and carries a cube of 200 cm
    STAGE = """#usda 1.0
(
    upAxis = "Y"
    metersPerUnit = 0.01
    timeCodesPerSecond = 48
    startTimeCode = 10
    endTimeCode = 34
)
def Xform "arm"
{
    float xformOp:rotateY.timeSamples = { 10: 0, 34: 90 }
    uniform token[] xformOpOrder = ["xformOp:rotateY"]
    def Mesh "cube"
    {
        int[] faceVertexCounts = [4, 4, 4, 4, 4, 4]
        int[] faceVertexIndices = [0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3]
        point3f[] points = [(-50, -50, -50), (-50, -50, 50), (-50, 50, -50), (-50, 50, 50), (50, -50, -50), (50, -50,
        50), (50, 50, -50), (50, 50, 50)]
        double3 xformOp:translate = (300, 0, 0)
        float3 xformOp:scale = (2, 2, 2)
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:scale"]
    }
    def Mesh "unseen" (active = true)
    {
        token visibility = "invisible"
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    }
}
"""

    def test_a_stage_comes_in_metres_with_z_up_and_what_it_carries(self):
        data = self.STAGE.encode()
        ((name, mesh),) = read_meshes(data, "arm.usda")
        self.assertEqual(name, "cube")
        self.assertAlmostEqual(mass_properties(mesh).volume, 8.0, places=5)
        np.testing.assert_allclose(mass_properties(mesh).centroid, [3, 0, 0], atol=1e-6)
        self.assertAlmostEqual(length(data, "arm.usda"), 0.5)
        found = read_trajectories(data, "arm.usda", np.array([0.0, 0.25, 0.5, 2.0]))["cube"]
        angle = np.radians([0, 45, 90, 90])
        np.testing.assert_allclose(
            found.places, 3 * np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1), atol=1e-6
        )
        np.testing.assert_allclose(found.turns[2] @ found.turn.T, [[0, -1, 0], [1, 0, 0], [0, 0, 1]], atol=1e-6)
        other = data.replace(
            b'def Mesh "cube"\n    {', b'def Mesh "cube"\n    {\n        uniform token orientation = "leftHanded"'
        )
        ((_, turned),) = read_meshes(other, "arm.usda")
        with self.assertRaisesRegex(BadMesh, "encloses -8 m3"):
            mass_properties(turned)

    def test_each_kind_of_stage_is_read_alike(self):
        with tempfile.TemporaryDirectory() as folder:
            text, crate, package = (Path(folder) / f"arm.{kind}" for kind in ("usda", "usdc", "usdz"))
            text.write_text(self.STAGE)
            Usd.Stage.Open(str(text)).Export(str(crate))
            self.assertTrue(UsdUtils.CreateNewUsdzPackage(str(crate), str(package)))
            for path in (text, crate, package):
                data = path.read_bytes()
                ((name, mesh),) = read_meshes(data, path.name)
                self.assertEqual((name, round(mass_properties(mesh).volume, 5)), ("cube", 8.0))
                found = read_trajectories(data, path.name, np.array([0.5]))["cube"]
                np.testing.assert_allclose(found.places[0], [0, 3, 0], atol=1e-6)

    def test_a_stage_that_is_bad_or_takes_from_elsewhere_is_refused(self):
        outside = self.STAGE.replace('def Xform "arm"', 'def Xform "arm" (references = @secret.usda@)')
        clips = self.STAGE.replace(
            'def Xform "arm"', 'def Xform "arm" (clips = {dictionary default = {asset[] assetPaths = [@secret.usda@]}})'
        )
        corners = self.STAGE.replace("[0, 1, 3, 2, 4,", "[0, 1, 3, 2, 44,")
        for text, told in (
            (outside, "takes parts from other files .secret.usda."),
            (clips, "takes parts from other files ./arm."),
            (corners, "has faces whose corners are not there, in 'cube'"),
            (self.STAGE.replace("metersPerUnit = 0.01", "metersPerUnit = 0"), "has 0 metres a unit"),
            ("#usda 1.0\nhello", "cannot be read as USD"),
            ("", "cannot be read as USD"),
        ):
            with self.assertRaisesRegex(BadFile, told):
                read_meshes(text.encode(), "arm.usda")
        for kind in ("usd", "usdc", "usdz"):
            with self.assertRaisesRegex(BadFile, "cannot be read as USD"):
                read_meshes(b"no stage at all", f"arm.{kind}")
        with self.assertRaisesRegex(BadMesh, "holds no triangles"):
            read_meshes(b"#usda 1.0\n", "none.usda")

    def test_what_was_written_comes_back_where_it_was(self):
        for kind, write in (("glb", gltf.write_fragments), ("usd", self.usd)):
            with self.subTest(kind):
                self.written_and_read(f"moved.{kind}", write)

    @staticmethod
    def usd(path, fragments, names, colours, frames, rate, first):
        usd.write_fragments(path, fragments, names, colours, frames, (first, first + 6), rate)

    def written_and_read(self, name, write):
        box = generators.box_between((-0.2, -0.1, 0), (0.2, 0.1, 0.6))
        fragments = assemble([Solid(0, box, np.zeros(12, bool))])
        rng, frames = np.random.default_rng(3), []
        for frame in range(1, 8):
            turn = rng.normal(size=4)
            frames.append(
                (
                    frame,
                    {
                        "position": rng.uniform(-2, 2, (1, 3)).astype(np.float32),
                        "orientation": (turn / np.linalg.norm(turn))[None].astype(np.float32),
                    },
                )
            )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / name
            write(path, fragments, ["Box"], [(0.5, 0.5, 0.5)], iter(frames), 24.0, 1)
            data = path.read_bytes()
        self.assertAlmostEqual(length(data, name), 6 / 24, places=6)
        ((part, mesh),) = read_meshes(data, name)
        way = read_trajectories(data, name, np.arange(7) / 24.0)[part]
        local = (mesh.vertices - way.place) @ way.turn
        corners = fragments.hulls.vertices
        for k, (_, pose) in enumerate(frames):
            right = corners @ matrix(pose["orientation"][0].astype(float)).T + pose["position"][0]
            found = local @ way.turns[k].T + way.places[k]
            # the same corners, in whatever order
            apart = np.linalg.norm(right[:, None] - found[None], axis=2)
            np.testing.assert_allclose(apart.min(axis=1), 0.0, atol=1e-5)

    def test_a_node_goes_with_what_carries_it_and_keeps_its_size(self):
        times = np.array([0.0, 1.0], "<f4")
        half = np.sqrt(0.5)
        turns = np.array([[0, 0, 0, 1], [0, half, 0, half]], "<f4")
        blob = times.tobytes() + turns.tobytes()
        document = {
            "asset": {"version": "2.0"},
            "nodes": [
                {"name": "arm", "children": [1]},
                {"name": "ball", "mesh": 0, "translation": [2, 0, 0], "scale": [3, 3, 3]},
            ],
            "buffers": [{"uri": "data:;base64," + base64.b64encode(blob).decode(), "byteLength": len(blob)}],
            "bufferViews": [{"buffer": 0, "byteLength": 8}, {"buffer": 0, "byteOffset": 8, "byteLength": 32}],
            "accessors": [
                {"bufferView": 0, "componentType": 5126, "count": 2, "type": "SCALAR"},
                {"bufferView": 1, "componentType": 5126, "count": 2, "type": "VEC4"},
            ],
            "animations": [
                {
                    "samplers": [{"input": 0, "output": 1}],
                    "channels": [{"sampler": 0, "target": {"node": 0, "path": "rotation"}}],
                }
            ],
        }
        data = json.dumps(document).encode()
        way = read_trajectories(data, "arm.gltf", np.array([0.0, 0.5, 1.0, 2.0]))["ball"]
        # y up and a turn about it: z up, and a turn about that
        angle = np.radians([0, 45, 90, 90])
        np.testing.assert_allclose(
            way.places, 2 * np.stack([np.cos(angle), np.sin(angle), 0 * angle], axis=1), atol=1e-6
        )
        np.testing.assert_allclose(way.turns[2], [[0, -1, 0], [1, 0, 0], [0, 0, 1]], atol=1e-6)
        document["accessors"][1]["count"] = 9
        with self.assertRaisesRegex(BadFile, "animations that cannot be read .the file is cut short"):
            read_trajectories(json.dumps(document).encode(), "arm.gltf", np.zeros(1))
        document["buffers"][0]["uri"] = "arm.bin"
        with self.assertRaisesRegex(BadFile, "in 'arm.bin', another file"):
            read_trajectories(json.dumps(document).encode(), "arm.gltf", np.zeros(1))
        for bad in ({"animations": [{"samplers": [{"input": 9}]}]}, {"animations": [{}]}, {"animations": 5}, [1, 2]):
            with self.assertRaisesRegex(BadFile, "animations that cannot be read", msg=bad):
                length(json.dumps(bad).encode(), "arm.gltf")


class MeshesIn(unittest.TestCase):
    BALL = generators.ball(0.5, 6)[0]

    def written(self, kind, *meshes):
        scene = trimesh.Scene()
        for i, m in enumerate(meshes or (self.BALL,)):
            scene.add_geometry(
                trimesh.Trimesh(m.vertices, m.triangles, process=False), node_name=f"part{i}", geom_name=f"part{i}"
            )
        if kind in ("stl", "stl_ascii", "ply"):
            data = scene.to_geometry().export(file_type=kind)
            return data.encode() if isinstance(data, str) else data
        data = scene.export(file_type=kind)
        return data.encode() if isinstance(data, str) else data

    def test_every_kind_gives_the_same_body(self):
        for kind in ("obj", "ply", "stl", "glb"):
            ((_, mesh),) = read_meshes(self.written(kind), f"ball.{kind}")
            self.assertAlmostEqual(mass_properties(mesh).volume, mass_properties(self.BALL).volume, places=5, msg=kind)

    def test_named_parts_become_pieces_of_their_own(self):
        other = generators.box_between((2, 0, 0), (3, 1, 1))
        found = dict(read_meshes(self.written("glb", self.BALL, other), "set.glb"))
        self.assertEqual(sorted(found), ["part0", "part1"])
        text = b"o first\n" + self.written("obj", self.BALL).split(b"\n", 1)[1]
        more = (
            b"\no second\n"
            + b"\n".join(b"v %f %f %f" % tuple(v) for v in other.vertices)
            + b"\n"
            + b"\n".join(b"f %d %d %d" % tuple(t + 1 + len(self.BALL.vertices)) for t in other.triangles)
        )
        self.assertEqual(len(read_meshes(text + more, "set.obj")), 2)

    def test_an_stl_in_words_may_be_named_in_any_letters(self):
        words = self.written("stl_ascii").replace(b"solid", b"solid caf\xe9", 1)
        for data in (words, words.decode("latin-1").encode()):
            ((_, mesh),) = read_meshes(data, "ball.stl")
            self.assertEqual(len(mesh.triangles), len(self.BALL.triangles))

    def test_a_text_file_called_glb(self):
        with self.assertRaisesRegex(BadFile, "is not a binary glTF file"):
            read_meshes(b"hello there, this is a letter", "letter.glb")

    def test_rubbish_of_each_kind(self):
        for kind in ("obj", "ply", "stl", "gltf"):
            with self.assertRaises((BadFile, BadMesh), msg=kind):
                read_meshes(b"\x00\x01rubbish\xff" * 20, f"bad.{kind}")
        with self.assertRaisesRegex(BadFile, "of no kind that can be read; use .obj"):
            read_meshes(b"", "scene.txt")

    def test_three_million_triangles_are_refused_before_they_are_read(self):
        head = b"\0" * 80 + struct.pack("<I", 3_000_000)
        data = io.BytesIO(head)
        data.seek(84 + 50 * 3_000_000 - 1)
        data.write(b"\0")
        with self.assertRaisesRegex(BadMesh, "3,000,000 triangles, more than 1,500,000"):
            read_meshes(data.getvalue(), "huge.stl")

    def test_open_ones_are_read_and_nan_is_not(self):
        text = "\n".join("v %f %f %f" % tuple(v) for v in self.BALL.vertices)
        faces = ["f %d %d %d" % tuple(t + 1) for t in self.BALL.triangles]
        ((_, lid),) = read_meshes("\n".join([text, *faces[1:]]).encode(), "open.obj")
        self.assertEqual(len(open_edges(lid)), 3)
        with self.assertRaisesRegex(BadMesh, "not numbers"):
            read_meshes("\n".join([text.replace(text.split("\n")[0], "v nan 0 0", 1), *faces]).encode(), "nan.obj")


if __name__ == "__main__":
    unittest.main()
