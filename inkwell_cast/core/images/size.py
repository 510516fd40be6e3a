"""How large a picture is, told from its first bytes before it is decoded."""

import pathlib
import struct
import warnings

from ..base.errors import InputProblem
from ..base.free_memory import free
from ..base.on_demand import library

Image = library("PIL.Image")
LONGEST_SIDE = 16384
BYTES = 40  # of a pixel while it is decoded, turned into numbers and written again
SPARE = 0.8  # of what is free may be used


def size_of(path: pathlib.Path) -> tuple[int, int] | None:
    """Width and height; None where the file does not say, which its reader then tells."""
    try:
        with path.open("rb") as file:
            head = file.read(32)
        if head[:8] == b"\x89PNG\r\n\x1a\n":
            width, height = struct.unpack(">II", head[16:24])
            return int(width), int(height)
        if path.suffix.lower() == ".exr":
            return _exr(path)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(path) as picture:
                return picture.size
    except Image.DecompressionBombError as error:
        raise _refusal(path.name, str(error)) from None
    except Exception:  # damaged in ways that its reader has words for
        return None


def _exr(path: pathlib.Path) -> tuple[int, int] | None:
    """The data window of the first part (OpenEXR file layout: attributes after eight bytes, each name, type, size)."""
    head = path.open("rb").read(1 << 16)
    at = head.find(b"dataWindow\0box2i\0")
    if at < 0 or len(head) < at + 37:
        return None
    left, top, right, bottom = struct.unpack("<4i", head[at + 21 : at + 37])
    return right - left + 1, bottom - top + 1


def refuse_too_large(path: pathlib.Path) -> None:
    """Raise InputProblem for a picture that is larger than any sheet, or than memory takes."""
    size = size_of(path)
    if size is None:
        return
    width, height = size
    if max(width, height) > LONGEST_SIDE:
        raise _refusal(path.name, f"It is {width:,} x {height:,} pixels; {LONGEST_SIDE:,} on a side are the most.")
    wanted = width * height * BYTES
    if wanted > SPARE * free():
        raise _refusal(
            path.name,
            f"It is {width:,} x {height:,} pixels, which take {wanted / 1e9:.1f} GB of memory here; "
            f"{free() / 1e9:.1f} GB are free.",
        )


def _refusal(name: str, what: str) -> InputProblem:
    return InputProblem(name, what, "Give a smaller picture.")
