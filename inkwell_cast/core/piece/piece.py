"""A piece: its meshes, and what a recipe makes of them before anything is cast."""

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from ..base.array_types import F32, I32, AnyArray, Bool
from ..mesh.mesh import Mesh, subset
from ..settings.files import Role
from ..settings.pairing import Paired, Part
from ..settings.recipe import Recipe
from ..settings.scopes import in_force, scopes


@dataclass(frozen=True, slots=True)
class BakeMeshes:
    """What is baked.

    Files in `lows`, `highs` and `cages` have that role whatever their names say; `named` go by their names.
    """

    lows: list[Mesh]
    highs: list[Mesh]
    named: list[Mesh] = field(default_factory=list)
    cages: list[Mesh] = field(default_factory=list)

    def distinct(self) -> list[tuple[str, Mesh, Role | None]]:
        """Every mesh once, with a name of its own and its role; what is both low and high is its own source."""
        entries: list[tuple[str, Mesh, Role | None]] = []
        taken: set[str] = set()
        both = {id(mesh) for mesh in self.lows} & {id(mesh) for mesh in self.highs}
        roles: list[tuple[list[Mesh], Role | None]] = [
            (self.lows, "low"),
            (self.highs, "high"),
            (self.cages, "cage"),
            (self.named, None),
        ]
        for meshes, role in roles:
            for mesh in meshes:
                if id(mesh) in both and role == "high":
                    continue
                name, n = mesh.name, 2
                while name in taken:
                    name, n = f"{mesh.name} ({n})", n + 1
                taken.add(name)
                entries.append((name, mesh, "self" if id(mesh) in both else role))
        return entries


@dataclass(frozen=True, slots=True)
class Relief:
    """How far a displaced low was moved along its averaged normals.

    offsets (T, 3) float32 at its corners, scene units; triangles of the low; before and after are mean and 95th
    percentile of the sculpt's distance along the rays from the low as it was and as it is.
    """

    offsets: F32
    triangles: int
    before: tuple[float, float]
    after: tuple[float, float]


@dataclass(frozen=True, slots=True)
class Assembly:
    """What a recipe makes of some meshes, before anything is cast.

    files are treated, by name; low joins every paired low with its normals as set; low_pair (T,) int32 is the pair of
    each of its triangles, keys the part of each of its objects; cages are the pair's cage meshes, None where none;
    copies (T,) int32 are the copies that have the UVs of another part and no sculpt at their place, -1 for what is none
    (`piece.copies`). relief says how the low was displaced, if it was. recipe is that which was `given` with its mends
    laid over it.
    """

    recipe: Recipe
    files: dict[str, Mesh]
    paired: Paired
    low: Mesh
    low_pair: I32
    keys: tuple[str, ...]
    cages: list[Mesh | None]
    copies: I32 = field(default_factory=lambda: np.zeros(0, np.int32))
    relief: Relief | None = None
    given: Recipe = field(default_factory=Recipe)

    @property
    def judged(self) -> Bool:
        """Which triangles of the low (T,) can be compared with the sculpt: all but those of copies."""
        copies = self.copies if len(self.copies) else np.full(len(self.low.triangles), -1)
        return np.asarray(copies < 0)

    @property
    def sculpt_keys(self) -> tuple[str, ...]:
        """The part of every object of the sculpt, FILE/OBJECT, in its order."""
        return tuple(
            f"{file}/{name}"
            for pair in self.paired.pairs
            for file, names in by_file(pair.giving).items()
            for name in self.files[file].object_names
            if name in names
        )

    def digest(self) -> str:
        """A hash of the low's shape, normals and pairs and of the cage meshes: all that ray directions come from."""
        low = self.low
        arrays = [low.normals.values, low.normals.corners] if low.normals else []
        for cage in self.cages:
            arrays += [cage.positions, cage.triangles] if cage else []
        return _hash_of(f"{self.shape()} {self.split.tolist()} {self.recipe.creases!r}", arrays)

    def shape(self) -> str:
        """A hash of the low's shape and UVs, its objects and pairs, and of what is a copy in it."""
        low, channel = self.low, self.recipe.sheet.channel
        uvs = low.uvs[channel : channel + 1]
        arrays = [low.positions, low.triangles, low.objects, self.low_pair, self.copies]
        return _hash_of("", arrays + [of for layer in uvs for of in (layer.values, layer.corners)])

    @property
    def split(self) -> Bool:
        """Which objects of the low have rays that part at hard edges, (objects,) bool."""
        flags = []
        for key in self.keys:
            pair = self.paired.pair_of(key)
            flags.append(in_force(self.recipe, scopes(pair.name if pair else "", key))["directions"].value == "split")
        return np.array(flags, bool)


def _hash_of(said: str, arrays: Sequence[AnyArray]) -> str:
    digest = hashlib.sha256(said.encode())
    for array in arrays:
        digest.update(np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


def by_file(parts: list[Part]) -> dict[str, tuple[str, ...]]:
    grouped: dict[str, list[str]] = {}
    for part in parts:
        grouped.setdefault(part.file, []).append(part.name)
    return {file: tuple(names) for file, names in grouped.items()}


def take(mesh: Mesh, names: tuple[str, ...]) -> Mesh:
    """The objects of these names; all of them cost no copy."""
    wanted: Bool = np.array([name in names for name in mesh.object_names])
    if wanted.all():
        return mesh
    place = np.cumsum(wanted, dtype=np.int32) - 1
    piece = subset(mesh, wanted[mesh.objects])
    kept = tuple(name for name, w in zip(mesh.object_names, wanted, strict=True) if w)
    return replace(piece, objects=place[piece.objects], object_names=kept)
