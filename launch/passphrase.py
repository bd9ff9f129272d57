"""The passphrase that is asked for beyond loopback."""

import getpass
import os
import subprocess
import sys
from pathlib import Path

from launch.place import DATA, PYTHON, ROOT, Failure, say

KEPT = DATA / "passphrase"
LOOPBACK = ("127.0.0.1", "localhost", "::1")


def needed(host: str) -> Path | None:
    """Return where the hash of the passphrase lies that an address needs, asking for one the first time; None on
    loopback.

    Raises
    ------
    Failure
        If none is kept and there is nobody to ask.
    """
    if host in LOOPBACK:
        return None
    if not KEPT.is_file():
        say(f"at {host} others can reach Urst, so they are asked for a passphrase")
        put()
    return KEPT


def put() -> None:
    """Ask for a passphrase and keep its hash.

    Raises
    ------
    Failure
        If there is nobody to ask, or it is too short.
    """
    if sys.stdin.isatty():
        words = getpass.getpass("Passphrase, at least 10 letters: ")
        if words != getpass.getpass("Once more: "):
            raise Failure("the two differ: try again")
    else:
        words = sys.stdin.readline().rstrip("\n")
    done = subprocess.run(
        [str(PYTHON), "-m", "urst.cli", "passphrase"], input=words + "\n", capture_output=True, text=True, cwd=ROOT
    )
    if done.returncode:
        raise Failure(done.stderr.strip().removeprefix("urst: ") or "the passphrase could not be kept")
    DATA.mkdir(parents=True, exist_ok=True)
    part = KEPT.with_suffix(".part")
    part.touch(mode=0o600)
    part.write_text(done.stdout)
    os.replace(part, KEPT)
