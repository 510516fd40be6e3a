"""Functions of large libraries, imported when they are first called, so that no command waits for them in vain."""

import importlib
from collections.abc import Callable
from typing import Any


def on_demand(module: str, name: str) -> Callable[..., Any]:
    """A function or class of a module, for calling only."""

    def call(*arguments: Any, **named: Any) -> Any:
        return getattr(importlib.import_module(module), name)(*arguments, **named)

    return call
