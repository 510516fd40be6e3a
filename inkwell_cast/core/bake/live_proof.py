"""A proof that follows the hand: the picture of one map first, then how it is seen.

Only the tiles are cast whose rays changed. Where that is most of them, or while something is dragged, the picture is a
draft with one sample a texel, and the proof's own follows with the judgement.
"""

import time
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from ..base.array_types import U8, U16
from ..base.progress import Cancel
from ..mesh.binary_message import pack
from ..mesh.mesh import Mesh
from ..piece.assembly import assemble
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.judgement import Judgement
from ..review.worn_pictures import Pictures
from ..settings.recipe import Recipe
from ..settings.sheet import Size
from ..settings.staleness import displaces
from .baked import Bake, holds_normals
from .cast_cache import laid_out
from .manifest import SeenFacts
from .pipeline import bake
from .refusals import refuse_unusable

DRAGGED = 0.16  # seconds in which a draft of what is dragged is to be there
AT_ONCE = 0.3  # of the busy tiles: so many are cast with all samples before anything is shown


@dataclass(frozen=True, slots=True)
class ProofPictures:
    """A picture of one map for every sheet, by name: (H, W, 4) uint8, red, green, blue, opaque.

    `draft` says that it has one sample a texel. `seen` is how the proof is seen once that is known, None for one
    without maps of normals.
    """

    key: str
    pictures: dict[str, U8]
    facts: dict[str, Any]
    draft: bool
    seen: SeenFacts | None = None

    def packed(self) -> bytes:
        """A message of the pictures in the order of the header's sheets."""
        sheets = [{"name": name, "width": p.shape[1], "height": p.shape[0]} for name, p in self.pictures.items()]
        seen = self.seen.model_dump() if self.seen else None
        header = {"key": self.key, "sheets": sheets, "draft": self.draft, "seen": seen, **self.facts}
        return b"".join(pack(header, {f"sheet{n}": picture for n, picture in enumerate(self.pictures.values())}))


class LiveProof:
    """The proof of a piece in its last state; everything dear is kept in `warm`."""

    def __init__(self, warm: Warm) -> None:
        self._warm = warm
        self._coarse = False  # whether drafts of what is dragged are half as wide, so that they follow
        self._judged: tuple[Recipe, list[Mesh], Judgement] | None = None

    def show(self, recipe: Recipe, meshes: BakeMeshes, key: str, draft: bool, cancel: Cancel) -> ProofPictures:
        """The picture of a map of the recipe; of its first where it has none of that name.

        Raises InputProblem where the meshes cannot be baked, and Cancelled.
        """
        key = key if key in recipe.output.maps else recipe.output.maps[0]
        proof, started = _only(recipe.proof(), key), time.perf_counter()
        if draft:
            made = bake(_drafted(proof, self._coarse), meshes, cancel=cancel, warm=self._warm)
            self._coarse = time.perf_counter() - started > (DRAGGED / 3 if self._coarse else DRAGGED)
            return _shown(made, key, True)
        if proof.sheet.samples > 1 and self._changes_much(proof, meshes):
            proof, draft = _drafted(proof, False), True
        return _shown(bake(proof, meshes, cancel=cancel, warm=self._warm), key, draft)

    def judge(self, recipe: Recipe, meshes: BakeMeshes, key: str, cancel: Cancel) -> ProofPictures:
        """How the proof is seen, and the picture of a map with all its samples. Raises as `show` does."""
        self._judged = None
        wanted = key if key in recipe.output.maps else recipe.output.maps[0]
        normals = next((name for name in recipe.output.maps if holds_normals(name)), None)
        baked = bake(_only(recipe.proof(), wanted, normals), meshes, cancel=cancel, warm=self._warm)
        shown = _shown(baked, wanted, False)
        if normals is None:
            return shown
        pictures = Pictures([sheet.images[normals] for sheet in baked.sheets], normals == "normal_object")
        judged = baked.judgement(pictures)
        if recipe.output.form_of(normals).format != "jpeg":  # whose file holds something else
            self._judged = recipe.proof(), [mesh for _, mesh, _ in meshes.distinct()], judged
        return replace(shown, seen=SeenFacts.of(judged.seen.whole, judged.best.whole, judged.seen.never_seen))

    def judgement_of(self, proof: Recipe, meshes: BakeMeshes) -> Judgement | None:
        """The judgement that `judge` came to last, if it was of this proof and these meshes."""
        if self._judged is None:
            return None
        judged, held, judgement = self._judged
        given = [mesh for _, mesh, _ in meshes.distinct()]
        same = len(held) == len(given) and all(a is b for a, b in zip(held, given, strict=True))
        return judgement if same and judged == proof else None

    def _changes_much(self, proof: Recipe, meshes: BakeMeshes) -> bool:
        """Whether more must be cast than is quickly done."""
        assembly = assemble(proof, meshes, self._warm)
        refuse_unusable(assembly, self._warm)
        if displaces(proof):
            return False  # what lies on the sheet is known after the cast only
        sheets = laid_out(assembly, meshes, self._warm).sheets
        busy = sum(len(sheet.low.grid.busy_tiles) for sheet in sheets)
        again = [sheet.low.grid.busy_tiles if sheet.cast is None else sheet.again for sheet in sheets]
        return sum(len(tiles) for tiles in again if tiles is not None) > AT_ONCE * busy


def _only(recipe: Recipe, *keys: str | None) -> Recipe:
    """A recipe with some of its maps alone, and a displacement, which moves the low of all."""
    wanted = [key for key in recipe.output.maps if key in keys or key == "displacement"]
    return recipe.with_maps(*wanted)


def _drafted(proof: Recipe, coarse: bool) -> Recipe:
    """A proof with one sample a texel; a `coarse` one on sheets half as wide."""
    if not coarse:
        return proof.model_copy(update={"sheet": proof.sheet.model_copy(update={"samples": 1})})
    padding = proof.sheet.padding if isinstance(proof.sheet.padding, str) else proof.sheet.padding // 2
    sizes = {name: Size(width=_half(size.width), height=_half(size.height)) for name, size in proof.sizes.items()}
    width, height = _half(proof.sheet.width), _half(proof.sheet.height)
    sheet = proof.sheet.model_copy(update={"samples": 1, "width": width, "height": height, "padding": padding})
    return proof.model_copy(update={"sheet": sheet, "sizes": sizes})


def _half(side: int) -> int:
    return max(16, side // 2)


def _shown(baked: Bake, key: str, draft: bool) -> ProofPictures:
    pictures = {sheet.name: _drawable(sheet.images[key]) for sheet in baked.sheets}
    clipped = any(sheet.facts[key].get("clipped_share") for sheet in baked.sheets)
    facts = {"basis": baked.recipe.basis.model_dump(), "clipped": clipped}
    return ProofPictures(key, pictures, facts, draft)


def _drawable(image: U8 | U16) -> U8:
    """A picture (H, W, 1 or more) as a canvas takes it: (H, W, 4) uint8."""
    steps = image if image.dtype == np.uint8 else ((image.astype(np.uint32) + 128) // 257).astype(np.uint8)
    out = np.full((*image.shape[:2], 4), 255, np.uint8)
    out[..., :3] = steps[..., :3] if steps.shape[2] >= 3 else steps[..., :1]
    return out
