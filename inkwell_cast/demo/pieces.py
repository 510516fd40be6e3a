"""What is put on the shelf of a demo: each piece with its settings and what writes its meshes."""

import pathlib
from collections.abc import Callable
from dataclasses import dataclass

from ..core.settings.maps import Glow, Subdivision
from ..core.settings.output import Output
from ..core.settings.reach import Reach
from ..core.settings.recipe import Recipe
from ..core.settings.sheet import Sheet
from . import gull, inkstand, lantern, token, troubled


@dataclass(frozen=True, slots=True)
class DemoPiece:
    """A piece for the shelf: `write(folder)` makes its files and gives their paths."""

    title: str
    recipe: Recipe
    write: Callable[[pathlib.Path], tuple[pathlib.Path, ...]]


def pieces() -> list[DemoPiece]:
    """All of them, the showpiece last, so that it lies on top of the shelf."""
    recipe = Recipe(reach=Reach(unit="scene", outward=2.5, inward=2.0))
    return [
        DemoPiece(troubled.TITLE, recipe, troubled.write),
        DemoPiece(
            token.TITLE,
            Recipe(
                reach=Reach(unit="scene", outward=1.4, inward=0.6),
                output=Output(maps=["normal", "curvature", "displacement"]),
                subdivision=Subdivision(scheme="loop", levels=4),
            ),
            token.write,
        ),
        DemoPiece(gull.TITLE, Recipe(reach=Reach(unit="scene", outward=4.0, inward=5.0)), gull.write),
        DemoPiece(
            lantern.TITLE,
            Recipe(
                reach=Reach(unit="scene", outward=1.6, inward=1.6),
                output=Output(maps=["normal", "color", "emission", "glow"]),
                sheet=Sheet(width=1024, height=1024),
                glow=Glow(rays=96, denoise=True),
            ),
            lantern.write,
        ),
        DemoPiece(inkstand.TITLE, recipe, inkstand.write),
    ]
