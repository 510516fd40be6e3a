"""What is set for single places of a piece: pockets, brush strokes, omissions, patches, creases, heals."""

from typing import Annotated, Literal

from pydantic import Field

from ..base.setting import SettingsGroup, setting

Directions = Literal["averaged", "split"]
Brush = Literal["out", "in", "smooth", "erase", "straighten"]


class Pocket(SettingsGroup):
    """A patch of the low with reaches of its own and a soft rim; radius and reaches are in the unit of the reach.

    Like every patch here it grows along the surface from the place of the low nearest to its centre, so what only lies
    near is not in it.
    """

    name: Annotated[str, setting("Name", "What the list calls it.", max_length=80)] = "Pocket"
    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")] = (
        0.0,
        0.0,
        0.0,
    )
    radius: Annotated[float, setting("Radius", "How far it reaches along the surface.", "reach", gt=0, le=1e6)] = 5.0
    outward: Annotated[float, setting("Outward", "Rays of the patch start this far out.", "reach", ge=0, le=1e6)] = 1.5
    inward: Annotated[float, setting("Inward", "Rays of the patch end this far below.", "reach", ge=0, le=1e6)] = 1.5
    rim: Annotated[float, setting("Rim", "The share of the radius over which it fades out.", "", ge=0, le=1)] = 0.4


class Stroke(SettingsGroup):
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


class Omission(SettingsGroup):
    """A high that rays from a patch of the low pass through; `part` is FILE/OBJECT."""

    part: Annotated[str, setting("High", "What is left out.", max_length=400)]
    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches along the surface.", "scene units", gt=0, le=1e9)]


class Patch(SettingsGroup):
    """A patch of the low that is taken from a bake with another reach or directions; None keeps the piece's own.

    With `nearest`, of all surfaces that its rays pass, the one nearest to the low counts and not the first.
    """

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches along the surface.", "scene units", gt=0, le=1e9)]
    rim: Annotated[float, setting("Rim", "The share of the radius over which it blends.", "", ge=0, le=1)] = 0.4
    directions: Directions | None = None
    outward: float | None = Field(default=None, ge=0, le=1e6, description="In the unit of the reach.")
    inward: float | None = Field(default=None, ge=0, le=1e6, description="In the unit of the reach.")
    nearest: bool = False


class Crease(SettingsGroup):
    """Corners of a patch of the low whose rays part at bends, or are averaged, whatever the piece's directions."""

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "Corners within it along the surface.", "scene units", gt=0, le=1e9)]
    directions: Directions


class Accepted(SettingsGroup):
    """A patch of the low in which a flaw of one cause is as it should be: it is not told again."""

    cause: Annotated[str, setting("Cause", "The key of the flaw.", max_length=40)]
    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches along the surface.", "scene units", gt=0, le=1e9)]


class Heal(SettingsGroup):
    """A patch of the low that is filled in from its rim, evenly over the surface."""

    centre: Annotated[tuple[float, float, float], setting("Centre", "Where it lies, x y z.", "scene units")]
    radius: Annotated[float, setting("Radius", "How far it reaches along the surface.", "scene units", gt=0, le=1e9)]
