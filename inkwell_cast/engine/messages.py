"""What the server and its baking process say to each other."""

import os
from dataclasses import dataclass
from typing import ClassVar, Literal

from ..core.bake.manifest import Manifest
from ..core.bake.measured_reach import FitTried, Measured
from ..core.cage.coverage import Coverage
from ..core.cage.patch_rims import PatchRims
from ..core.checks import Finding
from ..core.handoff.bake_on_disk import Finished
from ..core.handoff.batch import Item, Outcome
from ..core.handoff.hand_off import Handed
from ..core.rays.along_surface import Place
from ..core.review.probe import Probe
from ..core.review.section import Along, Section
from ..core.settings.basis import Basis
from ..core.settings.handoff import Handoff
from ..core.settings.limits import AS_THEY_ARE, HeldTo
from ..core.settings.receivers import Receiver
from ..core.settings.recipe import Recipe
from .priority import Lane, Rank

OUT_OF_MEMORY = "The machine ran out of memory. Choose a smaller sheet or fewer maps, or close other programs."
LARGE = 50_000_000  # bytes of meshes: a piece that takes longer to check than one waits for a small one
PEEK = "peek.png"  # in the folder of a running bake: the map that it is at
Drawn = Literal["low", "cage", "sculpt", "lit"]
Exported = Literal["low", "sculpt", "cage", "displaced"]


@dataclass(frozen=True, slots=True)
class AnyJob:
    """What is the same for every job: where it is done and in which order."""

    LANE: ClassVar[Lane] = Lane.READING
    RANK: ClassVar[Rank] = Rank.LAST
    QUICK: ClassVar[bool] = False  # follows the pointer: a process answers it in the midst of another job
    GIVES_WAY: ClassVar[bool] = False  # ends, and begins again after a job of lower rank; what it found is kept
    JUDGES: ClassVar[bool] = False  # needs many kernels: on a machine where few are compiled it waits for the rest

    @property
    def lane(self) -> Lane:
        return self.LANE

    @property
    def rank(self) -> Rank:
        return self.RANK


@dataclass(frozen=True, slots=True)
class Source:
    """A mesh file in the store: where its packed copy lies, what the piece calls it, and the hash of the original."""

    path: str
    name: str
    sha256: str


@dataclass(frozen=True, slots=True)
class Load(AnyJob):
    """Read a file of any format, refuse it if it is unusable, and write its packed copy."""

    RANK = Rank.FIRST

    path: str
    name: str
    copy: str


@dataclass(frozen=True, slots=True)
class PartFacts:
    """One object of a file; bounds are lowest and highest corner, scene units. `uvs` hashes its first channel."""

    name: str
    triangles: int
    bounds: tuple[tuple[float, ...], tuple[float, ...]]
    uvs: str


@dataclass(frozen=True, slots=True)
class Loaded:
    triangles: int
    vertices: int
    parts: list[PartFacts]
    materials: list[str]
    channels: int
    diagonal: float
    colors: bool


@dataclass(frozen=True, slots=True)
class BakeInto(AnyJob):
    """Bake into an empty folder; `mend` first mends what settings can. A `proof` is small, and waited for."""

    recipe: Recipe
    sources: list[Source]
    folder: str
    mend: bool = False
    proof: bool = False

    @property
    def lane(self) -> Lane:
        return Lane.HAND if self.proof else Lane.LONG


@dataclass(frozen=True, slots=True)
class ShowProof(AnyJob):
    """The picture of one map of the piece's proof; `draft` while something is dragged. Gives a packed message."""

    LANE, RANK = Lane.HAND, Rank.SECOND

    recipe: Recipe
    sources: list[Source]
    key: str
    draft: bool = False


@dataclass(frozen=True, slots=True)
class JudgeProof(AnyJob):
    """How the piece's proof is seen, in the header of a message that has the picture of one map too."""

    LANE, JUDGES = Lane.HAND, True

    recipe: Recipe
    sources: list[Source]
    key: str


@dataclass(frozen=True, slots=True)
class BringIn(AnyJob):
    """Judge normal maps that were made elsewhere, `given` by file and the name to say of it, one a sheet.

    The result is kept in an empty folder as a bake is. `reading` is that of `core.handoff.judge_map.bring_in`.
    """

    recipe: Recipe
    sources: list[Source]
    given: list[tuple[str, str]]
    reading: Basis | str | None
    folder: str


@dataclass(frozen=True, slots=True)
class ProbeAt(AnyJob):
    """Trace the ray of one texel of a sheet again."""

    LANE, RANK, QUICK = Lane.HAND, Rank.FIRST, True

    recipe: Recipe
    sources: list[Source]
    sheet: str
    x: int
    y: int


@dataclass(frozen=True, slots=True)
class Draw(AnyJob):
    """Write what the views draw: the lows, their cage, or the objects `names` of the file `name`.

    Or, "lit", the picture of the sculpt from four sides.
    """

    RANK = Rank.SECOND

    recipe: Recipe
    sources: list[Source]
    what: Drawn
    path: str
    name: str = ""
    names: tuple[str, ...] = ()

    @property
    def lane(self) -> Lane:
        return Lane.HAND if self.what in ("low", "cage") else self.LANE  # of the proof's own low, which lies warm there


@dataclass(frozen=True, slots=True)
class DrawNear(AnyJob):
    """What the views draw of the objects `names` of a file within a ball, see `display_meshes.view_near`."""

    RANK = Rank.SECOND

    recipe: Recipe
    sources: list[Source]
    name: str
    names: tuple[str, ...]
    centre: tuple[float, float, float]
    radius: float


@dataclass(frozen=True, slots=True)
class CheckPiece(AnyJob):
    """Find what is wrong before a bake."""

    LANE, GIVES_WAY = Lane.CHECKS, True

    recipe: Recipe
    sources: list[Source]

    @property
    def rank(self) -> Rank:
        """Checks of a large piece give way to those of a small one."""
        large = sum(os.path.getsize(source.path) for source in self.sources) > LARGE
        return Rank.LAST if large else Rank.SECOND


@dataclass(frozen=True, slots=True)
class Cover(AnyJob):
    """How well the cage holds the sculpt, for the lows of a scope ("piece", "pair:NAME", "object:FILE/OBJECT")."""

    LANE, RANK = Lane.HAND, Rank.SECOND

    recipe: Recipe
    sources: list[Source]
    scope: str


@dataclass(frozen=True, slots=True)
class MeasureReach(AnyJob):
    """The reach of a scope that looks best on small bakes; see `core.bake.measured_reach.measure`."""

    LANE, JUDGES = Lane.HAND, True

    recipe: Recipe
    sources: list[Source]
    scope: str


@dataclass(frozen=True, slots=True)
class TryFit(AnyJob):
    """How a fitted cage looks beside the best even reach; see `core.bake.measured_reach.try_fit`."""

    LANE = Lane.LONG

    recipe: Recipe
    sources: list[Source]


@dataclass(frozen=True, slots=True)
class RimsOf(AnyJob):
    """The rims of patches, each a centre, radius in scene units and soft share, as `core.cage.patch_rims` draws them.

    With `to`, a place of the low, the first one reaches just so far; `together` they are drawn as one.
    """

    LANE, RANK, QUICK = Lane.HAND, Rank.FIRST, True

    recipe: Recipe
    sources: list[Source]
    patches: list[tuple[Place, float, float]]
    to: Place | None
    together: bool


@dataclass(frozen=True, slots=True)
class SectionAt(AnyJob):
    """The slice at the point of low triangle `triangle` nearest to `place`; see `core.section.section`."""

    LANE, RANK, QUICK = Lane.HAND, Rank.FIRST, True

    recipe: Recipe
    sources: list[Source]
    triangle: int
    place: tuple[float, float, float]
    turned: float
    zoom: float
    along: Along
    view: tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Export(AnyJob):
    """Write the low as baked, the sculpt's stand-in or the cage; the suffix of `path` says the format."""

    recipe: Recipe
    sources: list[Source]
    what: Exported
    path: str


@dataclass(frozen=True, slots=True)
class ConvertMap(AnyJob):
    """Write a normal map of the lows in another basis; None stands for object space. Gives a warning or ""."""

    recipe: Recipe
    sources: list[Source]
    given: str
    made: str
    source: Basis | None
    target: Basis | None


@dataclass(frozen=True, slots=True)
class Mix(AnyJob):
    """Mix pictures into one; see `core.mix`."""

    kind: str
    given: list[str]
    made: str


@dataclass(frozen=True, slots=True)
class HandOff(AnyJob):
    """Hand off a finished bake of these meshes: its manifest, and by sheet and key its files and the PNGs shown."""

    recipe: Recipe
    sources: list[Source]
    finished: Finished
    handoff: Handoff
    target: str
    receiver: str = ""


@dataclass(frozen=True, slots=True)
class LoadPacked(AnyJob):
    """Check the packed copy of a mesh that came in a piece file."""

    RANK = Rank.FIRST

    path: str
    name: str


@dataclass(frozen=True, slots=True)
class RunItem(AnyJob):
    """Bake a piece of a batch and hand it off into a folder."""

    LANE = Lane.LONG

    item: Item
    recipe: Recipe
    receiver: Receiver | None
    out: str
    mend: bool = False
    held: HeldTo = AS_THEY_ARE


Job = (
    HandOff
    | LoadPacked
    | Mix
    | RunItem
    | ConvertMap
    | Load
    | BakeInto
    | BringIn
    | ShowProof
    | JudgeProof
    | ProbeAt
    | Draw
    | DrawNear
    | CheckPiece
    | Cover
    | MeasureReach
    | RimsOf
    | TryFit
    | SectionAt
    | Export
)

Result = (
    Handed
    | Outcome
    | str
    | bytes
    | Loaded
    | Manifest
    | Probe
    | list[Finding]
    | Coverage
    | Measured
    | FitTried
    | Section
    | list[PatchRims]
    | None
)
