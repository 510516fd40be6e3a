"""A project: what all pieces below a folder share, in a file beside them that goes into version control.

It is found upwards from the meshes. What it says stands below what a piece or a command says.
"""

import json
import os
import pathlib
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, field_validator

from ..base.errors import InputProblem
from ..base.setting import SettingsGroup, setting
from .material_library import join, read_library_file
from .receivers import Receiver, find_receiver
from .recipe import Recipe, refused_words
from .typed_numbers import MILLIMETRES

NAME = "inkwell-project.json"
VERSION = 1
FIELDS = ("folder", "piece")


class Project(SettingsGroup):
    """The file inkwell-project.json; paths in it go from its folder."""

    kind: Literal["inkwell-cast project"] = "inkwell-cast project"
    version: Literal[1] = 1
    settings: dict[str, Any] = Field(
        default_factory=dict,
        description="Settings of every piece as in a recipe, where they are not the defaults: suffixes, reach, maps.",
    )
    library: Annotated[str, setting("Library", "A material library, as a JSON file; none if empty.")] = ""
    receiver: Annotated[str, setting("Receiver", "A ready one by name, or a JSON file; none if empty.")] = ""
    handoffs: Annotated[
        str, setting("Handoffs", "The folder that handoffs go into. {folder} is that of the meshes, {piece} its name.")
    ] = "handoffs/{folder}"
    density: Annotated[
        tuple[float, float] | None, setting("Density", "Least and most texels a centimetre of each low.")
    ] = None

    @field_validator("settings")
    @classmethod
    def _of_a_recipe(cls, given: dict[str, Any]) -> dict[str, Any]:
        try:
            Recipe.model_validate(given)
        except ValidationError as error:
            raise ValueError(refused_words(error)) from None
        return given

    @field_validator("handoffs")
    @classmethod
    def _known_fields(cls, pattern: str) -> str:
        try:
            pattern.format(**dict.fromkeys(FIELDS, "x"))
        except (KeyError, IndexError, ValueError):
            raise ValueError("it may hold {folder} and {piece}, and no other braces") from None
        return pattern

    @field_validator("density")
    @classmethod
    def _in_order(cls, given: tuple[float, float] | None) -> tuple[float, float] | None:
        if given is not None and not 0 <= given[0] <= given[1]:
            raise ValueError("the least comes first, and neither is below 0")
        return given

    def portable(self) -> str:
        return self.model_dump_json(indent=2) + "\n"


def find_project(below: pathlib.Path) -> tuple[Project, pathlib.Path] | None:
    """The project of a file or folder, and the folder of the project; None where there is none upwards from it.

    Raises InputProblem for a file of that name that is none.
    """
    start = below.absolute()
    for folder in (start, *start.parents):
        path = folder / NAME
        if path.is_file():
            return read_project(path), folder
    return None


def read_project(path: pathlib.Path) -> Project:
    """The project in a file. Raises InputProblem."""
    try:
        given = json.loads(path.read_bytes())
        if not isinstance(given, dict) or given.get("kind") != Project.model_fields["kind"].default:
            raise InputProblem(str(path), "It is no project.", "Write one with: inkwell-cast project init")
        if given.get("version") != VERSION:
            raise InputProblem(
                str(path),
                f"It is a project of version {given.get('version')!r}; this program knows {VERSION}.",
                "Install the newer program.",
            )
        return Project.model_validate(given)
    except OSError as error:
        raise InputProblem(str(path), f"It cannot be read ({error.strerror}).", "Check its rights.") from error
    except ValidationError as error:
        raise InputProblem(str(path), f"{refused_words(error)}.", "Mend it there.") from None
    except (ValueError, RecursionError) as error:
        raise InputProblem(str(path), f"It is no JSON ({error}).", "Mend it there.") from None


def recipe_in(project: Project, folder: pathlib.Path, own: dict[str, Any] | None = None) -> Recipe:
    """The settings of a piece of a project: the project's, those of the piece's `own` recipe over them, its library.

    Raises InputProblem for a library that cannot be read, and pydantic's error for settings that cannot be used.
    """
    return _with_library(project, folder, Recipe.model_validate(_over(project.settings, own or {})))


def laid_over(project: Project, folder: pathlib.Path, recipe: Recipe) -> Recipe:
    """The settings of a piece with what its project says in place of its own: fields, library and receiver.

    Raises as `recipe_in` does.
    """
    changed = _with_library(project, folder, Recipe.model_validate(_over(recipe.model_dump(), project.settings)))
    receiver = receiver_in(project, folder)
    return receiver.laid_over(changed) if receiver else changed


def _over(below: dict[str, Any], above: dict[str, Any]) -> dict[str, Any]:
    """Settings laid over others, field by field of each group."""
    settings = dict(below)
    for group, value in above.items():
        known = settings.get(group)
        settings[group] = known | value if isinstance(known, dict) and isinstance(value, dict) else value
    return settings


def _with_library(project: Project, folder: pathlib.Path, recipe: Recipe) -> Recipe:
    if not project.library:
        return recipe
    theirs = read_library_file(folder / project.library)
    return recipe.model_copy(update={"library": join(recipe.library, theirs)})


def receiver_in(project: Project, folder: pathlib.Path) -> Receiver | None:
    """The receiver of a project, None where it names none. Raises InputProblem."""
    if not project.receiver:
        return None
    file = folder / project.receiver
    return find_receiver(str(file) if file.is_file() else project.receiver)


def handoffs_of(project: Project, folder: pathlib.Path, meshes: pathlib.Path, piece: str) -> pathlib.Path:
    """The folder that the handoff of a piece goes into, whose meshes lie in a folder of the project."""
    named = meshes.absolute().relative_to(folder).as_posix()
    return pathlib.Path(os.path.normpath(folder / project.handoffs.format(folder=named, piece=piece)))


def centimetres(recipe: Recipe) -> float:
    """How long a scene unit is, in centimetres."""
    return MILLIMETRES[recipe.world.unit] / MILLIMETRES["cm"]
