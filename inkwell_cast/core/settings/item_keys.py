"""Keys of what stands in lists, such as pockets and mends, so that a change finds what it was meant for.

By its number it would find another one as soon as something before it is gone: on a page that shows an older state, or
by a second click before the first was answered.
"""

import hashlib
from collections.abc import Collection, Sequence

from pydantic import BaseModel

from ..base.errors import InputProblem


def item_keys(items: Sequence[BaseModel], chosen: Collection[int] | None = None) -> list[str]:
    """A key of each item, or of those chosen by their places, in their order.

    It comes from the item's name where that may be edited, else from all that it says but whether it is on. Of items
    that are told alike, each has a key of its own.
    """
    told, times = _told(items), dict[str, int]()
    keys = list[str]()
    for place, words in enumerate(told):
        times[words] = times.get(words, 0) + 1
        if chosen is None or place in chosen:
            keys.append(hashlib.sha256(f"{words}\0{times[words]}".encode()).hexdigest()[:12])
    return keys


def _told(items: Sequence[BaseModel]) -> list[str]:
    fields = type(items[0]).model_fields if items else {}
    if "name" in fields and "words" not in fields:
        return [item.name for item in items]  # type: ignore[attr-defined]
    return [item.model_dump_json(exclude={"on"}) for item in items]


def find_item(items: Sequence[BaseModel], key: str, what: str) -> int:
    """Where the item of a key stands. Raises InputProblem, which calls it `what`, where it is gone."""
    try:
        return item_keys(items).index(key)
    except ValueError:
        raise InputProblem(what, "It is no longer there.", "Reload the page, and look at what is.") from None
