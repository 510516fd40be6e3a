"""Inkwell Cast bakes a sculpt onto a UV-unwrapped mesh.

`Piece` is the one import for the usual; see `inkwell_cast.piece`.
"""

from typing import TYPE_CHECKING, Any

from . import kernel_cache

if TYPE_CHECKING:
    from .piece import Piece

__all__ = ["Piece", "__version__"]
__version__ = "0.2.0"

kernel_cache.use_with_numba()


def __getattr__(name: str) -> Any:
    if name == "Piece":  # when it is asked for, so that `--help` need not wait for it
        from .piece import Piece

        return Piece
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
