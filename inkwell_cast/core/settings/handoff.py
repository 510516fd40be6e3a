"""What can be set of the files that leave: their names, and what is packed into one picture."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from ..base.setting import SettingsGroup, setting
from .map_names import MapKey
from .output import Form

CHANNELS = ("red", "green", "blue", "alpha")


class Well(SettingsGroup):
    """What one channel of a packed picture holds: a channel of a map, or one value everywhere."""

    map: Annotated[MapKey | Literal[""], setting("Map", "Where the values come from; none for one value.")] = ""
    channel: Annotated[
        Literal["red", "green", "blue"], setting("Channel", "Of that map; a grey one has the same in all three.")
    ] = "red"
    invert: Annotated[bool, setting("Invert", "White becomes black and black white.")] = False
    value: Annotated[float, setting("Value", "Everywhere, where no map is chosen.", "", ge=0, le=1)] = 0.0


class Pack(Form):
    """A picture whose channels come from several maps of one sheet."""

    name: Annotated[str, setting("Name", "What {map} stands for in its file name.", min_length=1, max_length=60)] = (
        "packed"
    )
    red: Well = Well()
    green: Well = Well()
    blue: Well = Well()
    alpha: Well | None = Field(default=None, description="None leaves the picture without an alpha channel.")
    space: Annotated[
        Literal["linear", "sRGB"],
        setting(
            "Space", "How red, green and blue are stored. Data is linear; alpha always is. Maps that differ are turned."
        ),
    ] = "linear"

    @model_validator(mode="after")
    def _no_alpha_in_jpeg(self) -> Self:
        if self.format == "jpeg" and self.alpha is not None:
            raise ValueError("JPEG has no alpha channel; choose another format")
        return self

    @property
    def wells(self) -> dict[str, Well]:
        """The channels that it has, by name."""
        wells = {name: getattr(self, name) for name in CHANNELS}
        return {name: well for name, well in wells.items() if well is not None}

    @property
    def maps(self) -> list[MapKey]:
        """The maps that it takes from, each once."""
        return [key for key in dict.fromkeys(well.map for well in self.wells.values()) if key]


class Handoff(SettingsGroup):
    """The folder or archive that leaves: names, packed pictures, and what lies beside the maps."""

    pattern: Annotated[
        str,
        setting(
            "Names",
            "How files are called. {piece}, {pair}, {sheet}, {tile}, {map}, {size}, {depth} and {date} stand for what "
            "they say; what is empty leaves no gap.",
            min_length=1,
            max_length=200,
        ),
    ] = "{piece}_{sheet}_{map}"
    words: Annotated[
        dict[MapKey, Annotated[str, Field(max_length=60)]],
        setting("Words for maps", "What {map} stands for, by map; others go by their own name."),
    ] = Field(default_factory=dict)
    existing: Annotated[
        Literal["ask", "replace", "number"],
        setting(
            "If it is there",
            "What becomes of an earlier handoff in the same place: asked for, replaced as a whole, or kept beside the "
            "new one, which gets a number.",
        ),
    ] = "ask"
    shared: Annotated[
        bool,
        setting(
            "Others use the folder",
            "Files go among those of others. Only what an earlier handoff of this piece wrote is replaced. What is the "
            "same is not touched. Manifest and report are called after the piece.",
        ),
    ] = False
    packs: Annotated[
        list[Pack], setting("Packed pictures", "Pictures whose channels come from several maps.", max_length=32)
    ] = Field(default_factory=list)
    loose: Annotated[
        bool, setting("Packed maps alone too", "Maps that are packed are written as files of their own as well.")
    ] = True
    glb: Annotated[
        bool, setting("GLB", "The low as baked with its tangents, wearing normal, occlusion and base colour.")
    ] = True
    obj: Annotated[bool, setting("OBJ", "The low as baked, with its normals.")] = True
    cage: Annotated[bool, setting("Cage", "Where rays started, as OBJ over the low’s own vertices.")] = True
    vertex_map: Annotated[
        MapKey | Literal["none"],
        setting(
            "Vertex colours",
            "A map that the low’s vertices carry too, fitted over its faces, as PLY and GLB for receivers without "
            "textures.",
        ),
    ] = "none"
    report: Annotated[
        bool, setting("Report", "One page with pictures, likeness, flaws left and how to set up the shader.")
    ] = True

    def packed_maps(self) -> set[str]:
        return {key for pack in self.packs for key in pack.maps}
