"""Logs: one JSON object a line."""

import json
import logging
import sys
from typing import Any

_PLAIN = set(logging.makeLogRecord({}).__dict__) | {"message", "asctime", "taskName"}


class _Lines(logging.Formatter):
    def format(self, record: Any) -> str:
        entry = {"time": self.formatTime(record), "level": record.levelname.lower(), "from": record.name}
        entry["message"] = record.getMessage()
        entry |= {k: v for k, v in record.__dict__.items() if k not in _PLAIN}
        if record.exc_info:
            entry["trace"] = self.formatException(record.exc_info)
        return json.dumps(entry, default=str)


def set_up() -> None:
    """Send logs to standard error as lines of JSON; the queue's own chatter only from warnings up."""
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_Lines())
    logging.basicConfig(level=logging.INFO, handlers=[handler], force=True)
    for noisy in ("procrastinate", "alembic", "numba", "uvicorn.access"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
