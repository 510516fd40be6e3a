"""Settings that another version wrote, or that are out of range: read as far as this version knows them.

What is left aside is said, and nothing is written: who reads keeps the text as it was.
"""

from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

M = TypeVar("M", bound=BaseModel)
MOST_ROUNDS = 50  # each takes away what was refused; a model that refuses for ever is refused itself
MOST_NAMED = 6


def as_far_as_known(model: type[M], given: Any) -> tuple[M, str]:
    """A model of JSON values without what it does not know or cannot use, and in words what that was, "" for nothing.

    Raises ValidationError where nothing of it can be used.
    """
    unknown, refused = list[str](), dict[str, str]()
    for _ in range(MOST_ROUNDS):
        try:
            return model.model_validate(given), _in_words(unknown, refused)
        except ValidationError as problem:
            given = _without(given, problem, unknown, refused)
    return model.model_validate(given), _in_words(unknown, refused)


def _without(given: Any, problem: ValidationError, unknown: list[str], refused: dict[str, str]) -> Any:
    """The values but for those that a problem names, which are noted. Raises the problem where it names none."""
    left = _copied(given)
    taken = False
    for error in problem.errors():
        path = _path_in(left, error["loc"])
        if not path:
            continue
        holder = left
        for part in path[:-1]:
            holder = holder[part]
        name = ".".join(str(part) for part in path)
        if error["type"] == "extra_forbidden":
            unknown.append(name)
        else:
            refused[name] = f"{name} {holder[path[-1]]!r}: {error['msg'][:1].lower()}{error['msg'][1:]}"
        del holder[path[-1]]
        taken = True
    if not taken:
        raise problem
    return left


def _path_in(given: Any, place: tuple[int | str, ...]) -> list[int | str]:
    """As much of the place of an error as there is in some values; what follows names kinds that were tried."""
    path = list[int | str]()
    for part in place:
        if isinstance(given, dict):
            there = part in given
        else:
            there = isinstance(given, list) and isinstance(part, int) and 0 <= part < len(given)
        if not there:
            break
        path.append(part)
        given = given[part]
    return path


def _copied(given: Any) -> Any:
    if isinstance(given, dict):
        return {name: _copied(value) for name, value in given.items()}
    return [_copied(value) for value in given] if isinstance(given, list) else given


def _in_words(unknown: list[str], refused: dict[str, str]) -> str:
    """What was left aside."""
    said = []
    if unknown:
        more = f" and {len(unknown) - MOST_NAMED} more" if len(unknown) > MOST_NAMED else ""
        said.append(f"A newer version made this: {', '.join(unknown[:MOST_NAMED])}{more} is not known here.")
    if refused:
        said.append(
            f"Out of range, so that the default stands in its place: {'; '.join([*refused.values()][:MOST_NAMED])}."
        )
    return " ".join(said)
