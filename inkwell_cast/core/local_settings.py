"""What is set for single parts or places, and the mends that are made of it; part of the recipe."""

from typing import Annotated, Literal

from pydantic import Field

from .setting import Part, setting

FixKind = Literal["merge_doubles", "flip_winding", "smooth", "split_at_seams", "into_tile"]
NormalMode = Literal["keep", "smooth", "angle", "seams", "weighted"]
Directions = Literal["averaged", "split"]
Brush = Literal["out", "in", "smooth", "erase", "straighten"]


class Level(Part):
    """Settings of one pair or one object; what is None is inherited. Reach is in the unit of the piece's reach."""

    outward: float | None = Field(default=None, ge=0, le=1e6)
    inward: float | None = Field(default=None, ge=0, le=1e6)
    directions: Directions | None = None
    mode: NormalMode | None = None
    angle: float | None = Field(default=None, ge=0, le=180)

    @property
    def empty(self) -> bool:
        return self == Level()


class Place(Part):
    """Where an object was put by hand; an empty field leaves it to the name."""

    pair: str = Field(default="", max_length=200)
    role: Literal["", "low", "high", "float", "cage", "self"] = ""


class Fix(Part):
    """A harmless correction of one object (all of a file where `part` is empty), made on the piece's copy.

    `near`, scene units, keeps it to the shell of the object that lies nearest to that place.
    """

    kind: FixKind
    part: str = ""
    near: tuple[float, float, float] | None = None


class Pocket(Part):
    """A ball in space with reaches of its own and a soft rim; radius, rim and reach are in the unit of the reach."""

    name: Annotated[str, setting("Name", "What the list calls it.", max_length=80)] = "Pocket"
    centre: Annotated[tuple[float, float, float], setting("Centre", "Where the ball lies, x y z.", "scene units")] = (
        0.0,
        0.0,
        0.0,
    )
    radius: Annotated[float, setting("Radius", "How far it reaches.", "reach", gt=0, le=1e6)] = 5.0
    outward: Annotated[
        float, setting("Outward", "Rays on the low in the ball start this far out.", "reach", ge=0, le=1e6)
    ] = 1.5
    inward: Annotated[
        float, setting("Inward", "Rays on the low in the ball end this far below.", "reach", ge=0, le=1e6)
    ] = 1.5
    rim: Annotated[float, setting("Rim", "The share of the radius over which it fades out.", "", ge=0, le=1)] = 0.4


class Stroke(Part):
    """A nudge of the cage: one stroke of the brush, kept in space. Lengths are in scene units."""

    kind: Annotated[
        Brush,
        setting(
            "Brush",
            "Out and in move the cage away from the low or toward it; smooth draws it to its mean reach around the "
            "brush; erase takes back earlier strokes; straighten turns rays to the face they leave from.",
        ),
    ] = "out"
    points: Annotated[
        list[tuple[float, float, float]],
        setting("Points", "Where the brush went.", "scene units", min_length=1, max_length=2000),
    ]
    radius: Annotated[float, setting("Size", "How far the brush reaches.", "reach", gt=0, le=1e6)]
    amount: Annotated[
        float,
        setting("Strength", "How far out or in the cage moves under the brush; else a share.", ge=0, le=1e6),
    ]
    falloff: Annotated[float, setting("Falloff", "The share of the size over which it fades out.", "", ge=0, le=1)] = (
        0.8
    )
    mirror: Annotated[
        Literal["none", "x", "y", "z"],
        setting("Mirror", "Does the same on the other side of the scene's middle plane."),
    ] = "none"


class Omission(Part):
    """A high that rays from the low inside a ball pass through; `part` is FILE/OBJECT."""

    part: Annotated[str, setting("High", "What is left out.", max_length=400)]
    centre: Annotated[tuple[float, float, float], setting("Centre", "Where the ball lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches.", "scene units", gt=0, le=1e9)]


class Patch(Part):
    """A ball on the low that is taken from a bake with another reach or directions; None keeps the piece's own."""

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where the ball lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches.", "scene units", gt=0, le=1e9)]
    rim: Annotated[float, setting("Rim", "The share of the radius over which it blends.", "", ge=0, le=1)] = 0.4
    directions: Directions | None = None
    outward: float | None = Field(default=None, ge=0, le=1e6, description="In the unit of the reach.")
    inward: float | None = Field(default=None, ge=0, le=1e6, description="In the unit of the reach.")


class Crease(Part):
    """Corners of the low inside a ball whose rays part at bends, or are averaged, whatever the piece's directions."""

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where the ball lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "Corners inside.", "scene units", gt=0, le=1e9)]
    directions: Directions


class Heal(Part):
    """A ball on the low that is filled in from its rim, evenly over the surface."""

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where the ball lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches.", "scene units", gt=0, le=1e9)]


class Mend(Part):
    """What cures a flaw: settings that are laid over the recipe while it is on, and can be taken off again."""

    name: str = Field(default="", max_length=120)
    words: str = Field(default="", max_length=300, description="What it does, for the list and the button.")
    cause: str = Field(default="", max_length=40, description="The flaw it was made for.")
    on: bool = True
    pockets: list[Pocket] = Field(default_factory=list)
    nudges: list[Stroke] = Field(default_factory=list)
    omissions: list[Omission] = Field(default_factory=list)
    creases: list[Crease] = Field(default_factory=list)
    patches: list[Patch] = Field(default_factory=list)
    heals: list[Heal] = Field(default_factory=list)
    fixes: dict[str, list[Fix]] = Field(default_factory=dict, description="By file.")
    placed: dict[str, Place] = Field(default_factory=dict, description="By object.")
    levels: dict[str, Level] = Field(default_factory=dict, description="By scope.")
    occluders: Literal["", "pair", "pair x low"] = ""
    together: bool = False
    straighten: bool = False
