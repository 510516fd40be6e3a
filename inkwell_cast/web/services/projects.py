"""The project that the meshes of a piece lie in, where it is known where they lie."""

import pathlib
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from ...core.base.errors import InputProblem
from ...core.handoff.file_names import plain
from ...core.settings.changes_in_words import every_change
from ...core.settings.project import NAME, Project, find_project, handoffs_of, laid_over
from ...core.settings.recipe import Recipe, refused_words
from ...store.meshes import MeshRow
from ...store.pieces import StoredPiece

if TYPE_CHECKING:
    from .services import Services


@dataclass(frozen=True, slots=True)
class ProjectFacts:
    """A project as the page shows it: its file, what a piece is set otherwise, or why it cannot be used.

    says are the values of the fields that it sets, by names such as "reach.outward".
    """

    path: pathlib.Path
    otherwise: list[str]
    problem: str = ""
    says: dict[str, Any] = field(default_factory=dict)


class Projects:
    """Of all pieces."""

    def __init__(self, services: "Services") -> None:
        self.services = services

    def of(self, piece: StoredPiece, rows: list[MeshRow]) -> ProjectFacts | None:
        """The project of a piece; None where its meshes lie in none, or nobody knows where they lie."""
        try:
            found = _found(row.place for row in rows)
            if found is None:
                return None
            groups = {name: value for name, value in found[0].settings.items() if isinstance(value, dict)}
            says = {f"{group}.{name}": value for group, fields in groups.items() for name, value in fields.items()}
            otherwise = every_change(laid_over(*found, piece.recipe), piece.recipe)
            return ProjectFacts(found[1] / NAME, otherwise, says=says)
        except InputProblem as problem:
            return ProjectFacts(pathlib.Path(problem.where), [], str(problem))
        except ValidationError as error:
            return ProjectFacts(pathlib.Path(NAME), [], refused_words(error))

    def begin_with(self, places: Iterable[str]) -> Recipe:
        """The settings that a new piece of meshes at some places begins with; those of a project that cannot be used
        are left, and what is wrong with it is shown with the piece."""
        try:
            found = _found(places)
            return laid_over(*found, Recipe()) if found else Recipe()
        except (InputProblem, ValidationError):
            return Recipe()

    def handoff_place(self, piece: StoredPiece, rows: list[MeshRow]) -> str:
        """The folder that the project says for a piece's handoff, "" where none does."""
        try:
            places = [row.place for row in rows if row.place]
            found = _found(places)
            if found is None:
                return ""
            out = handoffs_of(*found, pathlib.Path(places[0]).parent, piece.name)
            return str(out if piece.recipe.handoff.shared else out / plain(piece.name))
        except (InputProblem, ValueError):
            return ""

    def take(self, piece_id: int) -> None:
        """Set a piece as its project says. Raises InputProblem where there is none, or it cannot be used."""
        found = _found(row.place for row in self.services.pieces.wanted(piece_id)[1])
        if found is None:
            raise InputProblem("The project", "The meshes lie in none.", f"Put a {NAME} beside or above them.")
        self.services.settings.change(piece_id, "As the project says", lambda recipe: laid_over(*found, recipe))


def _found(places: Iterable[str]) -> tuple[Project, pathlib.Path] | None:
    known = next((place for place in places if place), "")
    return find_project(pathlib.Path(known).parent) if known else None
