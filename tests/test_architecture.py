"""Import directions, and what must not be loaded where."""

import ast
import json
import subprocess
import sys
import unittest
from pathlib import Path
from typing import get_args

from pydantic import BaseModel

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "urst"

#: what each package may import of Urst, besides itself and urst.errors
ALLOWED = {
    "core": set(),
    "shot": {"core"},
    "store": set(),
    "formats": {"core", "shot", "store"},
    "bake": {"core", "shot", "store"},
    "db": {"shot"},
    "jobs": {"bake", "db", "formats", "shot", "store", "logs"},
    "demo": {"bake", "shot", "db", "jobs", "store"},
    "web": {"shot", "store", "db", "jobs", "formats", "core", "logs"},
    "cli": {"bake", "db", "demo", "formats", "jobs", "shot", "store", "web"},
}
#: within the core: solvers stand side by side on geometry and fields; checks may look at all
SOLVERS = {"rigid", "debris", "gas", "fracture"}
CORE_ALLOWED = {
    "jit": set(), "materials": set(), "geometry": {"jit"}, "fields": {"jit", "geometry"}, "fracture": {"jit", "geometry"},
    "rigid": {"jit", "geometry", "fields", "fracture"}, "debris": {"jit", "geometry", "fields", "fracture"},
    "gas": {"jit", "geometry", "fields", "fracture"}, "checks": {"geometry"}, "preview": {"jit", "geometry"},
}  # fmt: skip


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
            if parts[0] not in ALLOWED:
                continue
            for name in imports(path):
                target = name.split(".")[1]
                if target not in {parts[0], "errors"} | ALLOWED[parts[0]]:
                    wrong.append(f"{'.'.join(parts)} imports {name}")
        self.assertEqual(wrong, [])

    def test_no_solver_imports_another(self):
        wrong = []
        for path in (SOURCE / "core").rglob("*.py"):
            here = path.relative_to(SOURCE / "core").with_suffix("").parts[0]
            for name in imports(path):
                parts = name.split(".")
                if parts[1] == "core" and here in CORE_ALLOWED and parts[2] not in CORE_ALLOWED[here] | {here}:
                    wrong.append(f"core.{here} imports {name}")
        self.assertEqual(wrong, [])

    def test_modules_stay_small(self):
        long = {
            str(p.relative_to(SOURCE)): n for p in SOURCE.rglob("*.py") if (n := len(p.read_text().splitlines())) > 700
        }
        self.assertEqual(long, {})


class Loading(unittest.TestCase):
    def modules_after(self, statement):
        code = f"import os; os.environ['URST_DATABASE']='postgresql://x@127.0.0.1:1/x'; {statement}; import sys, json; print(json.dumps(list(sys.modules)))"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        return set(json.loads(done.stdout.splitlines()[-1]))

    def test_the_web_process_never_loads_a_solver(self):
        self.assertNotIn("numba", self.modules_after("import urst.web.app"))

    def test_the_document_is_free_of_solvers(self):
        self.assertNotIn("numba", self.modules_after("import urst.shot.plan, urst.shot.preflight, urst.demo.granary"))

    def test_baking_a_file_needs_no_database_library(self):
        self.assertNotIn("sqlalchemy", self.modules_after("import urst.bake.runner"))


class Kinds(unittest.TestCase):
    def test_every_kind_of_layer_is_known_everywhere(self):
        code = (
            "from urst.bake.layers import GROUPS, KINDS; from urst.shot import document, forecast, keys, plan; "
            "assert plan.TOGETHER == set(GROUPS); "
            "from urst.web import recipe, state; import json; "
            "print(json.dumps([sorted(t) for t in (document.READS, keys.VERSIONS, KINDS, recipe.QUESTIONS, state.GAUGES, "
            "state.CHIEF, forecast.SECONDS, forecast.DISK, forecast.MEMORY)]))"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        tables = json.loads(done.stdout)
        for table in tables[1:]:
            self.assertEqual(table, tables[0])
        styles = (SOURCE / "web" / "static" / "css" / "urst.css").read_text()
        for kind in tables[0]:
            self.assertIn(f".kind-{kind}", styles)

    def test_every_setting_is_asked_for_somewhere(self):
        from urst.shot.document import Shot
        from urst.web import recipe

        def paths(model, before=""):
            for name, field in model.model_fields.items():
                inner = field.annotation
                if isinstance(inner, type) and issubclass(inner, BaseModel):
                    yield from paths(inner, f"{before}{name}.")
                else:
                    yield before + name

        kinds = get_args(get_args(get_args(Shot.model_fields["layers"].annotation)[0])[0])
        self.assertEqual(len(kinds), len(recipe.QUESTIONS))
        for layer in kinds:
            asked = {f.path for q in recipe.QUESTIONS[layer.model_fields["kind"].default] for f in q.fields}
            self.assertEqual(asked, set(paths(layer.model_fields["settings"].annotation)))

    def test_kernels_run_on_numba_s_own_threads(self):
        # another pool would be whatever the machine has; TBB beside USD's own copy hangs the process at its end
        code = (
            "import numpy as np, numba; from urst.core.fields import multigrid; a = np.zeros((2, 3, 3, 3), np.float32); "
            "multigrid.dot(a, a, np.empty(3)); print(numba.threading_layer())"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip(), "workqueue")


class Style(unittest.TestCase):
    def test_ruff_finds_nothing(self):
        for words in (("check",), ("format", "--check")):
            done = subprocess.run(
                [sys.executable, "-m", "ruff", *words, "-q", str(ROOT)], capture_output=True, text=True
            )
            self.assertEqual(done.returncode, 0, done.stdout)

    def test_mypy_finds_nothing_in_the_core(self):
        done = subprocess.run([sys.executable, "-m", "mypy"], cwd=ROOT, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

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
        from urst.shot.document import Shot

        kept = json.loads((ROOT / "docs" / "shot.schema.json").read_text())
        self.assertEqual(kept, Shot.model_json_schema())

    def test_vendored_files_have_their_licences(self):
        folder = SOURCE / "web" / "static" / "vendor"
        for name in ("three", "htmx"):
            self.assertTrue((folder / f"LICENSE-{name}.txt").stat().st_size > 200, name)


if __name__ == "__main__":
    unittest.main()
