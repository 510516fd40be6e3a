"""Levels of detail as names say them, such as `crate_LOD1_low`."""

import re
from collections.abc import Iterable

MARK = re.compile(r"[_. -]?lod[_ -]?(\d{1,2})(?!\d)", re.IGNORECASE)


def lod_of(name: str) -> tuple[int | None, str]:
    """The level that a name says, None for none, and the name without it."""
    found = MARK.search(name)
    return (int(found[1]), name[: found.start()] + name[found.end() :]) if found else (None, name)


def lod_of_object(file: str, name: str) -> int | None:
    """The level of an object: by its own name, else by its file's."""
    own = lod_of(name)[0]
    return lod_of(file)[0] if own is None else own


def lods_in(objects: Iterable[tuple[str, str]]) -> list[int]:
    """The levels that objects, given as (file, name), say, the finest first."""
    return sorted({level for file, name in objects if (level := lod_of_object(file, name)) is not None})
