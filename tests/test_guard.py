"""Who gets in, and what a file or a request from outside may take."""

import asyncio
import contextlib
import json
import os
import socket
import struct
import tempfile
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from unittest import mock

import httpx
import numpy as np
import uvicorn
from argon2.exceptions import VerificationError
from fastapi import HTTPException, Request
from fastapi.responses import PlainTextResponse

from tests.live import Live, wait_for
from tests.shots import tiny
from urst.core.checks.meshes import check_solid, self_crossings
from urst.core.geometry import generators
from urst.core.geometry.mesh import Mesh, chained
from urst.db import shots
from urst.db.engine import session
from urst.errors import BadFile, BadMesh, BadValue
from urst.formats import claims
from urst.formats.meshes import read_meshes
from urst.web import access, bounds, guard, live, pages, prefetch, throttle


def glb(document, chunk=b""):
    """A binary glTF file of a description."""
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    body = struct.pack("<I", len(text)) + b"JSON" + text + struct.pack("<I", len(chunk)) + b"BIN\0" + chunk
    return b"glTF" + struct.pack("<II", 2, 12 + len(body)) + body


def claiming(count, nodes=1):
    """glTF with one triangle mesh that claims so many points and is used by so many nodes."""
    return {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": list(range(nodes))}],
        "nodes": [{"mesh": 0} for _ in range(nodes)],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": count, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "buffers": [{"byteLength": 36}],
    }


class Claims(unittest.TestCase):
    def test_what_is_claimed_is_held_against_what_is_there(self):
        wrong = {
            "many.glb": glb(claiming(60_000_000), bytes(36)),
            "none.glb": glb(claiming(3) | {"accessors": [{"componentType": 5126, "count": 10**9, "type": "VEC3"}]}),
            "views.glb": glb(claiming(3) | {"bufferViews": [{"buffer": 0, "byteLength": 10**12}]}, bytes(36)),
            "deep.gltf": b'{"asset":' + b"[" * 20_000 + b"]" * 20_000 + b"}",
            "long.ply": b"ply\nformat ascii 1.0\nelement vertex 99999999\nelement face 1\nend_header\n0 0 0\n",
            "open.ply": b"ply\nformat ascii 1.0\nelement vertex 3\n" + b"comment x\n" * 10,
        }
        for name, data in wrong.items():
            with self.assertRaises((BadFile, BadMesh), msg=name):
                claims.check(data, name)
        with self.assertRaisesRegex(BadMesh, "20,000 parts"):
            claims.check(glb(claiming(3, nodes=20_000), bytes(36)), "parts.glb")
        claims.check(glb(claiming(3), bytes(36)), "fine.glb")

    def test_a_huge_triangle_among_small_ones_costs_no_more_than_those_about_it(self):
        ball = generators.ball(0.5, 60)[0]
        far = Mesh(np.array([[-100, -100, 0.05], [100, -100, 0.05], [0, 200, 0.05]], float), np.array([[0, 1, 2]]))

        def spent(mesh):
            began = time.process_time()
            found = self_crossings(mesh)
            return time.process_time() - began, len(found)

        alone, none = spent(ball)
        with_it, cut = spent(chained([ball, far]))
        self.assertEqual(none, 0)
        self.assertGreater(cut, 100)
        self.assertLess(with_it, 5.0 * alone + 0.5)

    def test_triangles_heaped_in_one_place_are_refused_and_not_looked_at_for_ever(self):
        rng = np.random.default_rng(1)
        heap = Mesh(rng.random((90_000, 3)), np.arange(90_000).reshape(-1, 3))
        with mock.patch("urst.core.checks.meshes._MOST_LOOKED", 10_000_000):
            with self.assertRaisesRegex(BadMesh, "too tangled"):
                self_crossings(heap, most=10**9)
        with self.assertRaises(BadMesh):
            check_solid(heap)


class Readers(unittest.TestCase):
    TRIANGLE = (
        "{\n int[] faceVertexCounts = [3]\n int[] faceVertexIndices = [0, 1, 2]\n point3f[] points = [(0, 0, 0), (1, "
        "0, 0), (0, 1, 0)]\n}\n"
    )

    def refused(self, name, data, sentence):
        with self.assertRaisesRegex((BadFile, BadMesh), sentence):
            read_meshes(data, name)

    def test_no_file_is_read_beside_the_one_that_was_sent(self):
        for place in (
            "/etc/passwd",
            "points.bin",
            "../points.bin",
            "file:///etc/passwd",
            "http://127.0.0.1/x",
            "/dev/zero",
        ):
            document = claiming(3) | {"buffers": [{"byteLength": 36, "uri": place}]}
            self.refused(
                "x.gltf", json.dumps(document).encode(), "^'x.gltf' keeps its points in another file .*as .glb"
            )

    def test_what_refers_to_the_file_itself_is_read_and_does_not_grow_without_end(self):
        head = f'#usda 1.0\ndef Mesh "L0" {self.TRIANGLE}'
        twice = (
            f'{head}def "W" (references = </L0>) '
            f'{{\n double3 xformOp:translate = (5, 0, 0)\n uniform token[] xformOpOrder = ["xformOp:translate"]\n}}\n'
        )
        self.assertEqual([len(m.triangles) for _, m in read_meshes(twice.encode(), "x.usda")], [1, 1])
        doubled = head + "".join(
            f'def "L{k}" {{\n def "a" (references = </L{k - 1}>) {{}}\n def "b" (references = </L{k - 1}>) {{}}\n}}\n'
            for k in range(1, 15)
        )
        self.refused("x.usda", doubled.encode(), "more than 2,000 parts")

    def test_coordinates_beyond_any_set_and_marks_at_the_start(self):
        far = struct.pack("<12fH", 0, 0, 1, 0, 0, 0, 1e38, 0, 0, 0, 1e38, 0, 0)
        self.refused("x.stl", bytes(80) + struct.pack("<I", 1) + far, "reaches 1e.38 m .* look at the unit")
        ((_, mesh),) = read_meshes(b"\xef\xbb\xbfv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "x.obj")
        self.assertEqual(len(mesh.triangles), 1)


class Uploads(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.live = cls.enterClassContext(Live(worker=False))
        cls.http = cls.live.client

    def setUp(self):
        self.shot_id = self.live.add(tiny())

    def pieces(self):
        with session() as db:
            return len(shots.get(db, self.shot_id).shot.pieces)

    def send(self, name, data):
        return self.http.post(f"/shots/{self.shot_id}/meshes", files={"file": (name, data)})

    def test_a_file_that_breaks_its_reader_is_told_in_a_sentence_and_nothing_is_half_taken(self):
        before = self.pieces()
        for name, data in {
            "many.glb": glb(claiming(60_000_000), bytes(36)),
            "cut.glb": glb(claiming(3), bytes(36))[:90],
            "empty.obj": b"",
            "latin.obj": "o K\xfcste\nv 0 0 0\n".encode("latin-1"),
            "odd.exe": b"MZ",
            "words.stl": b"solid x\nfacet\n",
        }.items():
            reply = self.send(name, data)
            self.assertEqual(reply.status_code, 422, name)
            self.assertRegex(reply.json()["message"], r"^\S.*[.]$", name)
        self.assertEqual(self.pieces(), before)
        # whatever a file and its parts are called
        odd = b"o " + b"x" * 3000 + b"\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
        self.assertEqual(self.send("../" + "y" * 3000 + ".obj", odd).status_code, 201)
        with session() as db:
            self.assertLessEqual(len(shots.get(db, self.shot_id).shot.pieces[-1].name), 80)
        before += 1
        latin = "o K\xfcste\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n".encode("latin-1")
        self.assertEqual(self.send("latin.obj", latin).status_code, 201)
        self.assertEqual(self.pieces(), before + 1)

    def test_the_server_answers_while_a_file_is_read(self):
        slow = b"".join(b"v %d %d %d\n" % (i, i % 7, i % 11) for i in range(60_000))
        slow += b"".join(b"f %d %d %d\n" % (i, i + 1, i + 2) for i in range(1, 59_998))
        done = threading.Event()

        def send():
            with httpx.Client(base_url=self.live.base, timeout=120) as client:
                client.post(f"/shots/{self.shot_id}/meshes", files={"file": ("slow.obj", slow)})
            done.set()

        threading.Thread(target=send, daemon=True).start()
        waits = []
        while not done.is_set():
            began = time.monotonic()
            self.http.get("/alive").raise_for_status()
            waits.append(time.monotonic() - began)
            time.sleep(0.05)
        self.assertGreater(len(waits), 5)
        self.assertLess(np.percentile(waits, 90), 0.5)

    def test_a_body_that_says_no_length_is_held_to_the_same_bound(self):
        def chunks():
            yield b'--x\r\ncontent-disposition: form-data; name="file"; filename="a.obj"\r\n\r\n'
            for _ in range(pages.MOST_UPLOAD // 2**20 + 8):
                yield bytes(2**20)

        with contextlib.suppress(httpx.TransportError):
            head = {"content-type": "multipart/form-data; boundary=x"}
            reply = self.http.post(f"/shots/{self.shot_id}/meshes", content=chunks(), headers=head)
            self.assertEqual(reply.status_code, 413)
            self.assertIn("larger than 128 MB", reply.text)
        # the server is as well as before
        self.assertEqual(self.http.get("/alive").text, "alive")

    def test_changes_from_other_sites_are_refused_whatever_they_say_of_themselves(self):
        post = lambda **head: self.http.post(f"/shots/{self.shot_id}/stop", headers=head).status_code  # noqa: E731
        self.assertEqual(post(), 200)
        self.assertEqual(post(**{"sec-fetch-site": "same-origin"}), 200)
        self.assertEqual(post(**{"sec-fetch-site": "cross-site"}), 403)
        self.assertEqual(post(**{"sec-fetch-site": "same-site"}), 403)
        self.assertEqual(post(origin="http://elsewhere.example"), 403)


class Slow(unittest.TestCase):
    """Connections that do not come to the point."""

    def setUp(self):
        async def plain(scope, receive, send):
            while scope["type"] == "http" and (await receive()).get("more_body"):
                pass
            await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
            await send({"type": "http.response.body", "body": b"ok"})

        for name in ("HEAD", "BODY"):
            self.enterContext(mock.patch.object(bounds, name, 0.6))
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        app = bounds.Bounded(plain, lambda path: (1000, "send less"))
        config = uvicorn.Config(app, port=self.port, http=bounds.Patient, log_config=None, lifespan="off")
        server = uvicorn.Server(config)
        thread = threading.Thread(target=server.run, daemon=True)
        thread.start()
        self.addCleanup(thread.join, 10)
        self.addCleanup(setattr, server, "should_exit", True)
        wait_for(lambda: server.started, "the server")

    def ask(self, *parts, wait=0.0):
        with socket.create_connection(("127.0.0.1", self.port), timeout=10) as line:
            began = time.monotonic()
            with contextlib.suppress(OSError):
                for part in parts:
                    line.sendall(part)
                    time.sleep(wait)
            told = b""
            with contextlib.suppress(OSError):
                while more := line.recv(4096):
                    told += more
            return told, time.monotonic() - began

    def test_a_head_that_does_not_end_is_cut_off_and_a_slow_sound_one_is_not(self):
        told, took = self.ask(b"GET / HTTP/1.1\r\n", *[b"x-a: b\r\n"] * 40, wait=0.1)
        self.assertNotIn(b"200", told)
        self.assertLess(took, 8.0)
        told, _ = self.ask(b"GET / HTTP/1.1\r\nhost: x\r\n", b"connection: close\r\n\r\n", wait=0.2)
        self.assertIn(b"200", told)

    def test_a_body_that_stops_coming_is_told_so(self):
        told, _ = self.ask(b"POST / HTTP/1.1\r\nhost: x\r\ncontent-length: 10\r\n\r\nabc")
        self.assertIn(b"408", told)
        told, _ = self.ask(b"POST / HTTP/1.1\r\nhost: x\r\ncontent-length: 5000\r\n\r\n")
        self.assertIn(b"413", told)
        chunk = b"190\r\n" + bytes(400) + b"\r\n"
        told, _ = self.ask(b"POST / HTTP/1.1\r\nhost: x\r\ntransfer-encoding: chunked\r\n\r\n" + 4 * chunk)
        self.assertIn(b"413", told)


class InTurn(unittest.IsolatedAsyncioTestCase):
    """An application behind turns, whose work lasts until it is told to end."""

    def setUp(self):
        self.working, self.most, self.end = [], {}, asyncio.Event()
        self.turns = throttle.Throttle(self.work)

    async def work(self, scope, receive, send):
        while scope["method"] == "POST" and (await receive()).get("more_body"):
            pass
        about = scope["path"].split("/")[2:3]
        self.working += about
        self.most = {n: max(self.most.get(n, 0), self.working.count(n)) for n in {*self.most, *self.working}}
        await self.end.wait()
        self.working = [n for n in self.working if n not in about] + [n for n in self.working if n in about][1:]
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    async def ask(self, path, method="GET", pieces=()):
        told, left = [], [*pieces]

        async def receive():
            await asyncio.sleep(0)
            return {"type": "http.request", "body": left.pop(0), "more_body": bool(left)}

        async def send(message):
            told.append(message)

        headers = [(b"transfer-encoding", b"chunked")] if pieces else []
        scope = {"type": "http", "method": method, "path": path, "headers": headers}
        await self.turns(scope, receive, send)
        return told[0]["status"]

    async def settle(self):
        for _ in range(50):
            await asyncio.sleep(0)

    async def test_one_shot_takes_few_turns_all_take_more_and_the_list_takes_none(self):
        same = [asyncio.create_task(self.ask("/shots/a/state")) for _ in range(40)]
        others = [asyncio.create_task(self.ask(f"/shots/b{k}/set", "POST", (b"x", b"y"))) for k in range(40)]
        await self.settle()
        self.assertEqual(self.working.count("a"), throttle.OF_ONE)
        self.assertEqual(len(self.working), throttle.AT_A_TIME)
        self.end.set()
        self.assertEqual(await asyncio.wait_for(self.ask("/"), 5), 200)
        self.assertEqual(set(await asyncio.wait_for(asyncio.gather(*same, *others), 5)), {200})
        self.assertEqual(self.most["a"], throttle.OF_ONE)

    async def test_what_has_not_all_come_holds_no_turn(self):
        async def never():
            await asyncio.Event().wait()

        scope = {"type": "http", "method": "POST", "path": "/shots/a/x", "headers": [(b"content-length", b"9")]}
        slow = [asyncio.create_task(self.turns(scope, never, None)) for _ in range(20)]
        await self.settle()
        self.end.set()
        self.assertEqual(await asyncio.wait_for(self.ask("/shots/a/state"), 5), 200)
        for task in slow:
            task.cancel()
        await asyncio.gather(*slow, return_exceptions=True)
        self.assertFalse(self.turns._there, "what was given up is forgotten")

    async def test_too_many_are_told_to_come_again(self):
        waiting = [asyncio.create_task(self.ask(f"/shots/{k}/state")) for k in range(throttle.WAITING)]
        await self.settle()
        self.assertEqual(await self.ask("/shots/x/state"), 503)
        self.end.set()
        await asyncio.wait_for(asyncio.gather(*waiting), 5)
        self.assertEqual(await self.ask("/shots/x/state"), 200)


class Broken(unittest.IsolatedAsyncioTestCase):
    async def answered(self, app, method="GET", path="/", **headers):
        told = []

        async def send(message):
            told.append(message)

        broke = lambda request, error: PlainTextResponse(f"broke: {error}", 500)  # noqa: E731
        names = [(n.replace("_", "-").encode(), v.encode("latin-1")) for n, v in headers.items()]
        scope = {
            "type": "http",
            "method": method,
            "path": path,
            "query_string": b"",
            "headers": [(b"host", b"here"), *names],
        }
        await guard.Guard(app, broke)(scope, None, send)
        return told

    async def test_what_breaks_is_answered_with_the_policy_and_half_an_answer_is_ended(self):
        async def breaks(scope, receive, send):
            raise ZeroDivisionError("by nothing")

        start, body = await self.answered(breaks)
        self.assertEqual((start["status"], body["body"]), (500, b"broke: by nothing"))
        self.assertIn(b"content-security-policy", dict(start["headers"]))

        async def half(scope, receive, send):
            await send({"type": "http.response.start", "status": 200, "headers": []})
            raise ZeroDivisionError

        with self.assertRaises(ZeroDivisionError):
            await self.answered(half)

    async def test_odd_origins_revisions_and_paths_are_refused_before_anything_is_done(self):
        async def never(scope, receive, send):
            raise AssertionError("it was let through")

        for status, method, path, headers in (
            (403, "POST", "/", {"origin": "http://["}),
            (403, "POST", "/", {"referer": "http://a]b["}),
            (403, "POST", "/", {"origin": "null"}),
            (403, "DELETE", "/", {"origin": "http://elsewhere"}),
            (403, "POST", "/", {"sec_fetch_site": "cross-site"}),
            (422, "POST", "/", {"urst_revision": "abc"}),
            (422, "POST", "/", {"urst_revision": "9" * 30}),
            (404, "GET", "/a\0b", {}),
        ):
            with self.subTest(method=method, path=path, headers=headers):
                self.assertEqual((await self.answered(never, method, path, **headers))[0]["status"], status)


class Disk(unittest.TestCase):
    def test_a_store_that_cannot_be_used_is_said_so_and_shots_go_on(self):
        with Live(worker=False) as live:
            shot_id = live.add(tiny(seed=71))
            away = live.store.with_name("away")
            live.store.rename(away)
            live.store.write_text("no folder")
            for _ in range(2):
                reply = live.client.get(f"/shots/{shot_id}/state")
                self.assertEqual(reply.status_code, 503)
                self.assertIn("The folder of what is baked cannot be used (Not a directory)", reply.text)
            self.assertEqual(live.client.get("/queue").status_code, 200)
            changed = live.client.post(f"/shots/{shot_id}/recipe/fall", data={"path": "steps", "value": "5"})
            self.assertEqual(changed.status_code, 200)
            live.store.unlink()
            away.rename(live.store)
            self.assertEqual(live.state(shot_id)["id"], shot_id)
            self.assertNotIn("Traceback", live.log("serve"))

    def test_pages_that_listen_are_bounded(self):
        with mock.patch.object(live, "MOST_PAGES", 2), live.hub.page():
            live._room()
            with live.hub.page(), self.assertRaisesRegex(HTTPException, "2 pages of Urst are open already"):
                live._room()


class Ahead(unittest.IsolatedAsyncioTestCase):
    async def test_all_are_looked_at_first_then_what_changes_and_a_broken_one_ends_nothing(self):
        seen = []

        def told(shot_id, quality):
            seen.append(shot_id)
            if shot_id == "b":
                raise BadValue("it is broken")
            if shot_id == "c":
                raise ZeroDivisionError

        with (
            mock.patch.object(prefetch.cards, "know"),
            mock.patch.object(prefetch.state, "current", told),
            mock.patch.object(prefetch, "_all", lambda: ["a", "b"]),
            self.assertLogs("urst.web", "ERROR"),
        ):
            task = asyncio.create_task(prefetch.look())
            for message in (
                {"what": "document", "shot": "c"},
                {"what": "frame", "shot": "d"},
                {"what": "document", "shot": "e"},
            ):
                while len(seen) < 2:
                    await asyncio.sleep(0.01)
                live.hub._send(message)
            async with asyncio.timeout(10):
                while "e" not in seen:
                    await asyncio.sleep(0.01)
            task.cancel()
            # what broke is not looked at again by itself
            prefetch._look_at("c")
        self.addCleanup(prefetch._given_up.clear)
        self.assertEqual(seen, ["a", "b", "c", "e"])


class Passphrase(unittest.TestCase):
    def test_beyond_loopback_only_who_knows_it_gets_in(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        kept = Path(folder) / "passphrase"
        kept.write_text(access.hashed("correct horse battery"))
        self.assertNotIn("horse", kept.read_text())
        self.assertIn("argon2id", kept.read_text())
        self.enterContext(mock.patch.dict(os.environ, {"URST_PASSPHRASE": str(kept)}))
        live = self.enterContext(Live(worker=False))
        shot_id = live.add(tiny())
        page = {"accept": "text/html"}
        self.assertEqual(live.client.get(f"/shots/{shot_id}/state").status_code, 401)
        self.assertEqual(live.client.post(f"/shots/{shot_id}/delete").status_code, 401)
        self.assertEqual(live.client.get("/", headers=page).headers["location"], "/enter")
        self.assertIn("Passphrase", live.client.get("/enter", headers=page).text)
        live.client.cookies.set(access.COOKIE, "made-up")
        self.assertEqual(live.client.get(f"/shots/{shot_id}/state").status_code, 401)
        live.client.cookies.clear()
        enter = lambda words: live.client.post("/enter", data={"passphrase": words})  # noqa: E731
        for words in ("", "wrong", "correct horse battery "):
            self.assertEqual(enter(words).status_code, 403)
        reply = enter("correct horse battery")
        self.assertEqual(reply.status_code, 303)
        self.assertIn("HttpOnly", reply.headers["set-cookie"])
        self.assertEqual(live.client.get(f"/shots/{shot_id}/state").status_code, 200)
        # a session outlasts the server, and ends with the passphrase
        session = live.client.cookies[access.COOKIE]
        self.assertTrue(access._holds(session))
        until, nonce, sign = session.split(".")
        for other in (
            "",
            ".",
            "..",
            f"{int(until) + 9}.{nonce}.{sign}",
            f"{until}.{nonce}.{'0' * 64}",
            "\u0663.a.b",
            session + "0",
        ):
            self.assertFalse(access._holds(other), other)
        with mock.patch.object(access.time, "time", return_value=time.time() + access.STAYS + 9):
            self.assertFalse(access._holds(session))
        hashed = kept.read_text()
        for changed in (access.hashed("another one here"), ""):
            kept.write_text(changed)
            self.assertFalse(access._holds(session))
        kept.write_text(hashed)
        # guessing is slowed for all who come from there, the right one included
        with httpx.Client(base_url=live.base) as other:
            codes = [other.post("/enter", data={"passphrase": f"guess {n}"}).status_code for n in range(4)]
            self.assertEqual(codes, [403, 403, 429, 429])
            self.assertEqual(other.post("/enter", data={"passphrase": "correct horse battery"}).status_code, 429)

    def test_tries_at_once_are_held_to_as_few_and_tried_one_after_the_other(self):
        tried, at_once, most = [], [0], []

        class Slow:
            def verify(self, kept, words):
                at_once[0] += 1
                most.append(at_once[0])
                time.sleep(0.02)
                at_once[0] -= 1
                tried.append(words)
                raise VerificationError

        request = Request(
            {"type": "http", "client": ("192.0.2.7", 1), "headers": [], "path": "/enter", "method": "POST"}
        )
        with (
            mock.patch.object(access, "PasswordHasher", Slow),
            mock.patch.object(access, "_kept", lambda: "hash"),
            mock.patch.object(access, "page", lambda request, name, status, **told: status),
            mock.patch.dict(access._wrong, clear=True),
            ThreadPoolExecutor(40) as pool,
        ):
            codes = list(pool.map(lambda n: access.enter(request, f"guess {n}"), range(120)))
        self.assertEqual(sorted(codes), [403] * 5 + [429] * 115)
        self.assertEqual((len(tried), max(most)), (5, 1))

    def test_a_right_one_is_not_counted(self):
        with mock.patch.dict(access._wrong, clear=True):
            for _ in range(20):
                access._was_right("192.0.2.8", access._noted("192.0.2.8"))
            self.assertFalse(access._wrong["192.0.2.8"])


if __name__ == "__main__":
    unittest.main()
