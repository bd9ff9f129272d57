"""The command line: `urst bake`, `worker`, `serve` and the rest."""

import argparse
import os
import signal
import sys
import tempfile
from pathlib import Path
from typing import Any

from urst.bake.runner import Progress
from urst.errors import BadValue, Stopped, UrstError
from urst.handover.forms import FORMS
from urst.shot.document import Shot


def main(argv: list[str] | None = None) -> int:
    """Run one command; return its exit status."""
    parser = argparse.ArgumentParser(prog="urst", description="Destruction effects, solved and judged in the browser.")
    commands = parser.add_subparsers(dest="command", required=True)
    bake = commands.add_parser("bake", help="bake a shot file into a folder; needs no database")
    bake.add_argument("file", type=Path, help="a *.shot.json")
    bake.add_argument("--out", type=Path, required=True, help="folder of the results")
    bake.add_argument("--layer", action="append", help="bake only this layer and what it reads; may be repeated")
    bake.add_argument("--frames", help="bake only FIRST-LAST of the shot, FIRST being its first frame")
    bake.add_argument(
        "--quality", choices=("draft", "shot"), default="shot", help="draft: half the fragments, coarser cells"
    )
    bake.add_argument(
        "--resume",
        action=argparse.BooleanOptionalAction,
        default=True,
        help="go on with what is in the folder, or bake anew",
    )
    export = commands.add_parser("export", help="write a baked shot in open formats")
    export.add_argument("file", type=Path)
    export.add_argument("--store", type=Path, required=True, help="folder of the results")
    export.add_argument("--out", type=Path, required=True)
    export.add_argument("--what", action="append", choices=list(FORMS))
    check = commands.add_parser(
        "check", help="look at every checksum of a store; what is damaged is removed, to be baked again"
    )
    check.add_argument("--store", type=Path, help="folder of the results; default: $URST_STORE")
    warm = commands.add_parser("warm", help="compile all kernels, with progress, or those of one kind of layer")
    warm.add_argument("kind", nargs="?")
    warm.add_argument("--under", type=int, help="process that started this one, which ends with it")
    commands.add_parser("migrate", help="bring the database up to date")
    demo = commands.add_parser("load-demo", help="put the demo shots into the database")
    demo.add_argument("--bake", action="store_true", help="queue their bake as well")
    serve = commands.add_parser("serve", help="run the web application")
    serve.add_argument("--port", type=int, required=True)
    serve.add_argument(
        "--host", default="127.0.0.1", help="address that is listened at; beyond loopback $URST_PASSPHRASE is needed"
    )
    commands.add_parser("passphrase", help="read a passphrase from standard input and print what is kept of it")
    worker = commands.add_parser("worker", help="take jobs from the queue")
    worker.add_argument("--database", help="address of the database; default: $URST_DATABASE")
    worker.add_argument("--store", type=Path, help="folder of the results; default: $URST_STORE")
    commands.add_parser("schema", help="print the JSON Schema of the shot document")
    options = parser.parse_args(argv)
    try:
        return globals()[f"_{options.command.replace('-', '_')}"](options)
    except UrstError as error:
        print(f"urst: {error}", file=sys.stderr)
    except OSError as error:
        print(
            f"urst: {error.filename or 'A file'} cannot be used ({error.strerror}): look at its path and its disk.",
            file=sys.stderr,
        )
    return 1


def _load(path: Path) -> Shot:
    from urst.shot import document

    try:
        text = path.read_bytes()
    except OSError as error:
        raise BadValue(f"{path} cannot be read ({error.strerror}): check the path.") from error
    return document.loads(text, path.name)


def _folder(path: Path) -> Path:
    """A folder that results can be written to."""
    try:
        path.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=path):
            return path
    except OSError as error:
        raise BadValue(f"The folder {path} cannot be written to ({error.strerror}): choose another.") from error


def _bake(options: Any) -> int:
    from urst.bake.kernels import Compiler
    from urst.bake.runner import bake
    from urst.formats.gauges import write_gauges
    from urst.scene import library
    from urst.shot.keys import layer_keys
    from urst.shot.plan import plan
    from urst.shot.quality import draft, with_frames
    from urst.store.meshes import Meshes
    from urst.store.store import Store

    library.use(Meshes(_folder(options.out)))
    shot = _load(options.file)
    if options.quality == "draft":
        shot = draft(shot)
    if options.frames:
        shot = with_frames(shot, options.frames)
    store, compiler = Store(options.out), Compiler()
    if not options.resume:
        for step in plan(shot, options.layer):
            for key in step.keys:
                store.remove(key)
    stopping = []
    signal.signal(signal.SIGINT, lambda *_: stopping.append(1))
    signal.signal(signal.SIGTERM, lambda *_: stopping.append(1))

    def report(p: Progress) -> None:
        end = "\n" if p.done == p.total or not sys.stdout.isatty() else "\r"
        filled = int(30 * p.done / p.total)
        print(
            f"{p.layer:>10} [{'#' * filled:<30}] frame {p.frame} {p.done}/{p.total} {p.seconds:6.2f} s",
            end=end,
            flush=True,
        )

    try:
        bake(
            shot,
            store,
            options.layer,
            report=report,
            should_stop=lambda: bool(stopping),
            prepare=lambda names, check_cancelled: compiler.wait(names, _compiling, check_cancelled),
            report_progress=_preparing,
        )
    except Stopped as error:
        print(f"\nurst: {error}", file=sys.stderr)
        return 130
    for layer_id, key in layer_keys(shot).items():
        rows = store.read_gauges(key)
        if rows:
            write_gauges(options.out / f"{layer_id}.gauges.csv", rows)
    return 0


def _export(options: Any) -> int:
    from urst.handover.export import export
    from urst.scene import library
    from urst.store.meshes import Meshes

    library.use(Meshes(options.store))
    for path in export(_load(options.file), options.store, _folder(options.out), options.what):
        print(path)
    return 0


def _check(options: Any) -> int:
    from urst.store.meshes import Meshes
    from urst.store.store import Store

    root = options.store or Path(os.environ.get("URST_STORE", ""))
    if not root.is_dir():
        raise BadValue(f"There is no store at '{root}': name the folder with --store.")
    store, bad, keys = Store(root), 0, Store(root).keys()
    for number, key in enumerate(keys, 1):
        for name in store.clear_damaged(key, fully=True):
            bad += 1
            print(f"{key} {name} was damaged and is removed: bake its layer again")
        if number % 50 == 0:
            print(f"{number}/{len(keys)} results looked at", flush=True)
    for name in Meshes(root).clear_damaged():
        bad += 1
        print(f"mesh {name} was damaged and is removed: bring it in again")
    print(f"{len(keys)} results looked at, {bad} damaged files")
    return 1 if bad else 0


def _warm(options: Any) -> int:
    from urst.bake import kernels

    if options.under:
        kernels.end_with(options.under)
    if options.kind:
        kernels.rehearse(options.kind)
    else:
        kernels.Compiler().wait(None, _compiling)
    return 0


def _compiling(name: str, done: int, total: int) -> None:
    print(f"compiling kernels {done}/{total}: {name}", flush=True)


def _preparing(what: str, done: int, total: int) -> None:
    print(f"{what}: {100 * done // max(1, total)} %", flush=True)


def _migrate(options: Any) -> int:
    from urst.db.migrate import migrate

    migrate()
    return 0


def _load_demo(options: Any) -> int:
    from urst.demo.load import load

    load(bake=options.bake)
    return 0


def _serve(options: Any) -> int:
    import resource

    import uvicorn

    if options.host not in ("127.0.0.1", "localhost", "::1") and not os.environ.get("URST_PASSPHRASE"):
        raise BadValue(
            f"At {options.host} others would get in: name a file with the hash of a passphrase in URST_PASSPHRASE, or "
            "use ./urst start --host, "
            "which asks for one."
        )
    # every page that listens holds one
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))
    uvicorn.run(
        "urst.web.app:app", host=options.host, port=options.port, log_config=None, http="urst.web.bounds:Patient"
    )
    return 0


def _passphrase(options: Any) -> int:
    from urst.web.access import hashed

    words = sys.stdin.readline().rstrip("\n")
    if len(words) < 10:
        raise BadValue(f"A passphrase has at least 10 letters; this one has {len(words)}.")
    print(hashed(words))
    return 0


def _worker(options: Any) -> int:
    if options.database:
        os.environ["URST_DATABASE"] = options.database
    if options.store:
        os.environ["URST_STORE"] = str(options.store.resolve())
    from urst.jobs.worker import run

    return run()


def _schema(options: Any) -> int:
    import json

    from urst.shot.document import ShotFile

    print(json.dumps(ShotFile.model_json_schema(), indent=1))
    return 0


if __name__ == "__main__":
    sys.exit(main())
