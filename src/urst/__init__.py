"""Urst: destruction effects, solved and judged in the browser."""
