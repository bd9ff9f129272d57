"""Where things lie in this checkout, and what is remembered between starts."""

import contextlib
import json
import os
import socket
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
DATA = Path(os.environ.get("URST_DATA", ROOT / ".urst"))
VENV = ROOT / ".venv"
PYTHON = VENV / "bin" / "python"
STATE = DATA / "state.json"
RUNNING = DATA / "running.json"
LOGS = DATA / "logs"


class Failure(Exception):
    """A step failed; the message says what to do."""


def check_data() -> None:
    """Make the folder of the database and of what is baked, where it is missing.

    Raises
    ------
    Failure
        If that cannot be.
    """
    try:
        DATA.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        why = "it is a file" if DATA.is_file() else error.strerror
        raise Failure(
            f"'{DATA}' cannot be the folder of what is kept ({why}): let URST_DATA name one that you may write in, or "
            "leave it out"
        ) from error
    if not os.access(DATA, os.W_OK | os.X_OK):
        raise Failure(f"'{DATA}' may not be written in: let URST_DATA name a folder of yours, or leave it out")


def say(text: str) -> None:
    """Print a line at once."""
    print(f"urst: {text}", flush=True)


def remember(**values) -> dict:
    """Merge values into the remembered state and return all of it."""
    DATA.mkdir(parents=True, exist_ok=True)
    state = {}
    with contextlib.suppress(FileNotFoundError, ValueError):
        state = json.loads(STATE.read_text())
    if values:
        state |= values
        part = STATE.with_suffix(".part")
        part.touch(mode=0o600)
        part.write_text(json.dumps(state, indent=1))
        part.replace(STATE)
    return state


def free_port(preferred: int) -> int:
    """Return the preferred port if nobody listens there, or one the system picks."""
    for port in (preferred, 0):
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            probe.bind(("127.0.0.1", port))
            return probe.getsockname()[1]
    raise Failure("no port is free on the loopback address: close other programs and try again")
