"""The one road of a finished bake: baked as it is, or with all mended that settings can mend, and then saved.

The page, the command line, batches and Python all go it.
"""

import pathlib
from dataclasses import dataclass

from ..bake.baked import Bake
from ..bake.bands import RemoteBands
from ..bake.manifest import Manifest, MeshFile
from ..bake.pipeline import bake
from ..bake.preview import Peek
from ..bake.saving import Written, save
from ..base.progress import Cancel, Progress
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..review.judgement import Judgement
from ..settings.mends_overlay import Report
from ..settings.recipe import Recipe
from .mend_all import mend_all


@dataclass(frozen=True, slots=True)
class Made:
    """A bake, and the report of what was mended on its way, if all was to be."""

    bake: Bake
    report: Report | None = None

    @property
    def recipe(self) -> Recipe:
        """The settings as they were given, with the mends that were kept."""
        return self.bake.assembly.given

    def save(
        self,
        folder: str | pathlib.Path,
        sources: list[MeshFile] | None = None,
        previews: str | pathlib.Path | None = None,
        judged: Judgement | None = None,
        progress: Progress = lambda stage, share: None,
        written: Written = lambda manifest: None,
    ) -> Manifest:
        """Write it as `core.bake.saving.save` does."""
        return save(self.bake, folder, sources, previews, self.report, judged, progress, written)


def make(
    recipe: Recipe,
    meshes: BakeMeshes,
    mend: bool = False,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    peek: Peek | None = None,
    remote: RemoteBands | None = None,
) -> Made:
    """Bake, and with `mend` try the best mend of every flaw first; parameters and errors are those of `bake`."""
    if mend:
        done = mend_all(recipe, meshes, progress, cancel, warm, remote, peek or (lambda key, sheet, image: None))
        return Made(done.bake, done.report)
    return Made(bake(recipe, meshes, progress, cancel, warm, peek, remote))
