"""The store of this application."""

import os

from urst.store.store import Store


def store() -> Store:
    """Return the store of this application."""
    return Store(os.environ["URST_STORE"])
