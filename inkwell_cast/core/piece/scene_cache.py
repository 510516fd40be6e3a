"""What is kept between bakes: treated files, the sculpt's scenes, and what was computed of them."""

from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from typing import Any, Generic, TypeVar

import numpy as np

from ..base.array_types import I64
from ..base.errors import Cancelled
from ..base.progress import Cancel, ShareDone
from ..mesh.fixes import treated
from ..mesh.mesh import Mesh, merge
from ..mesh.normals import with_normals
from ..mesh.transforms import one_name_each
from ..rays.along_surface import Ground
from ..rays.embree import Scene, Vertices, tracers_of
from ..settings.files import FileSettings
from ..settings.recipe import Recipe
from .piece import Assembly, by_file, take
from .sculpt import Sculpt

T = TypeVar("T")

MANY = 500_000  # triangles: smaller scenes are built in a blink
RAYS = 10  # a triangle, below which a quickly built scene saves more than its rays take longer
ENOUGH = 4  # samples of a texel, whatever a draft takes: a draft and its proof share their scenes


class Slot(Generic[T]):
    """A place in the cache for one result of the type T; the module that computes it owns it."""


class Warm:
    """Keeps treated files and the sculpt's scenes, so that the next bake does not build them again.

    `stopped()` says whether what is being made is no longer wanted: long work asks it, or calls `look`. The ray library
    asks `stopped_alone()`, from whose midst nothing else may be computed.
    """

    def __init__(self, stopped: Cancel = lambda: False, stopped_alone: Cancel | None = None) -> None:
        self.stopped, self.stopped_alone = stopped, stopped_alone or stopped
        self.forget()

    def look(self) -> None:
        """Raises Cancelled if the work is no longer wanted."""
        if self.stopped():
            raise Cancelled

    def forget(self) -> None:
        """Let go of everything."""
        self._treated: dict[str, tuple[Mesh, FileSettings, Mesh]] = {}
        self._kept: dict[Slot[Any], tuple[str, Any]] = {}
        self._ground: tuple[Mesh, Ground] | None = None
        self._sculpt: tuple[list[tuple[Mesh, tuple[str, ...]]], Sculpt] | None = None

    def once(self, slot: Slot[T], key: str, make: Callable[[], T]) -> T:
        """What `make` gives, computed again only when `key` differs from that of what the slot holds."""
        known = self._kept.get(slot)
        if known is None or known[0] != key:
            self._kept.pop(slot, None)
            self.look()
            known = self._kept[slot] = key, make()
        result: T = known[1]
        return result

    def ground(self, low: Mesh) -> Ground:
        """A low as patches are laid on it."""
        if self._ground is None or self._ground[0] is not low:
            self._ground = low, Ground(low)
        return self._ground[1]

    def drop(self, slot: Slot[Any]) -> None:
        """Let go of what a slot holds."""
        self._kept.pop(slot, None)

    def last(self, slot: Slot[T]) -> T | None:
        """What a slot holds, whatever it was made for; None for nothing."""
        known = self._kept.get(slot)
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

    def sculpt(self, assembly: Assembly, tell: ShareDone = lambda share: None, to_bake: bool = False) -> Sculpt:
        """The highs of every pair, and their scenes; `tell(share)` hears how much of those is built.

        What is written must be the same whatever was looked at before: `to_bake`, scenes are built as the recipe says.
        """
        wanted, ends = _wanted(assembly)
        known = self._sculpt
        if (
            known
            and len(known[0]) == len(wanted)
            and all(a[0] is b[0] and a[1] == b[1] for a, b in zip(known[0], wanted, strict=True))
            and len(known[1].first) == len(ends)
        ):
            kept = known[1]
            quick = quickly_built(assembly.recipe, len(kept.mesh.triangles)) if to_bake else kept.quick
            if quick != kept.quick:
                self._sculpt = known[0], (kept := _built_anew(kept, quick, self, tell))
            return kept
        self._sculpt = known = None  # let the old scenes go before the new ones need their memory,
        self._kept.clear()  # and all that was computed of them
        self._sculpt = wanted, _build(wanted, ends, assembly, self, tell, to_bake)
        return self._sculpt[1]

    def sculpt_beside(self, assembly: Assembly) -> Sculpt:
        """Highs and scenes of another assembly than the piece's, which keeps its own; the caller keeps these."""
        return _build(*_wanted(assembly), assembly, self, lambda share: None, to_bake=True)


def _wanted(assembly: Assembly) -> tuple[list[tuple[Mesh, tuple[str, ...]]], I64]:
    """The objects of each file that a sculpt is made of, pair by pair, and where those of each pair begin."""
    given = [by_file(pair.giving) for pair in assembly.paired.pairs]
    wanted = [(assembly.files[file], names) for files in given for file, names in files.items()]
    return wanted, np.cumsum([0, *map(len, given)])


def _own_names(mesh: Mesh, name: str) -> Mesh:
    """The mesh under a name, objects of the same name joined: everything is stored by name."""
    if len(set(mesh.object_names)) < len(mesh.object_names):
        mesh = one_name_each(mesh)
    return mesh if mesh.name == name else replace(mesh, name=name)


def quickly_built(recipe: Recipe, triangles: int) -> bool:
    """Whether a bake sends so few rays at a sculpt that quickly built scenes serve it better."""
    each = ENOUGH + sum(rays for (group, _), rays in recipe.rays.items() if group in recipe.output.maps)
    return triangles > MANY and recipe.sheet.width * recipe.sheet.height * each < RAYS * triangles


def _built_anew(known: Sculpt, quick: bool, warm: Warm, tell: ShareDone) -> Sculpt:
    """A sculpt with scenes of another form; all else, also what was computed of it, stays."""
    scenes = _scenes(known.mesh, known.first, quick, warm, tell)
    return replace(known, scenes=scenes, tracers=tracers_of(scenes), quick=quick)


def _build(
    wanted: list[tuple[Mesh, tuple[str, ...]]],
    ends: I64,
    assembly: Assembly,
    warm: Warm,
    tell: ShareDone,
    to_bake: bool,
) -> Sculpt:
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
    count = len(mesh.triangles)
    quick = quickly_built(assembly.recipe, count) if to_bake else count > MANY
    scenes = _scenes(mesh, first, quick, warm, tell)
    return Sculpt(mesh, first, tracers_of(scenes), scenes, assembly.sculpt_keys, quick)


def _scenes(mesh: Mesh, first: I64, quick: bool, warm: Warm, tell: ShareDone) -> list[Scene]:
    """A scene for the highs of each pair, over the same vertices."""
    shared = Vertices(mesh.positions)
    scenes, every = list[Scene](), max(len(mesh.triangles), 1)
    for a, b in pairwise(first.tolist()):

        def told(share: float, a: int = a, b: int = b) -> None:
            tell((a + share * (b - a)) / every)

        scenes.append(Scene(shared, mesh.triangles[a:b], cancelled=warm.stopped_alone, tell=told, quick=quick))
    return scenes
