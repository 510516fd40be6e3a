"""The manifest: what a bake was made from and what came out, as JSON."""

import hashlib
import pathlib
from typing import TYPE_CHECKING, Any, Literal

from pydantic import BaseModel

from ... import __version__
from ..cage.coverage import CoverageFacts
from ..cage.straightening_report import Straightened
from ..flaws.flaw import Flaw
from ..review.as_seen import AsSeen
from ..review.likeness import Likeness
from ..settings.limits import beyond
from ..settings.mends_overlay import Report
from ..settings.recipe import Recipe
from .cautions import notes_on

if TYPE_CHECKING:
    from .baked import Bake


class MeshFile(BaseModel):
    """A mesh that went in."""

    role: str
    file: str
    sha256: str
    triangles: int


class MapFile(BaseModel):
    """A picture that came out; `facts` are what must be known to read it, such as its range in scene units.

    The mask of one ID has the key "mask:NAME".
    """

    key: str
    label: str = ""
    sheet: str = ""
    file: str
    preview: str = ""
    sha256: str
    space: str = "linear"
    facts: dict[str, Any] = {}
    likeness: Likeness | None = None


class SeenFacts(BaseModel):
    """What a viewer sees of the low with its map, and what the best projection on this low would have."""

    bake: AsSeen
    best: AsSeen
    never_seen: float | None = None  # share of the texels that no direction sees, with all parts in place; None alone

    @classmethod
    def of(cls, bake: AsSeen | None, best: AsSeen | None, never_seen: float | None = None) -> "SeenFacts | None":
        """None where nothing of low and sculpt is seen together."""
        return cls(bake=bake, best=best, never_seen=never_seen) if bake and best else None

    @property
    def excess(self) -> float:
        """Degrees that settings can cure: the difference of the two as they are told, in hundredths."""
        return max(round(round(self.bake.mean, 2) - round(self.best.mean, 2), 2), 0.0)


class SheetFacts(BaseModel):
    """One sheet: its size and what its rays found, in texels; coverage is a share from 0 to 1."""

    name: str
    width: int
    height: int
    coverage: float
    texels: int
    missed_texels: int
    shared_texels: int
    pairs: list[str] = []  # those that lie on it
    heat: str = ""  # a picture of the angles as seen (`likeness.stored`), beside the previews
    parallax: str = ""  # the same of what no map cures

    @classmethod
    def unbaked(cls, width: int, height: int, pairs: list[str], name: str = "") -> "SheetFacts":
        """A sheet whose rays are not cast yet, for names and plans."""
        return cls(
            name=name, width=width, height=height, coverage=0, texels=0, missed_texels=0, shared_texels=0, pairs=pairs
        )


class PairFacts(BaseModel):
    """A pair: its parts by role, how its cage mesh was in force (`cage.CageForm`), if it has one, and its likeness.

    seconds were spent on its rays and layers, as far as they were not kept from an earlier bake.
    """

    name: str
    lows: list[str]
    highs: list[str]
    cage_form: Literal["", "points", "surface", "length"] = ""
    cage_words: str = ""
    likeness: Likeness | None = None
    seen: SeenFacts | None = None  # of the pair alone
    seconds: float = 0.0


class Manifest(BaseModel):
    """Settings, hashes and figures of one bake; distances in scene units, shares from 0 to 1, times in seconds."""

    program: str = ""  # that made it, with its version
    recipe: Recipe
    meshes: list[MeshFile]
    maps: list[MapFile]
    sheets: list[SheetFacts] = []
    pairs: list[PairFacts] = []
    alone: list[str] = []
    seen: SeenFacts | None = None  # None where no map holds normals
    coverage_of_sculpt: CoverageFacts | None = None
    flaws: list[Flaw] | None = None  # None where they were not looked for; those that show most
    flaws_found: int | None = None  # all that were found
    harmless: int | None = None  # places that show too little to be told
    accepted: int = 0  # flaws that somebody said are as they should be
    to_mend: float | None = None  # degrees of the mean above the best on this low, parts alone and misses among them
    parallax: float | None = None  # degrees of the mean that no map cures
    coarse: list[Flaw] = []  # where the low needs triangles
    mending: Report | None = None  # what was mended on the way, if all was to be
    brought: str = ""  # how a map that was made elsewhere was read; "" for a bake
    beyond: list[str] = []  # the limits of the recipe that are passed
    sides: dict[str, str] = {}  # lit pictures from four sides (`review.lit_pictures`), beside the previews
    from_afar: dict[int, float] = {}  # how the lit low differs from the sculpt, by pixels high (`review.from_afar`)
    low_triangles: int = 0  # that were baked
    marks: list[list[tuple[float, float, float]]] = []  # where each of the flaws is seen on them (`seen_at`)
    straightened: Straightened | None = None
    diagonal: float
    outward_reach: float
    inward_reach: float
    coverage: float
    texels: int
    missed_texels: int
    shared_texels: int
    warnings: list[str]
    notes: list[str] = []  # what the numbers of this bake cannot say, such as values beyond a range
    seconds: dict[str, float]

    @property
    def can_be_won(self) -> float:
        """Degrees of the mean that mends could win at most: what flaws with mends add to it."""
        return sum(flaw.share for flaw in self.flaws or [] if flaw.mends)

    @property
    def number_of_flaws(self) -> int:
        """How many were found, of which `flaws` are those that show most."""
        return max(self.flaws_found or 0, len(self.flaws or []))

    @classmethod
    def of(
        cls,
        bake: "Bake",
        files: list[MapFile],
        meshes: list[MeshFile],
        seconds: dict[str, float],
    ) -> "Manifest":
        """What is known before anything is judged."""
        diagonal = bake.low.mesh.diagonal
        outward, inward = bake.recipe.reach.in_scene_units(diagonal)
        sheets = _sheets_of(bake)
        paired, forms = bake.assembly.paired, {form.pair: form for form in bake.cage.forms}
        return cls(
            program=f"inkwell-cast {__version__}",
            recipe=bake.assembly.given,
            meshes=meshes,
            maps=files,
            sheets=sheets,
            pairs=[
                PairFacts(
                    name=p.name,
                    lows=[part.key for part in p.lows],
                    highs=[part.key for part in p.giving],
                    cage_form=forms[p.name].form if p.name in forms else "",
                    cage_words=forms[p.name].words if p.name in forms else "",
                    seconds=round(bake.spent_on.get(n, 0.0), 4),
                )
                for n, p in enumerate(paired.pairs)
            ],
            alone=[f"{a.part.key}: {a.reason}" for a in paired.alone],
            low_triangles=len(bake.assembly.low.triangles),
            diagonal=diagonal,
            outward_reach=outward,
            inward_reach=inward,
            coverage=sum(s.texels for s in sheets) / sum(s.width * s.height for s in sheets),
            texels=sum(s.texels for s in sheets),
            missed_texels=sum(s.missed_texels for s in sheets),
            shared_texels=sum(s.shared_texels for s in sheets),
            warnings=bake.warnings,
            notes=notes_on(bake),
            seconds=seconds,
            straightened=bake.cage.straightened,
        )

    def beyond_of(self, limits: dict[str, float]) -> list[str]:
        """A sentence for each of some limits (`settings.limits`) that is passed."""
        if self.seen is None:
            return ["no map of it holds normals to look at"] if limits else []
        return beyond(limits, self.seen.bake.figures(self.seen.excess, self.missed_texels / max(self.texels, 1)))

    @property
    def likeness(self) -> Likeness | None:
        """The rounding of the first map that has one, over all sheets (figures weighed with their texels)."""
        key = next((m.key for m in self.maps if m.likeness), None)
        weights = {s.name: s.texels - s.missed_texels for s in self.sheets}
        rated = [(m.likeness, weights.get(m.sheet, 1)) for m in self.maps if m.key == key and m.likeness]
        total = sum(w for _, w in rated)
        if len(rated) < 2 or not total:
            return rated[0][0] if rated else None
        return Likeness(**{f: sum(getattr(x, f) * w for x, w in rated) / total for f in Likeness.model_fields})


def sha256_of(path: pathlib.Path) -> str:
    """SHA-256 of a file, read in blocks."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _sheets_of(bake: "Bake") -> list[SheetFacts]:
    """What the manifest says of each sheet of a bake."""
    names = [pair.name for pair in bake.assembly.paired.pairs]
    return [
        SheetFacts(
            name=s.name,
            width=s.low.grid.width,
            height=s.low.grid.height,
            texels=s.cast.texels,
            coverage=s.cast.texels / s.cast.covered.size,
            missed_texels=s.missed,
            shared_texels=s.cast.contested,
            pairs=[names[n] for n in bake.pairs_on(s)],
        )
        for s in bake.sheets
    ]
