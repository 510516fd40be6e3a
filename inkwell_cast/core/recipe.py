"""All that a user can set, once: default, range, unit and reason. Forms, command line and docs are made from here."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

PROOF_SIDE = 512

MapKey = Literal["normal", "normal_object"]


def setting(title: str, reason: str, unit: str = "", **limits: Any) -> Any:
    """A Pydantic field with what the interface shows beside it."""
    return Field(title=title, description=reason, json_schema_extra={"unit": unit}, **limits)


class Part(BaseModel):
    """A group of settings; unknown names are refused so that a typing error is seen."""

    model_config = ConfigDict(extra="forbid", validate_assignment=True)


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

    def in_scene_units(self, diagonal: float) -> tuple[float, float]:
        """Outward and inward reach in the file's units, for a low of that diagonal."""
        scale = diagonal / 100 if self.unit == "percent" else 1.0
        return self.outward * scale, self.inward * scale


class Sheet(Part):
    """The output texture space."""

    width: Annotated[int, setting("Width", "Texels from left to right.", "texels", ge=16, le=8192)] = 2048
    height: Annotated[int, setting("Height", "Texels from top to bottom.", "texels", ge=16, le=8192)] = 2048
    samples: Annotated[
        Literal[1, 4, 16],
        setting("Samples", "Rays in each texel; more give smoother edges and take longer.", "a texel"),
    ] = 4
    padding: Annotated[
        Annotated[int, Field(ge=0, le=1024)] | Literal["auto", "fill"],
        setting(
            "Padding",
            "How far colours run past an island's border, so that smaller copies of the map show no seam: a number "
            "of texels, auto (one for every 128 of the width) or fill (everything).",
            "texels",
        ),
    ] = "auto"

    @property
    def padding_texels(self) -> int:
        """Padding as a number; filling everything is the longest way across the sheet."""
        if self.padding == "fill":
            return self.width + self.height
        return max(1, self.width // 128) if self.padding == "auto" else self.padding


class Basis(Part):
    """How tangent-space normals are stored."""

    green: Annotated[
        Literal["up", "down"],
        setting("Green", "Which way a bright green leans: up the sheet, or down. It must match the receiving shader."),
    ] = "up"


class Output(Part):
    """What is written."""

    maps: Annotated[
        list[MapKey],
        setting("Maps", "All maps of one bake come from the same rays and line up to the texel.", min_length=1),
    ] = ["normal"]
    depth: Annotated[
        Literal[8, 16], setting("Depth", "16 bits keep gentle slopes free of steps; 8 make smaller files.", "bits")
    ] = 8


class Recipe(Part):
    """Everything a bake needs besides the meshes."""

    reach: Reach = Reach()
    sheet: Sheet = Sheet()
    basis: Basis = Basis()
    output: Output = Output()

    def proof(self) -> "Recipe":
        """The same bake, small and quick: at most 512 texels on the long side and 4 samples."""
        shrink = min(1.0, PROOF_SIDE / max(self.sheet.width, self.sheet.height))
        width, height = (max(16, round(side * shrink)) for side in (self.sheet.width, self.sheet.height))
        samples: Literal[1, 4] = 1 if self.sheet.samples == 1 else 4
        padding = self.sheet.padding
        if isinstance(padding, int):
            padding = round(padding * shrink)
        sheet = self.sheet.model_copy(update={"width": width, "height": height, "samples": samples, "padding": padding})
        return self.model_copy(update={"sheet": sheet})


def refusals(problem: ValidationError) -> dict[str, str]:
    """What was refused, by setting ("sheet.width"): the value and why, in words."""
    said: dict[str, list[str]] = {}
    for error in problem.errors():
        name = ".".join(str(part) for part in error["loc"][:2])
        said.setdefault(name, []).append(error["msg"][:1].lower() + error["msg"][1:])
    values = {".".join(str(part) for part in e["loc"][:2]): e["input"] for e in problem.errors()}
    return {name: f"{values[name]!r} cannot be used: {', or '.join(words)}" for name, words in said.items()}
