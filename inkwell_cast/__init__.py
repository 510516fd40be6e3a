"""Inkwell Cast bakes a sculpt onto a UV-unwrapped mesh."""
