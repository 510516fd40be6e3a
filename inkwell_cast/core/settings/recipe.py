"""All that a user can set, once: default, range, unit and reason. Forms, command line and docs are made from here."""

from typing import Any, Literal

from pydantic import Field, ValidationError, model_validator

from ..base.setting import COUNTS_RAYS, SettingsGroup
from .basis import Basis
from .files import FileSettings
from .handoff import Handoff
from .limits import HeldTo, Limits
from .low_normals import Normals
from .maps import (
    Cavity,
    Curvature,
    Decals,
    Directional,
    Displacement,
    Emission,
    Glow,
    Height,
    Ids,
    Light,
    Occlusion,
    Rounded,
    SheetOcclusion,
    Subdivision,
    Thickness,
)
from .material_library import Library
from .mends import Mend
from .output import Output
from .pairing import Pairing
from .reach import Reach
from .regions import Accepted, Crease, Heal, Omission, Patch, Pocket, Stroke
from .scope_settings import ScopeSettings
from .sheet import Sheet, Size
from .world import World

PROOF_SIDE, PROOF_RAYS = 512, 16
MOST_SHOWN = 80  # characters of a value that is refused
LENGTHS = {  # in the unit of their own group
    "occlusion": "distance",
    "curvature": "radius",
    "thickness": "limit",
    "glow": "distance",
    "rounded": "radius",
}


class Recipe(SettingsGroup):
    """Everything a bake needs besides the meshes."""

    reach: Reach = Reach()
    world: World = World()
    normals: Normals = Normals()
    subdivision: Subdivision = Subdivision()
    sheet: Sheet = Sheet()
    sizes: dict[str, Size] = Field(default_factory=dict, description="Sizes of single sheets, by their name.")
    basis: Basis = Basis()
    occlusion: Occlusion = Occlusion()
    sheet_occlusion: SheetOcclusion = SheetOcclusion()
    curvature: Curvature = Curvature()
    cavity: Cavity = Cavity()
    height: Height = Height()
    displacement: Displacement = Displacement()
    thickness: Thickness = Thickness()
    emission: Emission = Emission()
    glow: Glow = Glow()
    light: Light = Light()
    directional: Directional = Directional()
    rounded: Rounded = Rounded()
    decals: Decals = Decals()
    ids: Ids = Ids()
    output: Output = Output()
    library: Library = Library()
    handoff: Handoff = Handoff()
    limits: Limits = Limits()
    pairing: Pairing = Pairing()
    levels: dict[str, ScopeSettings] = Field(
        default_factory=dict, description="By scope: pair:NAME or object:FILE/OBJECT."
    )
    omissions: list[Omission] = Field(default_factory=list, description="Highs left out, by place.")
    creases: list[Crease] = Field(default_factory=list, description="Where rays part or are averaged, by place.")
    patches: list[Patch] = Field(default_factory=list, description="Places taken from a bake with other settings.")
    heals: list[Heal] = Field(default_factory=list, description="Places filled in from their rim.")
    accepted: list[Accepted] = Field(
        default_factory=list, max_length=1000, description="Flaws that are as they should be, by place."
    )
    mends: list[Mend] = Field(
        default_factory=list, max_length=200, description="What cures flaws, laid over the rest while it is on."
    )
    files: dict[str, FileSettings] = Field(default_factory=dict, description="By file name.")
    pockets: list[Pocket] = Field(default_factory=list, description="Where reach differs, by place.")
    straight_picture: str = Field(
        default="",
        max_length=6_000_000,
        description="A grey PNG in base64, laid by the low's UVs: white turns rays wholly to their faces.",
    )
    carried_panorama: str = Field(
        default="",
        max_length=8_000_000,
        description="The light's panorama where a piece was carried here: its path, and in the next line the picture.",
    )
    nudges: list[Stroke] = Field(
        default_factory=list, max_length=1000, description="Strokes on the cage, in the order in which they were drawn."
    )

    @model_validator(mode="before")
    @classmethod
    def _with_units(cls, given: Any) -> Any:
        """Recipes that were written when every length was in the unit of the reach say the same as then."""
        reach = given.get("reach") if isinstance(given, dict) else None
        if not isinstance(reach, dict) or reach.get("unit") != "scene":
            return given
        given = dict(given)
        if any(name in reach for name in ("clearance", "bend")):
            given["reach"] = {"margin_unit": "scene"} | reach
        for group in LENGTHS:
            values = given.get(group)
            if isinstance(values, dict) and LENGTHS[group] in values:
                given[group] = {"unit": "scene"} | values
        return given

    def size_of(self, sheet: str) -> tuple[int, int]:
        """Width and height of a sheet in texels: its own, else those of all."""
        size = self.sizes.get(sheet)
        return (size.width, size.height) if size else (self.sheet.width, self.sheet.height)

    def file(self, name: str) -> FileSettings:
        return self.files.get(name, FileSettings())

    def proof(self) -> "Recipe":
        """These settings for a small bake: at most 512 texels on the long side of a sheet, 4 samples and 16 rays."""
        few = {which: min(rays, PROOF_RAYS) for which, rays in self.rays.items()}
        judged = self.limits.model_copy(update={"judge": "full"})  # it is there to be judged
        return self.at_most(PROOF_SIDE).with_rays(few).model_copy(update={"limits": judged})

    def at_most(self, side: int) -> "Recipe":
        """These settings on sheets of at most `side` texels on the long side, with 4 samples a texel."""
        shrink, width, height = _shrunk(self.sheet.width, self.sheet.height, side)
        samples: Literal[1, 4] = 1 if self.sheet.samples == 1 else 4
        padding = self.sheet.padding
        if isinstance(padding, int):
            padding = round(padding * shrink)
        sheet = self.sheet.model_copy(update={"width": width, "height": height, "samples": samples, "padding": padding})
        sizes = {
            name: Size(width=w, height=h)
            for name, s in self.sizes.items()
            for _, w, h in [_shrunk(s.width, s.height, side)]
        }
        return self.model_copy(update={"sheet": sheet, "sizes": sizes})

    def with_plain_rays(self, reach: float) -> "Recipe":
        """These settings with one reach in per cent, and nothing that rays or what they found is mended by."""
        plain = {"outward": None, "inward": None, "directions": None}
        levels = {scope: level.model_copy(update=plain) for scope, level in self.levels.items()}
        changed: dict[str, Any] = {
            "reach": Reach(outward=reach, inward=reach),
            "levels": levels,
            "straight_picture": "",
        }
        changed |= {name: [] for name in ("pockets", "nudges", "omissions", "creases", "patches", "heals")}
        return self.model_copy(update=changed)

    def with_maps(self, *keys: str) -> "Recipe":
        """These settings with other maps."""
        return self.model_copy(update={"output": self.output.model_copy(update={"maps": list(keys)})})

    @property
    def rays(self) -> dict[tuple[str, str], int]:
        """Every setting that counts rays, by group and name."""
        groups = {name: getattr(self, name) for name in type(self).model_fields}
        return {
            (group, name): getattr(values, name)
            for group, values in groups.items()
            if isinstance(values, SettingsGroup)
            for name, field in type(values).model_fields.items()
            if COUNTS_RAYS in field.metadata
        }

    def with_rays(self, rays: dict[tuple[str, str], int]) -> "Recipe":
        """These settings with other numbers of rays, by group and name."""
        groups = {group: getattr(self, group).model_copy(update={name: n}) for (group, name), n in rays.items()}
        return self.model_copy(update=groups)

    def as_large_as(self, other: "Recipe") -> "Recipe":
        """These settings with the sizes of sheets and the numbers of rays of another recipe."""
        sizes = {"sheet": other.sheet, "sizes": other.sizes}
        return self.model_copy(update=sizes).with_rays(other.rays)

    def held_to(self, held: HeldTo) -> "Recipe":
        """These settings with what a batch holds its pieces to. Raises InputProblem."""
        return self.model_copy(update={"limits": held.over(self.limits)})


def _shrunk(width: int, height: int, side: int) -> tuple[float, int, int]:
    shrink = min(1.0, side / max(width, height))
    return shrink, max(16, round(width * shrink)), max(16, round(height * shrink))


def refusals(problem: ValidationError) -> dict[str, str]:
    """What was refused, by setting ("sheet.width"): the value and why, in words."""
    said: dict[str, list[str]] = {}
    for error in problem.errors():
        name = ".".join(str(part) for part in error["loc"][:2])
        if error["type"] == "value_error":  # of the whole group, in words of our own
            return {name: str(error["ctx"]["error"])}
        said.setdefault(name, []).append(error["msg"][:1].lower() + error["msg"][1:])
    values = {".".join(str(part) for part in e["loc"][:2]): e["input"] for e in problem.errors()}
    return {name: f"{_shown(values[name])} cannot be used: {', or '.join(words)}" for name, words in said.items()}


def _shown(value: Any) -> str:
    """A value as it was given, or its beginning where it is long."""
    text = repr(value)
    return text if len(text) <= MOST_SHOWN else f"{text[:MOST_SHOWN]}…"


def refused_words(error: ValidationError) -> str:
    """What was refused, each setting with its value and why, in one line."""
    return "; ".join(f"{name or 'recipe'}: {words}" for name, words in refusals(error).items())
