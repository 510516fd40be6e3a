"""Changes of a piece's settings, joined with what was changed elsewhere meanwhile; undo and redo."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem
from ...core.settings.changes_in_words import in_words
from ...core.settings.merge_changes import merged
from ...core.settings.recipe import Recipe
from ...store import pieces, undo

if TYPE_CHECKING:
    from .services import Services

KEPT_MAKERS = 5000
SHOWN_STEPS = 40
FORMS = ("Meshes", "Cage", "Basis", "Maps", "Review", "Handoff")  # words of changes that were made in a form of a step
BY_ITSELF = "Measured by itself"
MEASURED = ("Measure", "Fit", BY_ITSELF)


@dataclass(frozen=True, slots=True)
class ShownState:
    """What the page of a request shows: a state of its piece's settings, and the tab that it is in.

    turn counts the requests of a tab, as one may overtake another on its way.
    """

    step: int
    tab: str
    turn: int = 0


class Settings:
    """The settings of all pieces."""

    def __init__(self, services: "Services") -> None:
        self.services, self.store = services, services.store
        self._made_by: dict[tuple[int, int], str] = {}  # the tab that made a state of a piece
        self._turns: dict[tuple[int, str], int] = {}  # the last change of a tab to a piece

    def change(
        self,
        piece_id: int,
        words: str,
        edit: Callable[[Recipe], Recipe],
        shown: "ShownState | None" = None,
        adds: bool = False,
    ) -> list[str]:
        """Change a piece's settings by one of `core.settings.editing`'s functions; reading and writing are one step.

        Where the page that asks for it has `shown` an older state, the change is made to that state and joined with
        what happened since; what collides is not changed, which is said in the sentences returned. One that only `adds`
        to a list is made to the newest state. Raises InputProblem where nothing of it can be joined.
        """
        with self.store.writing() as db:
            piece = pieces.get(db, piece_id)
            if piece is None:
                raise InputProblem("The piece", "It is no longer on the shelf.", "Go back to the shelf.")
            said, overtaken = list[str](), shown is not None and self._is_overtaken(piece_id, shown)
            by_itself = shown is None or self._only_by(shown.tab, piece_id, shown.step, piece.step)
            if shown is None or adds or (by_itself and not overtaken):
                changed = edit(piece.recipe)
            else:
                changed, said = _joined(undo.recipe_at(db, piece_id, shown.step), edit, piece.recipe)
                if by_itself:
                    said = []  # no one else changed anything
            if changed == piece.recipe:
                return said
            undo.set_recipe(db, piece_id, changed, _called(words, piece.recipe, changed))
            if shown:
                self._made_by[piece_id, piece.step + 1] = shown.tab
                while len(self._made_by) > KEPT_MAKERS:
                    self._made_by.pop(next(iter(self._made_by)))
        self.services.give_up(piece_id)
        return said

    def _is_overtaken(self, piece_id: int, shown: ShownState) -> bool:
        """Whether a change that its tab asked for later was made already: that one has the last word."""
        last = self._turns.pop((piece_id, shown.tab), 0)
        self._turns[piece_id, shown.tab] = max(last, shown.turn)
        while len(self._turns) > KEPT_MAKERS:
            self._turns.pop(next(iter(self._turns)))
        return 0 < shown.turn < last

    def _only_by(self, tab: str, piece_id: int, before: int, now: int) -> bool:
        """Whether one tab alone changed a piece since a state that it showed."""
        return before <= now and all(self._made_by.get((piece_id, n)) == tab for n in range(before + 1, now + 1))

    def step_back(self, piece_id: int, steps: int) -> None:
        """Go back (below 0) or forth along the changes; what followed the old settings is given up."""
        with self.store.writing() as db:
            undo.move(db, piece_id, steps)
        self.services.give_up(piece_id)

    def steps(self, piece_id: int) -> list[tuple[int, str]]:
        """The states of a piece that can be gone to, the newest first, each with what led to it."""
        with self.store.reading() as db:
            return undo.listed(db, piece_id, SHOWN_STEPS)


def _called(words: str, before: Recipe, after: Recipe) -> str:
    """What a change is called: by what it changed, after the word of a button that measured it."""
    said = in_words(before, after)
    if words in MEASURED and said:
        return f"{words}: {said}"
    return said if said and words in FORMS else words


def _joined(base: Recipe | None, edit: Callable[[Recipe], Recipe], now: Recipe) -> tuple[Recipe, list[str]]:
    """A change made to an older state, joined with the newest one; what to say of it."""
    if base is None:
        raise InputProblem("The settings", "They changed elsewhere since this page was loaded.", "Reload the page.")
    changed, collisions, others = merged(base, edit(base), now)
    said = [f"Meanwhile changed elsewhere, and shown now: {_listed(others)}."] if others else []
    if collisions:
        said.append(f"Not changed here, since it was changed elsewhere too: {_listed(collisions)}. Set it again.")
    return changed, said


def _listed(names: list[str]) -> str:
    """Settings in words, the first few of many."""
    words = [name.replace(".", ", ").replace("_", " ") for name in names]
    return "; ".join(words[:4]) + (f" and {len(words) - 4} more" if len(words) > 4 else "")
