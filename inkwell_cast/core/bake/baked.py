"""A finished bake: its sheets with their maps, and what they were made from."""

import pathlib
import re
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .. import maps
from ..base.array_types import F32, U8, U16, AnyArray
from ..cage.cage import Cage
from ..cage.coverage import Coverage, coverage
from ..cage.inverse_rays import located_of
from ..cast.context import Context
from ..cast.hits import Cast
from ..checks import Finding, findings_of
from ..flaws import CHECKED, FlawList, flaws_of
from ..images import png, read_picture
from ..mesh.mesh import Mesh
from ..piece.low_on_sheet import Low
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..piece.sculpt import Sculpt
from ..review.judgement import Judgement, judgement
from ..review.likeness import Likeness, angles, figures
from ..review.other_rays import other_rays
from ..review.worn_pictures import Pictures
from ..settings.recipe import PROOF_SIDE, Recipe
from .judged_at import best_on_low, judged_at


@dataclass(frozen=True, slots=True)
class BakedSheet:
    """One sheet of a bake: its name ("" where there is only one), its context, and pictures `images[key] (H, W, C)`.

    `facts[key]` are what must be known to read them: ranges, legends. `exact[key] (H, W, C)` are floats in scene units,
    where the recipe's format holds them. `empty` counts the texels on the low that hold no normal in pictures that were
    made elsewhere.
    """

    name: str
    context: Context
    images: dict[str, U8 | U16]
    facts: dict[str, dict[str, Any]]
    exact: dict[str, AnyArray]
    empty: int | None = None

    @property
    def low(self) -> Low:
        return self.context.low

    @property
    def cast(self) -> Cast:
        return self.context.cast

    @property
    def missed(self) -> int:
        """Texels on the low that hold nothing."""
        return self.cast.missed if self.empty is None else self.empty

    def file_of(self, key: str, suffix: str, taken: set[str]) -> str:
        """A file name for a map, safe on every system and none of those `taken`."""
        plain, key = (re.sub(r"[^\w.()-]+", "_", text) for text in (self.name, key))
        stem = base = f"{plain}_{key}" if plain else key
        n = 2
        while stem.lower() in taken:
            stem, n = f"{base}_{n}", n + 1
        taken.add(stem.lower())
        return stem + suffix


@dataclass(frozen=True, slots=True)
class Bake:
    """The result: its sheets, the piece as it was put together, the cage and the highs, and seconds by stage and pair.

    `low`, `cast` and `images` are those of the first sheet, for the many pieces that have one. `brought` says how its
    images were read where they were made elsewhere: then its casts are what could have been.
    """

    assembly: Assembly
    cage: Cage
    sculpt: Sculpt
    sheets: list[BakedSheet]
    warnings: list[str]
    seconds: dict[str, float] = field(default_factory=dict)
    warm: Warm = field(default_factory=Warm)
    spent_on: dict[int, float] = field(default_factory=dict)
    brought: str = ""

    @property
    def recipe(self) -> Recipe:
        """What was in force: the recipe that was given, with its mends laid over it."""
        return self.assembly.recipe

    @property
    def low(self) -> Low:
        return self.sheets[0].low

    @property
    def high(self) -> Mesh:
        return self.sculpt.mesh

    @property
    def cast(self) -> Cast:
        return self.sheets[0].cast

    @property
    def images(self) -> dict[str, U8 | U16]:
        return self.sheets[0].images

    def pairs_on(self, sheet: BakedSheet) -> list[int]:
        """The pairs that lie on a sheet, in order."""
        return [int(n) for n in np.unique(self.assembly.low_pair[sheet.low.triangles])]

    def findings(self) -> list[Finding]:
        """What those checks say of the piece that a viewer of the bake could see."""
        return findings_of(self.assembly, self.warm, keys=CHECKED)

    def judgement(self, pictures: Pictures | None = None) -> Judgement:
        """How its written pictures of normals are seen, one a sheet, or those of its cast, unrounded.

        Large sheets are judged at a smaller size (`judged_at`). Raises Cancelled where the work is no longer wanted.
        """
        contexts = judged_at(self.assembly, self.sculpt, self.warm, [sheet.context for sheet in self.sheets])
        proof = max(max(context.cast.covered.shape) for context in contexts) <= PROOF_SIDE
        best = best_on_low(self.assembly, self.sculpt, self.warm, proof)
        return judgement(contexts, best, pictures, foreign=bool(self.brought))

    def flaws(self, judged: Judgement | None = None) -> FlawList:
        """What a viewer sees of it that went wrong, as judged."""
        judged = judged or self.judgement()
        findings = [] if self.brought else self.findings()
        trial = other_rays(judged.contexts, judged.proof)
        found = flaws_of(judged.contexts, judged.visible, findings, trial, foreign=bool(self.brought))
        for flaw in found.flaws:
            if flaw.texel is not None:
                written, small = self.sheets[flaw.sheet].low.grid, judged.contexts[flaw.sheet].low.grid
                x, y = flaw.texel
                flaw.texel = x * written.width // small.width, y * written.height // small.height
        return found

    def coverage(self) -> Coverage:
        """What the cage of this bake holds of the sculpt."""
        return coverage(self.assembly, self.sculpt, self.cage, located_of(self.assembly, self.warm))

    def likeness_of(self, path: pathlib.Path, key: str, sheet: BakedSheet | None = None) -> Likeness | None:
        """How close a written picture of a sheet, the first by default, brings the low to the sculpt.

        None for maps that are no normals of the sculpt.
        """
        degrees = self.angles_of(path, key, sheet or self.sheets[0])
        return None if degrees is None else figures(degrees[~np.isnan(degrees)])

    def angles_of(self, path: pathlib.Path, key: str, sheet: BakedSheet) -> F32 | None:
        """The angles of `likeness.angles` that a written picture of a sheet leaves; None for other maps."""
        return self.angles_in(read_picture(path), key, sheet) if holds_normals(key) else None

    def angles_in(self, image: U8 | U16 | F32, key: str, sheet: BakedSheet) -> F32 | None:
        """The angles that a picture (H, W, C) of a sheet leaves, one that is in memory; None for other maps."""
        map_ = maps.REGISTRY.get(key)
        if not isinstance(map_, maps.ReadsNormals):
            return None
        degrees = angles(sheet.cast, map_.read_back(png.dequantise(image), sheet.context))
        if sheet.context.healed is not None:
            degrees[sheet.context.healed] = np.nan  # there is nothing to be like
        return degrees


def holds_normals(key: str) -> bool:
    """Whether a map holds normals of the sculpt that a receiver reads back."""
    return isinstance(maps.REGISTRY.get(key), maps.ReadsNormals)
