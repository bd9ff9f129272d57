"""The connection to PostgreSQL, from $URST_DATABASE."""

import os
from functools import lru_cache

from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session, sessionmaker

from urst.errors import BadValue


def address() -> str:
    """Return the database's address as psycopg takes it.

    Raises
    ------
    BadValue
        If none is set.
    """
    value = os.environ.get("URST_DATABASE", "")
    if not value.startswith("postgresql://"):
        raise BadValue("URST_DATABASE is not set to a postgresql:// address: start Urst with ./urst start.")
    return value


@lru_cache
def engine() -> Engine:
    """Return the process's engine; lost connections are noticed and replaced."""
    # more connections than the server has threads, so that none waits for one
    return create_engine(
        address().replace("postgresql://", "postgresql+psycopg://", 1), pool_pre_ping=True, pool_size=8, max_overflow=40
    )


def session() -> Session:
    """Return a new session; use it in a `with`."""
    return sessionmaker(engine())()
