"""Whether a bake fits into the machine's memory, told before it starts."""

from dataclasses import dataclass

import numpy as np

from .. import maps
from ..base.array_types import F64
from ..base.disk_arrays import free_on_disk
from ..base.errors import InputProblem
from ..base.free_memory import free
from ..cast.hits import AT_ONCE, MOST_SAMPLES
from ..maps import LAYERS
from ..piece.piece import Assembly
from ..settings.recipe import Recipe
from ..uv.layout import lay_out_sheets
from .judged_at import SIDE

CAST_BYTES, PADDING_BYTES, HIT_BYTES, FLOAT_BYTES = 27, 8, 8, 4
AT_WORK_BYTES = 24  # of a texel while a map is derived from its layer
FILLING_BYTES = 12  # of one more where padding fills the sheet
READ_BYTES = 8  # of a texel that is read back from its file
JUDGED_BYTES, SEEN_BYTES = 140, 230  # of a texel that is judged, at most `judged_at.SIDE` a side, and of covered ones
LOOKING_BYTES = 25_000_000  # of pictures from all around, whatever the sheet
ROOM = 1.15  # times the area of its islands: whole tiles are held
SPARE = 0.9  # of what is free may be used
IN_MEMORY = 3_000_000_000  # what would take more keeps its layers and pictures on disk


@dataclass(frozen=True, slots=True)
class Need:
    """Bytes that a bake takes at most at once, besides the meshes and their scenes."""

    memory: int
    disk: int

    @property
    def words(self) -> str:
        """The need beside what is free."""
        on_disk = f", and {in_gb(self.disk)} on disk of {in_gb(free_on_disk())}" if self.disk else ""
        return f"needs about {in_gb(self.memory)} of {in_gb(free())} that are free{on_disk}"


def in_gb(count: int) -> str:
    return f"{count / 1e9:.1f} GB" if count >= 1e8 else f"{count / 1e6:.0f} MB"


def need_of(assembly: Assembly) -> Need:
    """What a bake of a piece takes, with its sheets as they are laid out; meshes and scenes come on top."""
    if assembly.low.uvs and len(assembly.low.triangles):
        try:
            sheets = lay_out_sheets(assembly.recipe, assembly.low).sheets
            sizes = [(sheet.width, sheet.height) for sheet in sheets]
            return needed(assembly.recipe, sizes, min(1.0, ROOM * max(_covered(sheet.uvs) for sheet in sheets)))
        except (IndexError, InputProblem):
            pass  # UVs that cannot be laid out are told by the bake
    return needed(assembly.recipe, [(assembly.recipe.sheet.width, assembly.recipe.sheet.height)])


def _covered(uvs: F64) -> float:
    """The share of a sheet that triangles (T, 3, 2) cover, from 0 to 1; more where they overlap."""
    u, v = uvs[:, 1] - uvs[:, 0], uvs[:, 2] - uvs[:, 0]
    return float(np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum()) / 2


def needed(recipe: Recipe, sizes: list[tuple[int, int]], covered: float = 1.0) -> Need:
    """What sheets of these sizes (width, height) take, of which a share is covered."""
    texels = sum(width * height for width, height in sizes)
    largest = max((width * height for width, height in sizes), default=0)
    modules = [maps.REGISTRY[key] for key in recipe.output.maps]
    layers = sum(LAYERS[layer].CHANNELS * FLOAT_BYTES for layer in {m.LAYER for m in modules if m.LAYER})
    channels = [len(m.BACKGROUND) for m in modules]
    forms = [recipe.output.form_of(key) for key in recipe.output.maps]
    each = [form.steps // 8 + (form.depth // 8 if form.exact else 0) for form in forms]
    pictures = sum(n * size for n, size in zip(channels, each, strict=True))
    samples = texels * recipe.sheet.samples
    hits = samples * covered if samples <= MOST_SAMPLES * len(sizes) else AT_ONCE
    kept, at_work = texels * (CAST_BYTES + layers + pictures), AT_WORK_BYTES
    at_work += FILLING_BYTES if recipe.sheet.padding == "fill" else 0
    judged = sum(min(width, SIDE) * min(height, SIDE) for width, height in sizes)
    after = LOOKING_BYTES + judged * (JUDGED_BYTES + covered * SEEN_BYTES) + largest * READ_BYTES
    passing = int(max(largest * at_work, after) + hits * HIT_BYTES + texels * PADDING_BYTES)
    return Need(kept + passing, 0) if kept + passing <= IN_MEMORY else Need(passing, kept)


def refuse_too_large(recipe: Recipe, sizes: list[tuple[int, int]], memory: int, disk: int) -> Need:
    """What a bake needs; raises InputProblem for one that would not fit, with what does."""
    wanted, there = needed(recipe, sizes), Need(int(memory * SPARE), int(disk * SPARE))
    if _fits(wanted, there):
        return wanted
    smaller = sizes
    while not _fits(needed(recipe, smaller), there) and max(max(s) for s in smaller) > 16:
        smaller = [(max(width // 2, 16), max(height // 2, 16)) for width, height in smaller]
    few = recipe.with_maps(*recipe.output.maps[:1])
    fits = f"{smaller[0][0]} x {smaller[0][1]} texels fit"
    if _fits(needed(few, sizes), there):
        fits += ", and so does one map at a time"
    if wanted.memory > there.memory:
        raise InputProblem(
            "The bake",
            f"It needs about {wanted.memory / 1e9:.1f} GB of memory, and {memory / 1e9:.1f} GB are free.",
            f"{fits}; or close other programs.",
        )
    raise InputProblem(
        "The bake",
        f"It needs about {wanted.disk / 1e9:.1f} GB on disk, and {disk / 1e9:.1f} GB are free.",
        f"{fits}; or name a folder with more room in INKWELL_CAST_SCRATCH.",
    )


def _fits(wanted: Need, there: Need) -> bool:
    return wanted.memory <= there.memory and wanted.disk <= there.disk
