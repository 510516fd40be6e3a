"""Importing: of large libraries only when they are called, and of much at a time without looking for garbage in it."""

import contextlib
import gc
import importlib
import sys
import threading
from collections.abc import Callable, Iterator
from typing import Any

MANY = 50  # modules; what comes with fewer is not worth telling the collector of


@contextlib.contextmanager
def importing() -> Iterator[None]:
    """Import without the collector of garbage, and never have it look at what was imported: modules stay to the end.

    Else it looks through all of them again and again while they come, and once more when the process ends, which took
    half of a start.
    """
    before, on = len(sys.modules), gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if on:
            gc.enable()
        if len(sys.modules) - before > MANY:
            gc.freeze()


def imported(name: str) -> Any:
    """A module by its name, imported so if it was not yet."""
    with contextlib.nullcontext() if name in sys.modules else importing():
        return importlib.import_module(name)


def fetch(*names: str) -> None:
    """Import modules beside other work, which waits for them only where it needs them before they are there."""
    missing = [name for name in names if name not in sys.modules]
    if missing:
        threading.Thread(target=lambda: [imported(name) for name in missing], name="imports", daemon=True).start()


def on_demand(module: str, name: str) -> Callable[..., Any]:
    """A function or class of a module, for calling only."""

    def call(*arguments: Any, **named: Any) -> Any:
        return getattr(imported(module), name)(*arguments, **named)

    return call


class _Library:
    """A module that is imported when something of it is first asked for."""

    def __init__(self, name: str) -> None:
        self._name = name

    def __getattr__(self, name: str) -> Any:
        value = getattr(imported(self._name), name)
        setattr(self, name, value)
        return value


def library(name: str) -> Any:
    """A module of a large library, to be used as if it were imported."""
    return _Library(name)
