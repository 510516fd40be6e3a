"""All that a user can set, once: default, range, unit and reason. Forms, command line and docs are made from here."""

from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from .handoff_settings import DEPTHS, Form, Handoff, MapKey
from .library import Library
from .local_settings import (
    Crease,
    Directions,
    Fix,
    Heal,
    Level,
    Mend,
    NormalMode,
    Omission,
    Patch,
    Place,
    Pocket,
    Stroke,
)
from .map_settings import (
    Cavity,
    Curvature,
    Displacement,
    Height,
    Ids,
    Occlusion,
    SheetOcclusion,
    Subdivision,
    Thickness,
)
from .setting import Part, Unit, scene_units, setting

__all__ = ["DEPTHS", "MapKey"]

LARGEST_SIDE, PROOF_SIDE, PROOF_RAYS = 16384, 512, 16

# settings that no ray heeds
RAYLESS = {
    "basis", "output", "occlusion", "sheet_occlusion", "curvature", "cavity", "height",
    "displacement", "thickness", "ids", "patches", "heals", "handoff", "library",
}  # fmt: skip

LENGTHS = {"occlusion": "distance", "curvature": "radius", "thickness": "limit"}  # in the unit of their own group
Role = Literal["low", "high", "float", "cage", "self"]


class Reach(Part):
    """How far a ray may travel from the surface of the low."""

    unit: Annotated[
        Literal["percent", "scene"],
        setting("Given in", "Per cent of the low's diagonal fits any model; scene units are exact."),
    ] = "percent"
    outward: Annotated[
        float,
        setting(
            "Outward",
            "Rays start this far out. Smaller leaves holes, larger picks up neighbours.",
            "reach",
            ge=0,
            le=1e6,
        ),
    ] = 1.5
    inward: Annotated[
        float,
        setting(
            "Inward", "Rays end this far below the low. It should just pass the deepest groove.", "reach", ge=0, le=1e6
        ),
    ] = 1.5

    directions: Annotated[
        Directions,
        setting(
            "Directions",
            "Averaged rays leave no gap at hard edges but lean near them; split rays keep to each face's own normal "
            "and leave gaps beyond hard edges.",
        ),
    ] = "averaged"
    straighten: Annotated[
        bool,
        setting(
            "Straighten flat faces",
            "Away from bends, rays leave flat faces at right angles; what stands off them is not drawn leaning.",
        ),
    ] = False
    bend: Annotated[
        float,
        setting("Turn within", "From a bend up to here rays turn from averaged to straight.", "margin", gt=0, le=1e6),
    ] = 3.0

    shape: Annotated[
        Literal["even", "fitted"],
        setting(
            "Shape",
            "Even: rays start at the outward reach everywhere. Fitted: each vertex of the low starts them just beyond "
            "the sculpt, as near as a smooth cage can.",
        ),
    ] = "even"
    clearance: Annotated[
        float,
        setting("Clearance", "How far beyond the sculpt a fitted cage stays.", "margin", ge=0, le=1e6),
    ] = 0.05
    margin_unit: Annotated[
        Unit,
        setting("Clearance and turn in", "Per cent of the low's diagonal fits any model; scene units are exact."),
    ] = "percent"

    def in_scene_units(self, diagonal: float) -> tuple[float, float]:
        """Outward and inward reach in the file's units, for a low of that diagonal."""
        return self.outward * self.scale(diagonal), self.inward * self.scale(diagonal)

    def scale(self, diagonal: float) -> float:
        """Scene units in one of the unit that reach is given in, for a low of that diagonal."""
        return scene_units(self.unit, diagonal)

    def margin_scale(self, diagonal: float) -> float:
        """Scene units in one of the unit of clearance and turn."""
        return scene_units(self.margin_unit, diagonal)


class Normals(Part):
    """Where the low's own normals come from."""

    mode: Annotated[
        NormalMode,
        setting(
            "Normals of the low",
            "Keep those of the file; or compute them anew: smooth everywhere, split where faces meet at more than the "
            "angle, split at UV seams, or weighted by face area so that large faces stay flat (split by the angle).",
        ),
    ] = "keep"
    angle: Annotated[
        float, setting("Angle", "Edges between faces that lean apart by more than this are hard.", "°", ge=0, le=180)
    ] = 30.0


class Pairing(Part):
    """Which highs a low receives from: by name, changed by hand."""

    low: Annotated[str, setting("Low", "What ends the name of a low.", min_length=1, max_length=40)] = "_low"
    high: Annotated[
        str, setting("High", "What a high's name has; anything may follow.", min_length=1, max_length=40)
    ] = "_high"
    cage: Annotated[str, setting("Cage", "What ends the name of a cage.", min_length=1, max_length=40)] = "_cage"
    float: Annotated[
        str,
        setting("Floater", "What a floating detail's name has; anything may follow.", min_length=1, max_length=40),
    ] = "_float"
    together: Annotated[bool, setting("One pair", "Every low receives from every high, whatever the names.")] = False
    placed: dict[str, Place] = Field(default_factory=dict, description="By hand, by object (file/object).")


class FileSettings(Part):
    """How one mesh file is taken: its role, its axes and place, and the fixes made to the piece's copy of it."""

    role: Literal["", "low", "high", "float", "cage", "self"] = ""
    turn: Annotated[
        str,
        setting(
            "Up axis",
            "Turn the file's Z up into Y up (z_to_y), or Y up into Z up (y_to_z), or say what the new axes are made "
            "of, such as +x+z-y; as it is by default.",
            pattern=r"^(none|z_to_y|y_to_z|([+-][xyz]){3})$",
        ),
    ] = "none"
    colors: Annotated[
        Literal["auto", "srgb", "linear"],
        setting(
            "Vertex colours",
            "What their numbers are: display values (sRGB), linear light, or what the format says: glTF and USD have "
            "light, the others display values.",
        ),
    ] = "auto"
    scale: float = Field(default=1.0, gt=0, le=1e9, description="Factor on every position, before the move.")
    move: tuple[float, float, float] = Field(default=(0.0, 0.0, 0.0), description="Scene units.")
    fixes: list[Fix] = Field(default_factory=list)

    @field_validator("turn")
    @classmethod
    def _three_axes(cls, turn: str) -> str:
        if turn[0] in "+-" and len({turn[1], turn[3], turn[5]}) < 3:
            raise ValueError(f"{turn} names an axis twice")
        return turn


class Size(Part):
    """Width and height of one sheet of several, in texels."""

    width: int = Field(default=2048, ge=16, le=LARGEST_SIDE)
    height: int = Field(default=2048, ge=16, le=LARGEST_SIDE)


class Sheet(Part):
    """The output texture space."""

    width: Annotated[int, setting("Width", "Texels from left to right.", "texels", ge=16, le=LARGEST_SIDE)] = 2048
    height: Annotated[int, setting("Height", "Texels from top to bottom.", "texels", ge=16, le=LARGEST_SIDE)] = 2048
    samples: Annotated[
        Literal[1, 4, 16, 64],
        setting("Samples", "Rays in each texel; more give smoother edges and take longer.", "a texel"),
    ] = 16
    adaptive: Annotated[
        bool,
        setting("Adaptive", "Takes four samples, and all of them only where those differ in object, normal or depth."),
    ] = True
    padding: Annotated[
        Annotated[int, Field(ge=0, le=1024)] | Literal["auto", "fill"],
        setting(
            "Padding",
            "How far colours run past an island's border, so that smaller copies of the map show no seam: a number "
            "of texels, auto (one for every 128 of the width) or fill (everything).",
            "texels",
        ),
    ] = "auto"

    channel: Annotated[int, setting("UV channel", "Which UVs of the low the sheet is laid out by.", ge=0, le=7)] = 0
    split: Annotated[
        Literal["one", "material", "tile"],
        setting(
            "Sheets",
            "One for everything (UVs beyond the tile wrap around), one for each material of the low, or one for each "
            "UV tile, numbered from 1001.",
        ),
    ] = "one"

    def padding_texels(self, width: int, height: int) -> int:
        """Padding of a sheet as a number; filling everything is the longest way across it."""
        if self.padding == "fill":
            return width + height
        return max(1, width // 128) if self.padding == "auto" else self.padding


class Basis(Part):
    """How tangent-space normals are stored. All of it can be changed after a bake without new rays."""

    green: Annotated[
        Literal["up", "down"],
        setting("Green", "Which way a bright green leans: up the sheet, or down. It must match the receiving shader."),
    ] = "up"
    tangents: Annotated[
        Literal["mikktspace", "file"],
        setting(
            "Tangents", "MikkTSpace on the triangles as baked, which most receivers make too; or those of the file."
        ),
    ] = "mikktspace"
    bitangent: Annotated[
        Literal["texel", "vertex"],
        setting("Bitangent", "Made at each texel from the interpolated normal and tangent, or at the low's vertices."),
    ] = "texel"
    lengths: Annotated[
        Literal["interpolated", "unit"],
        setting("Lengths", "Normal, tangent and bitangent as interpolated, or each made 1 long at the texel."),
    ] = "interpolated"
    hand: Annotated[
        Literal["right", "left"],
        setting("Hand", "Whether the bitangent is N × T, or its opposite in a left-handed basis."),
    ] = "right"
    dither: Annotated[
        bool, setting("Dither", "Spreads the rounding of 8-bit normals, so that gentle slopes show no steps.")
    ] = False


class Output(Form):
    """What is written: format and depth of all maps, where none of their own are set."""

    maps: Annotated[
        list[MapKey],
        setting("Maps", "All maps of one bake come from the same rays and line up to the texel.", min_length=1),
    ] = ["normal"]  # noqa: RUF012 (pydantic copies it)
    own: Annotated[
        dict[MapKey, Form],
        setting("Own forms", "Format and depth of single maps, by map; the others have those of all."),
    ] = Field(default_factory=dict)

    def form_of(self, key: str) -> Form:
        """Format and depth of a map, or of what lies beside it ("mask:NAME"): its own, else those of all."""
        name = "ids" if key.startswith("mask:") else key
        return next((form for own, form in self.own.items() if own == name), self)


class Recipe(Part):
    """Everything a bake needs besides the meshes."""

    reach: Reach = Reach()
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
    ids: Ids = Ids()
    output: Output = Output()
    library: Library = Library()
    handoff: Handoff = Handoff()
    pairing: Pairing = Pairing()
    levels: dict[str, Level] = Field(default_factory=dict, description="By scope: pair:NAME or object:FILE/OBJECT.")
    omissions: list[Omission] = Field(default_factory=list, description="Highs left out, by place.")
    creases: list[Crease] = Field(default_factory=list, description="Where rays part or are averaged, by place.")
    patches: list[Patch] = Field(default_factory=list, description="Places taken from a bake with other settings.")
    heals: list[Heal] = Field(default_factory=list, description="Places filled in from their rim.")
    mends: list[Mend] = Field(
        default_factory=list, max_length=200, description="What cures flaws, laid over the rest while it is on."
    )
    files: dict[str, FileSettings] = Field(default_factory=dict, description="By file name.")
    pockets: list[Pocket] = Field(default_factory=list, description="Where reach differs, by place.")
    straight_picture: str = Field(
        default="", max_length=6_000_000,
        description="A grey PNG in base64, laid by the low's UVs: white turns rays wholly to their faces.",
    )  # fmt: skip
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
            own = given.get(group)
            if isinstance(own, dict) and LENGTHS[group] in own:
                given[group] = {"unit": "scene"} | own
        return given

    def size_of(self, sheet: str) -> tuple[int, int]:
        """Width and height of a sheet in texels: its own, else those of all."""
        own = self.sizes.get(sheet)
        return (own.width, own.height) if own else (self.sheet.width, self.sheet.height)

    def file(self, name: str) -> FileSettings:
        return self.files.get(name, FileSettings())

    def proof(self) -> "Recipe":
        """The same bake, small and quick: at most 512 texels on the long side of a sheet, 4 samples and 16 rays."""
        shrink, width, height = _shrunk(self.sheet.width, self.sheet.height)
        samples: Literal[1, 4] = 1 if self.sheet.samples == 1 else 4
        padding = self.sheet.padding
        if isinstance(padding, int):
            padding = round(padding * shrink)
        sheet = self.sheet.model_copy(update={"width": width, "height": height, "samples": samples, "padding": padding})
        sizes = {
            name: Size(width=w, height=h) for name, s in self.sizes.items() for _, w, h in [_shrunk(s.width, s.height)]
        }
        few = {"rays": min(self.occlusion.rays, PROOF_RAYS)}
        return self.model_copy(
            update={
                "sheet": sheet, "sizes": sizes, "occlusion": self.occlusion.model_copy(update=few),
                "thickness": self.thickness.model_copy(update={"rays": min(self.thickness.rays, PROOF_RAYS)}),
            }
        )  # fmt: skip


def _shrunk(width: int, height: int) -> tuple[float, int, int]:
    shrink = min(1.0, PROOF_SIDE / max(width, height))
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
    return {name: f"{values[name]!r} cannot be used: {', or '.join(words)}" for name, words in said.items()}
