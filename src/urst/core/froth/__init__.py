"""Froth: foam, bubbles, spray and mist of a liquid."""
