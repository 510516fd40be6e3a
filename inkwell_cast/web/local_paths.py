"""Paths of this machine as a page sends them."""

import pathlib

from ..core.base.errors import InputProblem

LONGEST, LONGEST_NAME = 4000, 255  # bytes that systems take


def local_path(text: str, what: str, example: str) -> pathlib.Path:
    """A whole path, with `~` for the user's folder. Raises InputProblem for what can be none; `what` is it called."""
    text = text.strip()
    remedy = f"Give one such as {example}."
    if not text:
        raise InputProblem(what, "No whole path is given.", remedy)
    odd = next((c for c in text if ord(c) < 32 or ord(c) == 127), None)
    if odd is not None:
        raise InputProblem(what, f"It holds the character U+{ord(odd):04X}, which no path has.", remedy)
    shown = text if len(text) <= 80 else f"{text[:79]}…"
    encoded = text.encode("utf-8", "surrogatepass")
    if len(encoded) > LONGEST or max(map(len, encoded.split(b"/"))) > LONGEST_NAME:
        raise InputProblem(shown, "This path is longer than systems take.", remedy)
    try:
        path = pathlib.Path(text).expanduser()
    except RuntimeError:
        path = pathlib.Path(text)
    if not path.is_absolute():
        raise InputProblem(shown, "This is no whole path.", remedy)
    return path
