"""Receivers: what maps are for, as a saved description that is laid over the settings of any piece."""

import json
import pathlib
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from ..base.errors import InputProblem
from ..base.setting import SettingsGroup, setting
from .basis import Basis
from .handoff import Handoff, Pack, Well
from .maps import Subdivision
from .output import Form, Output
from .recipe import Recipe
from .sheet import LARGEST_SIDE

VERSION = 1


class SheetForm(SettingsGroup):
    """What a receiver wants of every sheet; None leaves what the piece has."""

    width: int | None = Field(default=None, ge=16, le=LARGEST_SIDE, description="Texels.")
    height: int | None = Field(default=None, ge=16, le=LARGEST_SIDE, description="Texels.")
    padding: Annotated[int, Field(ge=0, le=1024)] | Literal["auto", "fill"] | None = Field(
        default=None, description="Texels, auto or fill."
    )


class Receiver(SettingsGroup):
    """Basis, maps with format and depth, sheets, names and packing; a file of it is JSON with this schema."""

    kind: Literal["inkwell-cast receiver"] = "inkwell-cast receiver"
    version: Literal[1] = 1
    name: Annotated[str, setting("Name", "What the list calls it.", min_length=1, max_length=80)]
    does: str = Field(default="", max_length=300, description="What it is for, in a sentence.")
    basis: Basis = Basis()
    output: Output = Output()
    sheet: SheetForm = SheetForm()
    handoff: Handoff = Handoff()
    subdivision: Subdivision | None = Field(
        default=None, description="How a low is subdivided that has no subdivision of its own; none leaves it."
    )

    @classmethod
    def of(cls, recipe: Recipe, name: str, does: str = "", sizes: bool = True) -> "Receiver":
        """What a piece is set to, as a receiver; `sizes` takes its sheets' size too."""
        sheet = recipe.sheet
        sheet_form = SheetForm(padding=sheet.padding)
        if sizes:
            sheet_form = SheetForm(width=sheet.width, height=sheet.height, padding=sheet.padding)
        output, handoff = recipe.output, recipe.handoff
        return cls(name=name, does=does, basis=recipe.basis, output=output, sheet=sheet_form, handoff=handoff)

    def laid_over(self, recipe: Recipe) -> Recipe:
        """The recipe with what this receiver wants; a size that it wants holds for every sheet."""
        wanted = self.sheet.model_dump(exclude_none=True)
        sheet = type(recipe.sheet).model_validate(recipe.sheet.model_dump() | wanted)
        sizes = {} if {"width", "height"} & set(wanted) else recipe.sizes
        wanted = {"basis": self.basis, "output": self.output, "sheet": sheet, "sizes": sizes, "handoff": self.handoff}
        if self.subdivision and recipe.subdivision.scheme == "none":
            wanted["subdivision"] = self.subdivision
        return recipe.model_copy(update=wanted)

    def fits(self, recipe: Recipe) -> bool:
        """Whether a piece is set as this receiver wants it."""
        return self.laid_over(recipe) == recipe

    def portable(self) -> str:
        """A file of it."""
        return self.model_dump_json(indent=2) + "\n"


def read_receiver(text: str | bytes, name: str) -> Receiver:
    """A receiver from JSON; `name` is what messages call the file. Raises InputProblem."""
    try:
        given = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise InputProblem(name, f"It is no JSON ({error}).", "Export the receiver again.") from None
    if not isinstance(given, dict) or given.get("kind") != Receiver.model_fields["kind"].default:
        raise InputProblem(name, "It is no receiver.", "Export one from the step Handoff.")
    if given.get("version") != VERSION:
        raise InputProblem(
            name,
            f"It is a receiver of version {given.get('version')!r}; this program knows {VERSION}.",
            "Install the newer program, or export it from an older one.",
        )
    try:
        return Receiver.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise InputProblem(
            name,
            f"Its {place} cannot be used: {first['msg'].lower()} ({first.get('input')!r}).",
            "Mend it by docs/schemas/receiver.json, or export it again.",
        ) from None


def find_receiver(given: str) -> Receiver:
    """A ready receiver by its name, or the first whose name is that up to a comma, or one from a JSON file.

    Raises InputProblem.
    """
    wanted = given.strip().lower()
    for called in (lambda name: name, lambda name: name.partition(",")[0]):
        ready = next((receiver for receiver in READY if called(receiver.name.lower()) == wanted), None)
        if ready:
            return ready
    path = pathlib.Path(given)
    try:
        return read_receiver(path.read_bytes(), path.name)
    except OSError:
        names = ", ".join(f"“{receiver.name}”" for receiver in READY)
        raise InputProblem(
            given, "There is no receiver of this name, and no such file.", f"Choose one of {names}, or a JSON file."
        ) from None


def schema() -> dict[str, Any]:
    """The JSON schema of a receiver's file (docs/schemas/receiver.json)."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Receiver.model_json_schema()}


_MASKS = Pack(
    name="masks",
    red=Well(map="occlusion"),
    green=Well(map="cavity", invert=True),
    blue=Well(map="thickness"),
)

READY = (
    Receiver(
        name="Green up, bitangent per texel",
        does="Normal with green up and occlusion, 8-bit PNG. The bitangent is made at each texel.",
        output=Output(maps=["normal", "occlusion"]),
    ),
    Receiver(
        name="Green up, bitangent per vertex",
        does="As above for shaders that make the bitangent at the vertices and each of the three one long.",
        basis=Basis(bitangent="vertex", lengths="unit"),
        output=Output(maps=["normal", "occlusion"]),
    ),
    Receiver(
        name="Green down",
        does="Normal with green down and occlusion, 8-bit TGA.",
        basis=Basis(green="down"),
        output=Output(maps=["normal", "occlusion"], format="tga"),
    ),
    Receiver(
        name="Packed masks",
        does="Normal with green up; occlusion, cavity turned over and thickness in one picture's red, green and blue.",
        output=Output(maps=["normal", "occlusion", "cavity", "thickness"]),
        handoff=Handoff(packs=[_MASKS], loose=False),
    ),
    Receiver(
        name="Object space",
        does="Object-space normal in 16 bits, for things that do not bend; needs no tangents.",
        output=Output(maps=["normal_object", "occlusion"], depth=16, own={"occlusion": Form()}),
    ),
    Receiver(
        name="Texturing set",
        does="All that texturing starts from: normal in 16 bits, occlusion, curvature, thickness, position, IDs.",
        output=Output(
            maps=["normal", "normal_object", "occlusion", "curvature", "thickness", "position", "ids"],
            depth=16,
            own={"occlusion": Form(), "ids": Form()},
        ),
    ),
    Receiver(
        name="Film displacement in float",
        does="Displacement in scene units as float OpenEXR, and the fine normals over it in 16 bits; names by UV tile.",
        output=Output(maps=["displacement", "normal"], depth=16, own={"displacement": Form(format="exr", depth=32)}),
        sheet=SheetForm(padding="fill"),
        handoff=Handoff(pattern="{piece}_{map}.{tile}"),
        subdivision=Subdivision(scheme="loop"),
    ),
)
