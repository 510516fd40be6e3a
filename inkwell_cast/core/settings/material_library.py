"""The material library: names, colours for any channels, an ID colour; assigned by part, object or material."""

import pathlib
from typing import Annotated, Literal

from pydantic import Field, ValidationError

from ..base.errors import InputProblem
from ..base.setting import SettingsGroup, setting

VERSION = 1
Hex = Annotated[str, Field(pattern="^#[0-9a-fA-F]{6}$")]
Name = Annotated[str, Field(min_length=1, max_length=120)]


class Material(SettingsGroup):
    """A material: its colour in each channel that it has, as sRGB steps "#rrggbb" (a grey for values)."""

    name: Name
    id_color: Annotated[
        Hex | Literal[""], setting("ID colour", "On the ID map; empty for the one that follows from its name.")
    ] = ""
    colors: dict[Name, Hex] = Field(default_factory=dict, description="By channel.")


class Assignment(SettingsGroup):
    """Which material a part, an object or a material of the sculpt has; the first of these kinds that fits counts."""

    kind: Literal["part", "object", "material"]
    name: Name
    material: Name


class Library(SettingsGroup):
    """Materials and the channels that the layered file has a folder for."""

    version: Annotated[Literal[1], setting("Version", "Of the form of its file.")] = 1
    channels: Annotated[
        list[Name], setting("Channels", "Each becomes a folder of the layered file.", max_length=16)
    ] = Field(default_factory=lambda: ["Colour"])
    materials: Annotated[
        list[Material], setting("Materials", "Each with a colour for each channel and one for IDs.", max_length=400)
    ] = Field(default_factory=list)
    assigned: Annotated[
        list[Assignment], setting("Assigned", "Which part, object or material has which.", max_length=4000)
    ] = Field(default_factory=list)

    def find(self, name: str) -> Material | None:
        return next((material for material in self.materials if material.name == name), None)

    def id_colors(self) -> dict[str, str]:
        """The ID colours that are set, by material."""
        return {material.name: material.id_color for material in self.materials if material.id_color}

    def of(self, kind: str) -> dict[str, str]:
        """The materials by the names of one kind, those only that the library still has."""
        names = {material.name for material in self.materials}
        fitting = [given for given in self.assigned if given.kind == kind and given.material in names]
        return {given.name: given.material for given in fitting}

    def portable(self) -> str:
        """The library as a JSON file of its own, with what goes by materials of sculpts.

        Assignments of parts and objects stay with the piece.
        """
        return self.model_copy(update={"assigned": self._by_material}).model_dump_json(indent=2) + "\n"

    @property
    def _by_material(self) -> list[Assignment]:
        """The assignments that hold for any piece: sculpts share the names of their materials."""
        return [assignment for assignment in self.assigned if assignment.kind == "material"]


def with_material(library: Library, name: str) -> Library:
    """One more material, mid-grey in every channel. Raises InputProblem for a name that is there."""
    if library.find(name):
        raise InputProblem(name, "The library has a material of this name.", "Choose another name.")
    material = Material(name=name, colors=dict.fromkeys(library.channels, "#808080"))
    return library.model_copy(update={"materials": [*library.materials, material]})


def changed(library: Library, name: str, /, **values: object) -> Library:
    """A material with other values; a new name goes into its assignments. Raises InputProblem and pydantic's error."""
    before = library.find(name)
    if before is None:
        raise InputProblem(name, "The library has no such material.", "Reload the page.")
    renewed = Material.model_validate(before.model_dump() | values)
    if renewed.name != name and library.find(renewed.name):
        raise InputProblem(renewed.name, "The library has a material of this name.", "Choose another name.")
    materials = [renewed if material.name == name else material for material in library.materials]
    assigned = [a.model_copy(update={"material": renewed.name}) if a.material == name else a for a in library.assigned]
    return library.model_copy(update={"materials": materials, "assigned": assigned})


def with_found(library: Library, found: list[tuple[Literal["part", "object", "material"], str, str]]) -> Library:
    """A material for each kind, name and colour "#rrggbb" found on a sculpt that has none yet, assigned to it.

    One whose name is in the library gets that.
    """
    for kind, name, color in found:
        if name in library.of(kind):
            continue
        if library.find(name) is None:
            library = with_material(library, name)
            library = changed(library, name, colors=dict.fromkeys(library.channels[:1], color))
        library = assign(library, kind, name, name)
    return library


def without(library: Library, name: str) -> Library:
    """The library without a material and its assignments."""
    kept = [material for material in library.materials if material.name != name]
    return library.model_copy(
        update={"materials": kept, "assigned": [a for a in library.assigned if a.material != name]}
    )


def with_channels(library: Library, channels: list[str]) -> Library:
    """Other channels; a new one is mid-grey in every material. Raises pydantic's error."""
    names = list(dict.fromkeys(channels))
    materials = [
        material.model_copy(update={"colors": {c: material.colors.get(c, "#808080") for c in names}})
        for material in library.materials
    ]
    return Library.model_validate(library.model_dump() | {"channels": names, "materials": materials})


def assign(library: Library, kind: str, name: str, material: str) -> Library:
    """Give a part, object or material of the sculpt a material of the library, or none for "" ."""
    kept = [given.model_dump() for given in library.assigned if (given.kind, given.name) != (kind, name)]
    added = [{"kind": kind, "name": name, "material": material}] if material else []
    return Library.model_validate(library.model_dump() | {"assigned": [*kept, *added]})


def join(library: Library, more: Library) -> Library:
    """A library read from a file laid into one: its materials win over those of the same name, channels are added.

    So do its assignments to materials of sculpts.
    """
    taken, theirs = {material.name for material in more.materials}, more._by_material
    known = {assignment.name for assignment in theirs}
    kept = [a for a in library.assigned if a.kind != "material" or a.name not in known]
    joined = library.model_copy(
        update={
            "materials": [*(m for m in library.materials if m.name not in taken), *more.materials],
            "assigned": [*kept, *theirs],
        }
    )
    return with_channels(joined, [*library.channels, *more.channels])


def read_library(text: str | bytes, name: str) -> Library:
    """A library from JSON; `name` is what messages call the file. Raises InputProblem."""
    try:
        return Library.model_validate_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        if first["loc"] == ("version",):
            raise InputProblem(
                name,
                f"It is a material library of version {first['input']!r}; this program knows {VERSION}.",
                "Install the newer program, or export it from an older one.",
            ) from None
        place = ".".join(str(part) for part in first["loc"]) or "the file"
        raise InputProblem(
            name, f"It is no material library: {place} {first['msg'].lower()}.", "Export it again as JSON."
        ) from None


def read_library_file(path: pathlib.Path) -> Library:
    try:
        return read_library(path.read_bytes(), path.name)
    except OSError as error:
        raise InputProblem(str(path), f"It cannot be read ({error.strerror}).", "Check its path and rights.") from error
