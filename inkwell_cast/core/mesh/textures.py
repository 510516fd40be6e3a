"""Textures that a sculpt's materials wear, as far as their colour can be carried over."""

import io
import pathlib
import warnings
from dataclasses import dataclass

import numpy as np

from ..base.array_types import U8
from ..base.errors import InputProblem
from ..base.on_demand import library

Image = library("PIL.Image")
SUFFIXES = (".png", ".jpg", ".jpeg", ".tga", ".tif", ".tiff", ".bmp")
PLAIN = (1.0, 0.0, 0.0, 0.0, 1.0, 0.0)
MOST_TEXELS = 1 << 28


@dataclass(frozen=True, slots=True)
class Texture:
    """A picture of a material's colour, as its file has it.

    name is the picture's; data (N,) uint8 the bytes of its file; channel the UVs it is laid out by; turned are the rows
    of (u, v) -> (a u + b v + c, d u + e v + f), v counted from the picture's top; tint multiplies its linear light. It
    repeats in both directions.
    """

    name: str
    data: U8
    channel: int = 0
    turned: tuple[float, ...] = PLAIN
    tint: tuple[float, float, float] = (1.0, 1.0, 1.0)

    def pixels(self) -> U8:
        """(H, W, 3) uint8, sRGB. Raises InputProblem where the picture cannot be read."""
        try:
            with Image.open(io.BytesIO(self.data.tobytes())) as picture:
                if picture.width * picture.height > MOST_TEXELS:
                    raise ValueError("it is too large")
                return np.asarray(picture.convert("RGB"))
        except Exception as error:  # damaged files make its readers raise whatever they meet
            raise unreadable(self.name, str(error)) from error


def texture_of(name: str, data: U8, **more: object) -> Texture:
    """A texture whose picture is known to be one. Raises InputProblem."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            with Image.open(io.BytesIO(data.tobytes())) as picture:
                size = picture.width * picture.height
                picture.verify()
        if size > MOST_TEXELS:
            raise ValueError(f"it has {size:,} pixels")
    except Exception as error:  # damaged files make its readers raise whatever they meet
        raise unreadable(name, str(error)) from error
    return Texture(name, np.ascontiguousarray(data), **more)  # type: ignore[arg-type]


def beside(path: pathlib.Path, name: str) -> U8 | None:
    """The bytes of a picture that lies beside a mesh, looked for by its bare name; None where it does not."""
    bare = pathlib.PurePosixPath(name.replace("\\", "/")).name
    file = path.parent / bare
    if not bare or file.suffix.lower() not in SUFFIXES or not file.is_file():
        return None
    return np.fromfile(file, np.uint8)


def unreadable(name: str, why: str) -> InputProblem:
    return InputProblem(
        name,
        f"The texture “{name}” cannot be read ({why}).",
        "Export it again as PNG or JPEG, or take it off the material.",
    )
