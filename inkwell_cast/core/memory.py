"""Whether a bake fits into the machine's memory, told before it starts."""

import os
import pathlib

from . import maps
from .cast import MOST_SAMPLES
from .errors import InputProblem
from .gather import RAWS
from .recipe import Recipe

CAST_BYTES, PADDING_BYTES, HIT_BYTES, FLOAT_BYTES = 31, 8, 8, 4
SPARE = 0.9  # of what is free may be used


def needed(recipe: Recipe, sizes: list[tuple[int, int]]) -> int:
    """Bytes that sheets of these sizes (width, height) take at most at once, besides the meshes and their scenes."""
    texels = sum(width * height for width, height in sizes)
    largest = max((width * height for width, height in sizes), default=0)
    made = [maps.REGISTRY[key] for key in recipe.output.maps]
    layers = sum(RAWS[raw].CHANNELS * FLOAT_BYTES for raw in {m.RAW for m in made if m.RAW})
    channels = [len(m.BACKGROUND) for m in made]
    pictures = sum(channels) * (recipe.output.steps // 8 + (recipe.output.depth // 8 if recipe.output.exact else 0))
    kept = CAST_BYTES + PADDING_BYTES + layers + pictures
    at_work = 3 * max(channels, default=3) * FLOAT_BYTES  # a map while it is derived
    return texels * kept + largest * at_work + min(texels * recipe.sheet.samples, MOST_SAMPLES * len(sizes)) * HIT_BYTES


def free() -> int:
    """Bytes that the system could give now, or a guess of half of all where it does not say."""
    try:
        lines = pathlib.Path("/proc/meminfo").read_text().splitlines()
        return int(next(line.split()[1] for line in lines if line.startswith("MemAvailable"))) * 1024
    except (OSError, StopIteration, ValueError):
        if hasattr(os, "sysconf") and "SC_PHYS_PAGES" in os.sysconf_names:
            return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2
        return 1 << 40


def refuse_too_large(recipe: Recipe, sizes: list[tuple[int, int]], available: int) -> None:
    """Raise InputProblem for a bake that would not fit, with what does."""
    wanted, room = needed(recipe, sizes), int(available * SPARE)
    if wanted <= room:
        return
    smaller = sizes
    while needed(recipe, smaller) > room and max(max(s) for s in smaller) > 16:
        smaller = [(max(width // 2, 16), max(height // 2, 16)) for width, height in smaller]
    few = recipe.model_copy(update={"output": recipe.output.model_copy(update={"maps": recipe.output.maps[:1]})})
    fits = f"{smaller[0][0]} x {smaller[0][1]} texels fit"
    if needed(few, sizes) <= room:
        fits += ", and so does one map at a time"
    raise InputProblem(
        "The bake", f"It needs about {wanted / 1e9:.1f} GB, and {available / 1e9:.1f} GB are free.",
        f"{fits}; or close other programs.",
    )  # fmt: skip
