"""Keys of what stands in lists, such as pockets and mends, so that a change finds what it was meant for.

By its number it would find another one as soon as something before it is gone: on a page that shows an older state, or
by a second click before the first was answered.
"""

import hashlib
from collections.abc import Sequence

from pydantic import BaseModel

from ..base.errors import InputProblem


def item_keys(items: Sequence[BaseModel]) -> list[str]:
    """A key of each item, in its order: by its name where it may be edited, else by all that it says.

    Whether it is on makes no other item of it. Of items that are told alike, each has a key of its own.
    """
    keys, times = list[str](), dict[str, int]()
    for item in items:
        told = _told(item)
        times[told] = times.get(told, 0) + 1
        keys.append(hashlib.sha256(f"{told}\0{times[told]}".encode()).hexdigest()[:12])
    return keys


def _told(item: BaseModel) -> str:
    has_a_name_alone = "name" in type(item).model_fields and "words" not in type(item).model_fields
    return str(item.name) if has_a_name_alone else item.model_dump_json(exclude={"on"})  # type: ignore[attr-defined]


def find_item(items: Sequence[BaseModel], key: str, what: str) -> int:
    """Where the item of a key stands. Raises InputProblem, which calls it `what`, where it is gone."""
    try:
        return item_keys(items).index(key)
    except ValueError:
        raise InputProblem(what, "It is no longer there.", "Reload the page, and look at what is.") from None
