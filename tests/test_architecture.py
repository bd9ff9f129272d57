"""Import directions, and what must not be loaded where."""

import ast
import json
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import get_args

from pydantic import BaseModel

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "urst"

#: what each package may import of Urst, besides itself and urst.errors
ALLOWED = {
    "errors": set(),
    "logs": set(),
    "core": set(),
    "store": {"core"},
    "scene": {"core"},
    "kinds": {"core", "scene"},
    "shot": {"core", "scene", "kinds"},
    "drawn": {"core", "scene", "store", "kinds"},
    "bake": {"core", "drawn", "store", "scene", "kinds", "shot"},
    "formats": {"core"},
    "handover": {"core", "drawn", "store", "scene", "shot", "formats"},
    "db": {"core", "shot"},
    "jobs": {"bake", "db", "handover", "scene", "shot", "store", "logs"},
    "demo": {"bake", "scene", "shot", "db", "jobs", "store"},
    "web": {"core", "drawn", "scene", "kinds", "shot", "store", "db", "jobs", "formats", "handover", "logs"},
    "cli": {"bake", "db", "demo", "formats", "handover", "jobs", "scene", "shot", "store", "web"},
}
#: within the core: geometry, bodies and fields carry the solvers, none of which knows another; only coupling knows two
BASE = {"jit", "trilinear", "checkpoint", "air", "ranges", "curves", "geometry", "bodies", "fields", "solids", "launch"}
CORE_ALLOWED = {
    "kernel_cache": set(),
    "jit": {"kernel_cache"},
    "trilinear": {"jit"},
    "checkpoint": set(),
    "air": set(),
    "ranges": set(),
    "remembered": set(),
    "curves": {"ranges"},
    "geometry": {"jit"},
    "bodies": {"jit", "geometry"},
    "fields": {"jit", "trilinear", "geometry", "bodies"},
    "solids": {"jit", "trilinear", "geometry", "bodies", "fields"},
    "launch": {"geometry", "ranges"},
    "fracture": BASE,
    "rigid": BASE,
    "debris": BASE,
    "gas": BASE,
    "liquid": BASE,
    "coupling": BASE | {"rigid", "debris", "gas", "liquid"},
    "preview": {"air", "jit", "trilinear", "geometry"},
    "skin": {"jit", "trilinear", "checkpoint", "fields", "solids"},
    "froth": {"jit", "trilinear", "checkpoint", "fields", "solids", "ranges"},
    "checks": {"geometry"},
}


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("urst"):
            yield from (f"{node.module}.{a.name}" for a in node.names)
        elif isinstance(node, ast.Import):
            yield from (a.name for a in node.names if a.name.startswith("urst"))


class Directions(unittest.TestCase):
    def test_packages_import_only_what_they_may(self):
        wrong = []
        for path in SOURCE.rglob("*.py"):
            parts = path.relative_to(SOURCE).with_suffix("").parts
            if parts == ("__init__",):
                continue
            self.assertIn(parts[0], ALLOWED, "a package whose imports nobody has thought of")
            for name in imports(path):
                target = name.split(".")[1]
                if target not in {parts[0], "errors"} | ALLOWED[parts[0]]:
                    wrong.append(f"{'.'.join(parts)} imports {name}")
        self.assertEqual(wrong, [])

    def test_no_solver_imports_another(self):
        wrong = []
        for path in (SOURCE / "core").rglob("*.py"):
            here = path.relative_to(SOURCE / "core").with_suffix("").parts[0]
            if here == "__init__":
                continue
            self.assertIn(here, CORE_ALLOWED, "a room of the core whose imports nobody has thought of")
            for name in imports(path):
                parts = name.split(".")
                if parts[1] == "core" and parts[2] not in CORE_ALLOWED[here] | {here}:
                    wrong.append(f"core.{here} imports {name}")
        self.assertEqual(wrong, [])

    def test_every_module_of_tests_is_run(self):
        from tests.__main__ import CORE, FAST, HOUSE

        found = sorted(p.stem.removeprefix("test_") for p in Path(__file__).parent.glob("test_*.py"))
        self.assertEqual(found, sorted([*FAST[0], *FAST[1], *CORE, *HOUSE]))

    def test_modules_stay_small(self):
        long = {
            str(p.relative_to(SOURCE)): n for p in SOURCE.rglob("*.py") if (n := len(p.read_text().splitlines())) > 700
        }
        self.assertEqual(long, {})


def modules_after(statement):
    """Names of the modules a fresh process has loaded after a statement."""
    code = (
        f"import os; os.environ['URST_DATABASE']='postgresql://x@127.0.0.1:1/x'; {statement}; import sys, json; "
        f"print(json.dumps(list(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    return set(json.loads(done.stdout.splitlines()[-1]))


class Loading(unittest.TestCase):
    def test_the_web_process_never_loads_a_solver(self):
        self.assertNotIn("numba", modules_after("import urst.web.app"))

    def test_the_document_is_free_of_solvers(self):
        self.assertNotIn("numba", modules_after("import urst.shot.plan, urst.shot.preflight, urst.demo.granary"))

    def test_baking_a_file_needs_no_database_library(self):
        self.assertNotIn("sqlalchemy", modules_after("import urst.bake.runner"))


class Kinds(unittest.TestCase):
    def test_no_kind_is_named_outside_its_folder(self):
        from urst.kinds.registry import KINDS

        found, other = [], {"skin", "froth"}  # the triangles of a body are its skin as well, a format is called froth
        for path in SOURCE.rglob("*.py"):
            parts = path.relative_to(SOURCE).parts
            # demo shots and the shot to begin with are documents, and documents name kinds
            if parts[0] in ("kinds", "demo") or parts == ("shot", "starter.py"):
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.Constant) and node.value in KINDS.keys() - other:
                    found.append(f"{path.relative_to(SOURCE)}:{node.lineno} {node.value!r}")
        for path in (SOURCE / "web").rglob("*"):
            if path.suffix in (".js", ".html", ".css") and "vendor" not in path.parts:
                text = path.read_text()
                found += [f"{path.name} '{k}'" for k in KINDS if re.search(rf"['\"`]{k}['\"`]|kind-{k}\b", text)]
        self.assertEqual(found, [])

    def test_each_kind_s_folder_loads_numba_in_its_work_only(self):
        from urst.kinds.registry import KINDS

        for kind in KINDS.values():
            package = kind.work.rsplit(".", 1)[0]
            names = [p.stem for p in (SOURCE / package.removeprefix("urst.").replace(".", "/")).glob("*.py")]
            free = ", ".join(f"{package}.{n}" for n in sorted(names) if n not in ("work", "__init__"))
            self.assertNotIn("numba", modules_after(f"import {free}"), kind.name)

    def test_every_setting_is_asked_for_somewhere(self):
        from urst.kinds.registry import KINDS

        def paths(model, before=""):
            for name, field in model.model_fields.items():
                inner = field.annotation
                entry = next(iter(get_args(inner)), None)
                if isinstance(inner, type) and issubclass(inner, BaseModel):
                    yield from paths(inner, f"{before}{name}.")
                elif isinstance(entry, type) and issubclass(entry, BaseModel):
                    yield from paths(entry, f"{before}{name}.*.")
                else:
                    yield before + name

        for kind in KINDS.values():
            asked = {f.path for q in kind.questions for f in q.fields}
            self.assertEqual(asked, set(paths(kind.settings)), kind.name)

    def test_chief_gauges_and_quantities_are_what_a_kind_has(self):
        from urst.kinds.registry import KINDS

        for kind in KINDS.values():
            names = {g.name for g in kind.gauges}
            self.assertLessEqual({n for n in (kind.chief, kind.activity) if n}, names, kind.name)
            optional = {q.name for q in kind.quantities if not q.always}
            self.assertLessEqual({*kind.needs.values()}, optional, kind.name)
            self.assertLessEqual(set(kind.needs), {o.name for o in kind.offers}, kind.name)

    def test_a_new_kind_is_one_folder_and_one_line(self):
        # in a process of its own, since the document is made from the registry once
        with tempfile.TemporaryDirectory() as folder:
            code = (
                "from urst.kinds import registry; from tests.toy.kind import Toy; registry.register(Toy()); "
                f"from tests.toy.check import check; check({folder!r})"
            )
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT)
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        self.assertIn("the toy bakes, is drawn and handed over", done.stdout)

    def test_each_offer_may_come_from_a_kind_that_nobody_knows(self):
        with tempfile.TemporaryDirectory() as folder:
            code = (
                "from urst.kinds import registry; from tests.toy.given import KINDS; [registry.register(k()) for k in "
                "KINDS]; "
                f"from tests.toy.given_check import check; check({folder!r})"
            )
            done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, cwd=ROOT)
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        self.assertIn("pairs work", done.stdout)

    def test_kernels_run_on_numba_s_own_threads(self):
        # another pool would be whatever the machine has; TBB beside USD's own copy hangs the process at its end
        code = (
            "import numpy as np, numba; from urst.core.fields import multigrid; a = np.zeros((2, 3, 9), np.float32); "
            "multigrid.dot(a, a, 3, np.empty(1)); print(numba.threading_layer())"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "workqueue")


COMPILED = {"serial", "parallel", "fused", "inline", "kernel", "called"}


def compiled(node):
    return any(isinstance(d, ast.Name) and d.id in COMPILED for d in node.decorator_list)


def method(owner, name):
    return next((n for n in owner.body if isinstance(n, ast.FunctionDef) and n.name == name), None)


class Types(unittest.TestCase):
    def test_every_function_but_kernels_says_its_types(self):
        missing = []
        for path in SOURCE.rglob("*.py"):
            # its kernels are compiled by `both`
            if path.name == "multigrid.py":
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                    continue
                if compiled(node):
                    continue
                taken = [*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs]
                bare = [a.arg for a in taken if a.annotation is None and a.arg not in ("self", "cls")]
                if bare or node.returns is None:
                    missing.append(f"{path.relative_to(SOURCE)}: {node.name} {' '.join(bare)}")
        self.assertEqual(missing, [])


class Docstrings(unittest.TestCase):
    """Each public function of the core says what it takes and raises: kernels in a sentence or in what their module
    says of them all, others under Parameters and Raises."""

    def test_public_functions_say_what_they_take_and_raise(self):
        missing = []
        for path in (SOURCE / "core").rglob("*.py"):
            tree = ast.parse(path.read_text())
            for owner in [tree, *(n for n in ast.walk(tree) if isinstance(n, ast.ClassDef) and n.name[0] != "_")]:
                for node in owner.body:
                    if isinstance(node, ast.FunctionDef) and node.name[0] != "_":
                        lacks = self.kernel_lacks if compiled(node) else self.lacks
                        missing += [f"{path.relative_to(SOURCE)}: {node.name} {x}" for x in lacks(node, tree)]
        self.assertEqual(missing, [])

    def lacks(self, node, _):
        text = ast.get_docstring(node) or ""
        names = {a.arg for a in (*node.args.args, *node.args.kwonlyargs)} - {"self", "cls"}
        if len(names) > 1 and "Parameters\n" not in text and "see `" not in text:
            yield "has no Parameters"
        if any(isinstance(n, ast.Raise) for n in ast.walk(node)) and "Raises\n" not in text:
            yield "has no Raises"

    def test_what_docstrings_list_under_parameters_is_taken(self):
        wrong = []
        for path in SOURCE.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if not isinstance(node, ast.FunctionDef | ast.ClassDef):
                    continue
                found = re.search(r"Parameters\n-+\n(.*?)(\n\n?\w+\n-+\n|\Z)", ast.get_docstring(node) or "", re.DOTALL)
                made = node if isinstance(node, ast.FunctionDef) else method(node, "__init__")
                if found and made:
                    a = made.args
                    taken = {x.arg for x in (*a.posonlyargs, *a.args, *a.kwonlyargs, a.vararg, a.kwarg) if x}
                    listed = re.findall(r"^(\S[^\n]*?)(?: : .*)?$", found[1], re.MULTILINE)
                    said = {n.lstrip("*") for line in listed for n in line.split(", ")}
                    wrong += [f"{path.relative_to(SOURCE)}: {node.name} takes no {n}" for n in said - taken]
        self.assertEqual(wrong, [])

    def kernel_lacks(self, node, tree):
        text = ast.get_docstring(node) or ""
        if not text:
            yield "has no docstring"
        said = set(re.findall(r"\w+", f"{text} {ast.get_docstring(tree)}"))
        if "see `" not in text:
            yield from (f"does not say what {a.arg} is" for a in node.args.args if a.arg not in said)


class Style(unittest.TestCase):
    def test_no_file_names_a_machine_or_a_registry(self):
        wrong = []
        words = ["/" + "work/", "pypi." + "org", "npmjs." + "org", "deb." + "debian"]
        for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True).stdout.splitlines():
            path = ROOT / name
            if path.suffix in (".png", ".woff2") or not path.is_file():
                continue
            text = path.read_text(errors="replace")
            wrong += [f"{name}: {w}" for w in words if w in text]
        self.assertEqual(wrong, [])


class Published(unittest.TestCase):
    def test_the_schema_in_docs_is_the_document_s(self):
        from urst.shot.document import ShotFile

        kept = json.loads((ROOT / "docs" / "shot.schema.json").read_text())
        self.assertEqual(kept, ShotFile.model_json_schema())

    def test_vendored_files_have_their_licences(self):
        folder = SOURCE / "web" / "static" / "vendor"
        for name in ("three", "htmx", "zstddec"):
            self.assertTrue((folder / f"LICENSE-{name}.txt").stat().st_size > 200, name)


if __name__ == "__main__":
    unittest.main()
