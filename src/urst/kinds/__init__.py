"""Kinds of layers: one folder each, and the registry that lists them."""
