"""A piece on its sheets, with what its rays found so far: cast once, and kept until something changes that rays follow.

What is kept survives a change of basis, ranges, colours, padding and depth; a layer that a new map needs is gathered
from the hits of the first cast. Sheets with more samples than `cast.hits.MOST_SAMPLES` are worked through in bands, and
their rays are traced again for such a layer.
"""

from dataclasses import dataclass, field, fields, replace

from ..base.array_types import I32, I64, AnyArray
from ..base.disk_arrays import on_disk
from ..base.errors import InputProblem
from ..base.free_memory import free
from ..base.progress import ShareDone
from ..cage.cage import Cage, rays_of
from ..cage.fit import cage_of
from ..cast.context import Context
from ..cast.hits import Cast, Hits
from ..cast.partial_rebake import changed_rays, same_low, tiles_of
from ..mesh.mesh import Mesh
from ..piece.low_on_sheet import Low, prepare_lows
from ..piece.piece import Assembly, BakeMeshes
from ..piece.scene_cache import Slot, Warm
from ..piece.sculpt import Sculpt
from ..rays.ray import Rays
from ..settings.recipe import PROOF_SIDE, Recipe
from ..settings.staleness import RAYS, settings_behind
from ..tangent.frame import tangents_for
from ..uv.layout import lay_out_sheets
from ..uv.padding import nearest_covered

MOST_AGAIN = 0.5  # of the busy tiles: with more, a whole cast is quicker
SPARE = 0.4  # of the memory that is free, for copies
DRAFT, PROOF, FULL = Slot["LaidOut"](), Slot["LaidOut"](), Slot["LaidOut"]()


@dataclass(frozen=True, slots=True)
class GatheredLayer:
    """A raw layer (H, W, C), and the settings that it was gathered with; `rough` is it before it was finished."""

    settings: object
    values: AnyArray
    rough: AnyArray | None = None

    @property
    def gathered(self) -> AnyArray:
        """The values before they were finished."""
        return self.values if self.rough is None else self.rough


@dataclass(slots=True)
class SheetWork:
    """A sheet, its rays, and what they found: a cast, its hits where they can be kept, layers by key.

    again (K,) int64 are tiles of these that must be cast and gathered anew.
    """

    name: str
    low: Low
    rays: Rays
    cast: Cast | None = None
    hits: Hits | None = None
    layers: dict[str, GatheredLayer] = field(default_factory=dict)
    padded: tuple[int, I32] | None = None
    again: I64 | None = None

    @property
    def keeps(self) -> bool:
        """Whether another bake can go on from what was found: all of it is there, in memory."""
        return self.cast is not None and self.hits is not None and self.again is None and not on_disk(self.cast.normal)

    @property
    def size(self) -> int:
        """Bytes of what was found."""
        arrays = [getattr(part, f.name) for part in (self.cast, self.hits) if part is not None for f in fields(part)]
        arrays += [layer.values for layer in self.layers.values()]
        return sum(array.nbytes for array in arrays if hasattr(array, "nbytes"))

    def context(self, assembly: Assembly, sculpt: Sculpt, warm: Warm, cast: Cast | None = None) -> Context:
        filled, low, basis = cast or self.cast, self.low, assembly.recipe.basis
        assert filled is not None
        if basis.tangents != "mikktspace":
            tangents = tangents_for(low.mesh, assembly.recipe.sheet.channel, basis)
            low = replace(low, tangents=tangents[low.triangles])
        return Context(assembly, sculpt, low, self.rays, filled, warm)

    def padding(self, recipe: Recipe) -> I32 | None:
        """For every texel the one that its padding copies; None for no padding."""
        assert self.cast is not None
        texels = recipe.sheet.padding_texels(self.low.grid.width, self.low.grid.height)
        if not texels:
            return None
        if self.padded is None or self.padded[0] != texels:
            self.padded = texels, nearest_covered(self.cast.covered, texels)
        return self.padded[1]


@dataclass(slots=True)
class LaidOut:
    """A piece on its sheets; `outside` counts triangles on none.

    `cast_from` tells all that hits and layers come from beside rays and low: sculpt, roles, sampling. `spent` are
    seconds of the last `fill` by layer, `spent_on` by pair; `recast` is the number of tiles that were cast in it.
    """

    sheets: list[SheetWork]
    cage: Cage
    outside: int
    low: Mesh
    laid_by: str  # the settings that say where the low lies on which sheet
    meshes: list[Mesh]  # held, so that the key's identities stay theirs
    cast_from: tuple[object, ...]
    spent: dict[str, float] = field(default_factory=dict)
    spent_on: dict[int, float] = field(default_factory=dict)
    recast: int = 0


def laid_out(assembly: Assembly, meshes: BakeMeshes, warm: Warm, tell: ShareDone = lambda share: None) -> LaidOut:
    """The piece on its sheets, as it was left by the last bake if nothing changed since that rays follow."""
    recipe, held = assembly.recipe, [mesh for _, mesh, _ in meshes.distinct()]
    settings, meshes_held = settings_behind(recipe, RAYS), [id(mesh) for mesh in held]
    key = f"{settings} {meshes_held} {warm.sculpt(assembly).serial} {assembly.relief is not None}"
    small = max(recipe.sheet.width, recipe.sheet.height) <= PROOF_SIDE  # a proof does not drive out a full bake,
    slot = FULL if not small else DRAFT if recipe.sheet.samples == 1 else PROOF  # nor its draft a proof
    before = warm.last(slot)
    return warm.once(slot, key, lambda: _lay_out(assembly, held, warm, tell, before))


def laid_out_alone(assembly: Assembly, warm: Warm) -> LaidOut:
    """The piece on its sheets beside what is kept of the last bake, which stays."""
    return _lay_out(assembly, [], warm, lambda share: None, None)


def _lay_out(assembly: Assembly, held: list[Mesh], warm: Warm, tell: ShareDone, before: LaidOut | None) -> LaidOut:
    recipe, low = assembly.recipe, assembly.low
    laid_by = f"{recipe.sheet.model_dump(exclude={'padding', 'adaptive'})} {recipe.sizes}"
    if before and before.low is low and before.laid_by == laid_by:
        named, outside = [(sheet.name, sheet.low) for sheet in before.sheets], before.outside
    else:
        layout = lay_out_sheets(recipe, low)
        if not layout.sheets:
            raise InputProblem(
                assembly.keys[0] if assembly.keys else "The low",
                "No triangle lies on a sheet: its UVs are millions of tiles away, or left of the tile or below it.",
                "Move its islands into the tile, or unwrap it anew.",
            )
        lows = prepare_lows(low, layout.sheets, recipe.sheet.channel, recipe.sheet.samples)
        named, outside = [(plan.name, on) for plan, on in zip(layout.sheets, lows, strict=True)], layout.outside
    cage = cage_of(assembly, warm, tell)
    sheets = [SheetWork(name, on, rays_of(assembly, cage, on.triangles)) for name, on in named]
    members = [(pair.name, role, part.key) for pair in assembly.paired.pairs for role, part in pair.members]
    cast_from = warm.sculpt(assembly).serial, members, recipe.sheet.adaptive
    laid = LaidOut(sheets, cage, outside, low, laid_by, held, cast_from)
    if before and before.cast_from == laid.cast_from:
        _take_over(before, laid)
    return laid


def _take_over(before: LaidOut, after: LaidOut) -> None:
    """Keep what an earlier bake found where the rays are the same, and mark the tiles that must be cast again.

    A sheet of which most changed is cast whole: that needs no copies. So is one whose copies would not fit beside it.
    """
    old = {sheet.name: sheet for sheet in before.sheets}
    pairs = [(old[sheet.name], sheet) for sheet in after.sheets if sheet.name in old]
    same = [(one, sheet) for one, sheet in pairs if one.keeps and same_low(one.low, sheet.low)]
    if not same or sum(one.size for one, _ in same) > SPARE * free():
        return
    changed = changed_rays(before.cage, after.cage)
    for one, sheet in same:
        tiles = tiles_of(sheet.low.grid, changed[sheet.low.triangles])
        if len(tiles) <= MOST_AGAIN * len(sheet.low.grid.busy_tiles):
            sheet.cast, sheet.hits, sheet.layers, sheet.padded = one.cast, one.hits, dict(one.layers), one.padded
            sheet.again = tiles
