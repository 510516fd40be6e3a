"""Inkwell Cast bakes a sculpt onto a UV-unwrapped mesh."""

from . import kernel_cache

__version__ = "0.2.0"

kernel_cache.use()
