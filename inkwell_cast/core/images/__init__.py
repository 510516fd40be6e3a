"""Pictures: arrays to files and back, one module a format, listed here."""

import pathlib
from types import ModuleType

from ..base.array_types import F32, U8, U16
from ..base.errors import InputProblem
from . import exr, jpeg, png, tga, tiff
from .size import refuse_too_large

FORMATS: dict[str, ModuleType] = {"png": png, "tga": tga, "tiff": tiff, "exr": exr, "jpeg": jpeg}
SUFFIXES = {"png": ".png", "tga": ".tga", "tiff": ".tif", "exr": ".exr", "jpeg": ".jpg"}


def write_picture(path: pathlib.Path, name: str, values: U8 | U16 | F32) -> None:
    """Write values (H, W, 1, 3 or 4), whole steps or floats as the format takes them. Raises InputProblem."""
    try:
        FORMATS[name].write(path, values)
    except OSError as error:
        raise InputProblem(
            str(path), f"The picture could not be written ({error}).", "Free some space or choose another folder."
        ) from error


def read_picture(path: pathlib.Path) -> U8 | U16 | F32:
    """Read a picture as (H, W, 3), grey standing in all three: steps, or float32. Raises InputProblem."""
    name = next((n for n, suffix in SUFFIXES.items() if path.suffix.lower() == suffix), None)
    name = name or {".tiff": "tiff", ".jpeg": "jpeg"}.get(path.suffix.lower())
    if name is None:
        known = ", ".join(suffix[1:].upper() for suffix in SUFFIXES.values())
        raise InputProblem(path.name, "This kind of picture cannot be read.", f"Give one of {known}.")
    refuse_too_large(path)
    picture: U8 | U16 | F32 = FORMATS[name].read(path)
    return picture
