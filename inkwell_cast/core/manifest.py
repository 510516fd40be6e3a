"""The manifest: what a bake was made from and what came out, as JSON."""

import hashlib
import pathlib
from typing import TYPE_CHECKING

from pydantic import BaseModel

from .likeness import Likeness
from .recipe import Recipe

if TYPE_CHECKING:
    from .bake import Bake


class MeshFile(BaseModel):
    """A mesh that went in."""

    role: str
    file: str
    sha256: str
    triangles: int


class MapFile(BaseModel):
    """A picture that came out."""

    key: str
    file: str
    sha256: str
    likeness: Likeness | None = None


class Manifest(BaseModel):
    """Settings, hashes and figures of one bake; distances in scene units, shares from 0 to 1, times in seconds."""

    recipe: Recipe
    meshes: list[MeshFile]
    maps: list[MapFile]
    diagonal: float
    outward_reach: float
    inward_reach: float
    coverage: float
    texels: int
    missed_texels: int
    shared_texels: int
    warnings: list[str]
    seconds: dict[str, float]

    @classmethod
    def of(cls, bake: "Bake", files: list[MapFile], meshes: list[MeshFile], seconds: dict[str, float]) -> "Manifest":
        diagonal = bake.low.mesh.diagonal
        outward, inward = bake.recipe.reach.in_scene_units(diagonal)
        return cls(
            recipe=bake.recipe,
            meshes=meshes,
            maps=files,
            diagonal=diagonal,
            outward_reach=outward,
            inward_reach=inward,
            coverage=bake.cast.texels / bake.cast.covered.size,
            texels=bake.cast.texels,
            missed_texels=bake.cast.missed,
            shared_texels=bake.cast.contested,
            warnings=bake.warnings,
            seconds=seconds,
        )

    @property
    def likeness(self) -> Likeness | None:
        """The likeness of the first map that has one."""
        return next((m.likeness for m in self.maps if m.likeness), None)


def sha256_of(path: pathlib.Path) -> str:
    """SHA-256 of a file, read in blocks."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
