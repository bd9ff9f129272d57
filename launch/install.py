"""Debian packages, the virtual environment and the compiled kernels."""

import hashlib
import os
import shutil
import subprocess
import sys
from pathlib import Path

from launch.place import DATA, LOGS, PYTHON, ROOT, VENV, Failure, say

POSTGRES = Path("/usr/lib/postgresql/15/bin")


def _missing_packages(tests: bool) -> list[str]:
    wanted = {
        "postgresql-15": (POSTGRES / "postgres").exists(),
        "python3-openvdb": bool(list(Path("/usr/lib/python3/dist-packages").glob("pyopenvdb*"))),
        "python3-numpy": Path("/usr/lib/python3/dist-packages/numpy").exists(),
    }
    try:
        import ensurepip  # noqa: F401
    except ImportError:
        wanted["python3-venv"] = False
    if tests:
        wanted["chromium"] = shutil.which("chromium") is not None
        wanted["chromium-driver"] = shutil.which("chromedriver") is not None
    return [name for name, present in wanted.items() if not present]


def packages(*, tests: bool = False) -> None:
    """Install the Debian packages that are missing."""
    missing = _missing_packages(tests)
    if not missing:
        return
    say(f"installing Debian packages: {' '.join(missing)}")
    prefix = []
    if os.geteuid() != 0:
        if not shutil.which("sudo") or subprocess.run(["sudo", "-n", "true"], capture_output=True).returncode:
            raise Failure(f"these Debian packages are missing: run as root: apt-get install {' '.join(missing)}")
        prefix = ["sudo", "-n"]
    environment = os.environ | {"DEBIAN_FRONTEND": "noninteractive"}
    _logged([*prefix, "apt-get", "update"], "packages", environment)
    command = [*prefix, "apt-get", "install", "-y", "--no-install-recommends", *missing]
    if _logged(command, "packages", environment):
        raise Failure(f"apt-get could not install {' '.join(missing)}: see {LOGS / 'packages.log'}")


def _logged(command, name, environment=None) -> int:
    LOGS.mkdir(parents=True, exist_ok=True)
    with open(LOGS / f"{name}.log", "ab") as log:
        return subprocess.run(
            command, stdout=log, stderr=log, stdin=subprocess.DEVNULL, env=environment, cwd=ROOT
        ).returncode


def _stamp(name: str, files: list[Path]) -> tuple[Path, str]:
    digest = hashlib.sha256()
    for path in sorted(files):
        digest.update(path.read_bytes())
    return DATA / f"{name}.stamp", digest.hexdigest()


def script_checks() -> None:
    """Fetch what checks the page's scripts; nothing of it is needed to run Urst."""
    npm = shutil.which("npm")
    if npm is None:
        raise Failure("the page's scripts are checked by Node.js 20 or later: install node and npm, then try again")
    stamp, digest = _stamp("script-checks", [ROOT / "package-lock.json"])
    if (ROOT / "node_modules").exists() and stamp.exists() and stamp.read_text() == digest:
        return
    say("fetching what checks the scripts")
    if _logged([npm, "ci", "--no-audit", "--no-fund", "--ignore-scripts"], "script-checks"):
        raise Failure(f"npm could not fetch the locked packages: see {LOGS / 'script-checks.log'}, then try again")
    DATA.mkdir(parents=True, exist_ok=True)
    stamp.write_text(digest)


def environment() -> None:
    """Make the virtual environment match the lock file."""
    stamp, digest = _stamp("environment", [ROOT / "requirements.lock"])
    if PYTHON.exists() and stamp.exists() and stamp.read_text() == digest:
        return
    interpreter = sys.executable if sys.version_info[:2] == (3, 11) else shutil.which("python3.11")
    if not interpreter:
        raise Failure("Python 3.11 is needed for the virtual environment: apt-get install python3.11 python3.11-venv")
    say("installing Python packages from the lock file (a few minutes the first time)")
    if not PYTHON.exists() and _logged([interpreter, "-m", "venv", str(VENV)], "environment"):
        raise Failure(f"the virtual environment could not be made: see {LOGS / 'environment.log'}")
    command = [
        str(PYTHON),
        "-m",
        "pip",
        "install",
        "--quiet",
        "--require-hashes",
        "-r",
        str(ROOT / "requirements.lock"),
    ]
    if _logged(command, "environment"):
        raise Failure(f"pip could not install the locked packages: see {LOGS / 'environment.log'}, then try again")
    site = next((VENV / "lib").glob("python3*/site-packages"))
    (site / "urst.pth").write_text(f"{ROOT / 'src'}\n")
    DATA.mkdir(parents=True, exist_ok=True)
    stamp.write_text(digest)


def kernels() -> None:
    """Compile the kernels that are not yet, with progress."""
    if subprocess.run([str(PYTHON), "-m", "urst.cli", "warm"], cwd=ROOT).returncode:
        raise Failure("the kernels could not be compiled: the lines above say why")
