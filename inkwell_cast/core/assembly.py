"""A piece put together: files treated, objects paired, lows joined to one mesh, each pair's highs to a scene."""

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from itertools import count, pairwise
from typing import Any, TypeVar

import numpy as np

from .arrays import F32, I32, I64, Any_, Bool
from .edges import bends, edges_of, shaded
from .embree import Scene, Vertices, tracers_of
from .errors import Cancelled
from .fixes import seam_normals, treated
from .levels import in_force, scopes
from .map_settings import Subdivision
from .mends import mended
from .mesh import Mesh, layer_of_corners, merge, subset
from .normals import smooth, with_normals
from .pairing import Paired, Part, pair_up
from .recipe import FileSettings, Recipe, Role
from .subdivide import subdivided
from .transform import one_name_each

T = TypeVar("T")


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
        found: list[tuple[str, Mesh, Role | None]] = []
        taken: set[str] = set()
        both = {id(mesh) for mesh in self.lows} & {id(mesh) for mesh in self.highs}
        roles: list[tuple[list[Mesh], Role | None]] = [
            (self.lows, "low"), (self.highs, "high"), (self.cages, "cage"), (self.named, None),
        ]  # fmt: skip
        for meshes, role in roles:
            for mesh in meshes:
                if id(mesh) in both and role == "high":
                    continue
                name, n = mesh.name, 2
                while name in taken:
                    name, n = f"{mesh.name} ({n})", n + 1
                taken.add(name)
                found.append((name, mesh, "self" if id(mesh) in both else role))
        return found


@dataclass(frozen=True, slots=True)
class Sculpt:
    """The highs pair after pair.

    mesh with normals; first (P + 1,) int64, where each pair's triangles begin; tracers (P, 2) uint64 for `first_hit`;
    keys name the part of every object of the mesh. No other sculpt of this process has the same serial, so that what is
    computed of one is never taken for another's.
    """

    mesh: Mesh
    first: I64
    tracers: Any_
    scenes: list[Scene]
    keys: tuple[str, ...]
    serial: int = field(default_factory=count().__next__)

    def keys_of(self, triangles: I64 | I32) -> list[str]:
        """The parts that some triangles belong to, the most frequent one first."""
        found, times = np.unique(self.mesh.objects[triangles], return_counts=True)
        return [self.keys[n] for n in found[np.argsort(-times, kind="stable")]]


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
    relief says how the low was displaced, if it was. recipe is that which was `given` with its mends laid over it.
    """

    recipe: Recipe
    files: dict[str, Mesh]
    paired: Paired
    low: Mesh
    low_pair: I32
    keys: tuple[str, ...]
    cages: list[Mesh | None]
    relief: Relief | None = None
    given: Recipe = field(default_factory=Recipe)

    @property
    def sculpt_keys(self) -> tuple[str, ...]:
        """The part of every object of the sculpt, FILE/OBJECT, in its order."""
        return tuple(
            f"{file}/{name}"
            for pair in self.paired.pairs
            for file, names in _by_file(pair.giving).items()
            for name in self.files[file].object_names
            if name in names
        )

    def digest(self) -> str:
        """A hash of the low's shape, normals and pairs and of the cage meshes: all that ray directions come from."""
        low = self.low
        arrays = [low.positions, low.triangles, low.objects, self.low_pair]
        arrays += [low.normals.values, low.normals.corners] if low.normals else []
        for cage in self.cages:
            arrays += [cage.positions, cage.triangles] if cage else []
        found = hashlib.sha256(repr((self.split.tolist(), self.recipe.creases)).encode())
        for array in arrays:
            found.update(np.ascontiguousarray(array).tobytes())
        return found.hexdigest()

    @property
    def split(self) -> Bool:
        """Which objects of the low have rays that part at hard edges, (objects,) bool."""
        found = []
        for key in self.keys:
            pair = self.paired.pair_of(key)
            found.append(in_force(self.recipe, scopes(pair.name if pair else "", key))["directions"].value == "split")
        return np.array(found, bool)


class Warm:
    """Keeps treated files and the sculpt's scenes, so that the next bake does not build them again.

    `stopped()` says whether what is being made is no longer wanted: long work asks it, or calls `look`.
    """

    def __init__(self, stopped: Callable[[], bool] = lambda: False) -> None:
        self.stopped = stopped
        self.forget()

    def look(self) -> None:
        """Raises Cancelled if the work is no longer wanted."""
        if self.stopped():
            raise Cancelled

    def forget(self) -> None:
        """Let go of everything."""
        self._treated: dict[str, tuple[Mesh, FileSettings, Mesh]] = {}
        self._kept: dict[str, tuple[str, Any]] = {}
        self._sculpt: tuple[list[tuple[Mesh, tuple[str, ...]]], Sculpt] | None = None

    def once(self, name: str, key: str, make: Callable[[], T]) -> T:
        """What `make` gives, computed again only when `key` differs from the last under this name."""
        known = self._kept.get(name)
        if known is None or known[0] != key:
            self._kept.pop(name, None)
            self.look()
            known = self._kept[name] = key, make()
        found: T = known[1]
        return found

    def last(self, name: str) -> Any:
        """What was kept last under a name, whatever it was made for; None for nothing."""
        known = self._kept.get(name)
        return known[1] if known else None

    def treated(self, named: dict[str, Mesh], recipe: Recipe) -> dict[str, Mesh]:
        kept = {}
        for name, mesh in named.items():
            settings = recipe.file(name).model_copy(update={"role": ""})
            known = self._treated.get(name)
            if known is None or known[0] is not mesh or known[1] != settings:
                known = mesh, settings, treated(_own_names(mesh, name), settings)
            kept[name] = known
        self._treated = kept
        return {name: entry[2] for name, entry in kept.items()}

    def sculpt(self, assembly: Assembly) -> Sculpt:
        """The highs of every pair, and their scenes."""
        wanted = [
            (assembly.files[file], names)
            for pair in assembly.paired.pairs
            for file, names in _by_file(pair.giving).items()
        ]
        ends = np.cumsum([0, *[len(_by_file(pair.giving)) for pair in assembly.paired.pairs]])
        known = self._sculpt
        if known and len(known[0]) == len(wanted) and all(
            a[0] is b[0] and a[1] == b[1] for a, b in zip(known[0], wanted, strict=True)
        ) and len(known[1].first) == len(ends):  # fmt: skip
            return known[1]
        self._sculpt = known = None  # let the old scenes go before the new ones need their memory,
        self._kept.clear()  # and all that was computed of them
        self._sculpt = wanted, _build(wanted, ends, assembly.sculpt_keys, self)
        return self._sculpt[1]


def _own_names(mesh: Mesh, name: str) -> Mesh:
    """The mesh under a name, objects of the same name joined: everything is stored by name."""
    if len(set(mesh.object_names)) < len(mesh.object_names):
        mesh = one_name_each(mesh)
    return mesh if mesh.name == name else replace(mesh, name=name)


def _by_file(parts: list[Part]) -> dict[str, tuple[str, ...]]:
    found: dict[str, list[str]] = {}
    for part in parts:
        found.setdefault(part.file, []).append(part.name)
    return {file: tuple(names) for file, names in found.items()}


def _build(wanted: list[tuple[Mesh, tuple[str, ...]]], ends: I64, keys: tuple[str, ...], warm: Warm) -> Sculpt:
    dressed: dict[int, Mesh] = {}
    pieces = []
    for mesh, names in wanted:
        warm.look()
        whole = dressed.setdefault(id(mesh), with_normals(mesh))
        pieces.append(take(whole, names))
    counts = np.cumsum([0, *[len(piece.triangles) for piece in pieces]])
    first = counts[ends].astype(np.int64)
    warm.look()
    mesh = with_normals(merge(pieces, "sculpt"))
    warm.look()
    shared = Vertices(mesh.positions)
    scenes = [Scene(shared, mesh.triangles[a:b], cancelled=warm.stopped) for a, b in pairwise(first.tolist())]
    return Sculpt(mesh, first, tracers_of(scenes), scenes, keys)


def take(mesh: Mesh, names: tuple[str, ...]) -> Mesh:
    """The objects of these names; all of them cost no copy."""
    wanted: Bool = np.array([name in names for name in mesh.object_names])
    if wanted.all():
        return mesh
    place = np.cumsum(wanted, dtype=np.int32) - 1
    piece = subset(mesh, wanted[mesh.objects])
    kept = tuple(name for name, w in zip(mesh.object_names, wanted, strict=True) if w)
    return replace(piece, objects=place[piece.objects], object_names=kept)


def parts_of(meshes: list[Mesh]) -> list[Part]:
    return [Part(mesh.name, name) for mesh in meshes for name in mesh.object_names]


def with_roles(recipe: Recipe, given: list[tuple[str, Mesh, Role | None]]) -> Recipe:
    """The recipe with the roles that files were given in; a role that it already has stays."""
    files = dict(recipe.files)
    for name, _, role in given:
        own = recipe.file(name)
        if role and not own.role:
            files[name] = own.model_copy(update={"role": role})
    return recipe.model_copy(update={"files": files})


def assemble(recipe: Recipe, meshes: BakeMeshes, warm: Warm | None = None) -> Assembly:
    """Put a piece together. Nothing is refused here; see `checks`."""
    given = meshes.distinct()
    asked = with_roles(recipe, given)
    recipe = mended(asked)
    files = (warm or Warm()).treated({name: mesh for name, mesh, _ in given}, recipe)
    paired = pair_up(parts_of(list(files.values())), recipe.pairing, recipe.files)
    cages = list[Mesh | None]()
    for pair in paired.pairs:
        cage = [_cage_part(recipe, files[part.file], part, files, pair.lows) for part in pair.cages]
        cages.append(merge(cage, pair.name) if cage else None)
    return Assembly(recipe, files, paired, *_lows_of(recipe, files, paired), cages, given=asked)


def _lows_of(recipe: Recipe, files: dict[str, Mesh], paired: Paired) -> tuple[Mesh, I32, tuple[str, ...]]:
    """Every paired low as one mesh, the pair of each triangle and the part of each object."""
    pieces, of_pair, keys = [], [], list[str]()
    for n, pair in enumerate(paired.pairs):
        for part in pair.lows:
            piece = subdivided(low_part(recipe, files[part.file], part, pair.name), recipe.subdivision)
            pieces.append(piece)
            of_pair.append(np.full(len(piece.triangles), n, np.int32))
            keys.append(part.key)
    if not pieces:
        empty = Mesh("low", np.zeros((0, 3), np.float32), np.zeros((0, 3), np.int32))
        return empty, np.zeros(0, np.int32), ()
    return merge(pieces, "low"), np.concatenate(of_pair), tuple(keys)


def undivided(assembly: Assembly) -> Assembly:
    """The piece with its low as the artist made it: neither subdivided nor displaced."""
    if assembly.recipe.subdivision == Subdivision() and assembly.relief is None:
        return assembly
    recipe = assembly.recipe.model_copy(update={"subdivision": Subdivision()})
    low, low_pair, keys = _lows_of(recipe, assembly.files, assembly.paired)
    return replace(assembly, low=low, low_pair=low_pair, keys=keys, relief=None)


def _cage_part(recipe: Recipe, mesh: Mesh, part: Part, files: dict[str, Mesh], lows: list[Part]) -> Mesh:
    """One object of a cage mesh; one with as many faces as a low is divided with it, so that they go on matching."""
    piece = take(mesh, (part.name,))
    sizes = [len(take(files[low.file], (low.name,)).triangles) for low in lows]
    return subdivided(with_normals(piece), recipe.subdivision) if len(piece.triangles) in sizes else piece


def low_part(recipe: Recipe, mesh: Mesh, part: Part, pair: str = "") -> Mesh:
    """One object of the low with its normals as the most specific level sets them."""
    piece = take(mesh, (part.name,))
    found = in_force(recipe, scopes(pair, part.key))
    mode, angle, channel = found["mode"].value, found["angle"].value, recipe.sheet.channel
    if mode == "keep" or not len(piece.triangles):
        return with_normals(piece)
    if mode == "smooth":
        return replace(piece, normals=smooth(piece))
    if mode == "seams":
        if channel >= len(piece.uvs):
            return with_normals(piece)
        return replace(piece, normals=layer_of_corners(seam_normals(piece, channel)))
    edges = edges_of(piece)
    hard = bends(piece, edges) > angle
    return replace(piece, normals=layer_of_corners(shaded(piece, edges, hard, mode == "weighted")))
