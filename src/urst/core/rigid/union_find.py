"""Which set each of some numbered things belongs to, as a forest of parents (Galler & Fischer 1964)."""

from urst.core.jit import inline


@inline
def root(parent, k):
    """Return the root of k's set in parent (n,), and shorten the way to it."""
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k
