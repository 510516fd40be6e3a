"""Folders that are watched: until a mesh in them is new, gone or written anew, and is left alone since."""

import pathlib
import time

from ..core.base.errors import InputProblem
from ..core.handoff.batch import Item, find_items

LOOK_EVERY = 0.7  # seconds
Stamp = tuple[tuple[str, int, int], ...]  # of every file of a piece: its path, when it was written, its size


def stamps_of(items: list[Item]) -> dict[str, Stamp]:
    """What tells a piece's files from later states of them, by the piece's name."""
    return {item.name: _stamp(item) for item in items}


def wait_for_a_change(paths: list[pathlib.Path], seen: dict[str, Stamp]) -> None:
    """Until what lies in some folders is something else than was seen, and the same at two looks."""
    while True:
        time.sleep(LOOK_EVERY)
        try:
            now = stamps_of(find_items(paths))
        except InputProblem:
            continue  # in the middle of a change
        if now != seen:
            time.sleep(LOOK_EVERY)
            if stamps_of(find_items(paths)) == now:
                return


def _stamp(item: Item) -> Stamp:
    stamps = []
    for file in item.with_companions():
        try:
            facts = file.stat()
            stamps.append((str(file), facts.st_mtime_ns, facts.st_size))
        except OSError:
            stamps.append((str(file), 0, 0))
    return tuple(stamps)
