"""Solids on a grid: whole cells that bodies fill, open fractions of faces and cells, thin walls and what they part."""
