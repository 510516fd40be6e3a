"""What occludes where maps are made."""

from ..piece.occluders import Occluders, kept_occluders
from .context import Context


def occluders_on(context: Context, which: str) -> Occluders:
    """Those of a piece (`piece.occluders`), kept for the next layer and the next bake."""
    return kept_occluders(context.assembly, context.sculpt, context.warm, which)
