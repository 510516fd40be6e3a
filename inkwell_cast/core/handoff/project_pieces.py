"""The pieces of a project: where they lie, and whether each keeps to what the project asks of it."""

import os
import pathlib
import tempfile

import numpy as np
from pydantic import BaseModel

from ..bake.pipeline import bake
from ..bake.saving import save
from ..base.errors import InputProblem
from ..base.progress import Progress
from ..checks import check
from ..piece.assembly import assemble
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..settings.project import Project, centimetres, receiver_in, recipe_in
from ..settings.recipe import Recipe
from .batch import Item, grouped, loaded
from .whole_or_nothing import MANIFEST, is_handoff, listing_of

ALIKE = 1e-6  # of a density: what rounding makes
NAMED = 3  # lows of a sentence


class ProjectCheck(BaseModel):
    """Whether a piece keeps to what its project asks; broken are sentences, likeness is in degrees as seen on a proof.

    densities are texels a centimetre by low.
    """

    piece: str
    folder: str
    broken: list[str] = []
    likeness: float | None = None
    densities: dict[str, float] = {}


def items_of(project: Project, folder: pathlib.Path) -> list[tuple[pathlib.Path, Item]]:
    """The pieces of a project with the folder of their meshes, by path; what a handoff wrote is none.

    The files of a folder are grouped by the stem of their names, by the project's suffixes. Raises InputProblem where
    there are none.
    """
    found, pairing = list[tuple[pathlib.Path, Item]](), Recipe.model_validate(project.settings).pairing
    for place, below, names in os.walk(folder):
        here = pathlib.Path(place)
        below[:] = sorted(name for name in below if not name.startswith(".") and not is_handoff(here / name))
        listings = [listing_of(here / name) for name in names if name.endswith(f".{MANIFEST}")]
        written = {name for listing in listings if listing for name in listing.files}
        files = [here / name for name in sorted(names) if name not in written and not name.startswith(".")]
        found += [(here, item) for item in grouped(files, pairing)]
    if not found:
        raise InputProblem(str(folder), "Nothing to bake is in there.", "Put meshes into folders of the project.")
    return found


def check_against_project(
    item: Item,
    place: pathlib.Path,
    project: Project,
    folder: pathlib.Path,
    progress: Progress = lambda stage, share: None,
    warm: Warm | None = None,
) -> ProjectCheck:
    """Whether a piece keeps to what its project asks: blocking checks, texel density, and limits as seen on a proof."""
    found = ProjectCheck(piece=item.name, folder=place.absolute().relative_to(folder).as_posix())
    warm = warm or Warm()
    try:
        _, recipe, meshes, sources = loaded(item, recipe_in(project, folder))
        receiver = receiver_in(project, folder)
        recipe = receiver.laid_over(recipe) if receiver else recipe
        assembly = assemble(recipe, meshes, warm)
        found.broken += [
            f"{each.title}: {each.what}" for each in check(recipe, meshes, warm) if each.severity == "blocking"
        ]
        found.densities = densities(assembly)
        found.broken += _too_coarse_or_fine(found.densities, project.density)
        if recipe.limits.by_name and not found.broken:
            made = bake(_proof_of(recipe), meshes, progress, warm=warm)
            with tempfile.TemporaryDirectory() as scratch:
                manifest = save(made, pathlib.Path(scratch), sources, pathlib.Path(scratch))
            found.likeness = manifest.seen.bake.mean if manifest.seen else None
            found.broken += manifest.beyond
    except InputProblem as problem:
        found.broken.append(str(problem))
    return found


def densities(assembly: Assembly) -> dict[str, float]:
    """Texels a centimetre of each low of a piece, over all of its surface, by part."""
    recipe, low = assembly.recipe, assembly.low
    found = dict[str, float]()
    if len(low.uvs) <= recipe.sheet.channel:
        return found
    uvs, points = low.uvs[recipe.sheet.channel].at_corners(), low.positions[low.triangles].astype(np.float64)
    edges, flat = points[:, 1:] - points[:, :1], uvs[:, 1:] - uvs[:, :1]
    solid = np.linalg.norm(np.cross(edges[:, 0], edges[:, 1]), axis=1) / 2
    laid = np.abs(flat[:, 0, 0] * flat[:, 1, 1] - flat[:, 0, 1] * flat[:, 1, 0]) / 2
    width, height = recipe.size_of("")
    for number, key in enumerate(assembly.keys):
        own = low.objects == number
        surface = float(solid[own].sum()) * centimetres(recipe) ** 2
        if surface > 0:
            found[key] = float(np.sqrt(float(laid[own].sum()) * width * height / surface))
    return found


def _too_coarse_or_fine(found: dict[str, float], asked: tuple[float, float] | None) -> list[str]:
    """A sentence for the lows that have too few texels and one for those that have too many, the worst named."""
    if asked is None:
        return []
    least, most = asked
    fewer = sorted((value, key) for key, value in found.items() if value < least * (1 - ALIKE))
    more = sorted(((value, key) for key, value in found.items() if value > most * (1 + ALIKE)), reverse=True)
    said = []
    for lows, words in ((fewer, f"fewer than {least:g}"), (more, f"more than {most:g}")):
        named = ", ".join(f"{key.rpartition('/')[2]} {value:.3g}" for value, key in lows[:NAMED])
        others = f" and {len(lows) - NAMED} more lows" if len(lows) > NAMED else ""
        said += [f"{words} texels a centimetre: {named}{others}"] if lows else []
    return said


def _proof_of(recipe: Recipe) -> Recipe:
    """The quick bake that limits are held to: normals alone."""
    output = recipe.output.model_copy(update={"maps": ["normal"], "own": {}})
    return recipe.model_copy(update={"output": output}).proof()
