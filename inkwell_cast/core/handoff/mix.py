"""Mixes of pictures that were baked apart: a detail over a normal map, one inside a mask, occlusions multiplied."""

import pathlib
from collections.abc import Callable

import numpy as np

from ..base.array_types import F32, AnyArray
from ..base.errors import InputProblem
from ..images import SUFFIXES, png, read_picture, write_picture
from ..images.exr import as_halves
from ..settings.output import DEPTHS

Pictures = list[F32]


def detail_over(pictures: Pictures) -> F32:
    """Two tangent-space normal maps (H, W, 3), 0 to 1: the second turned into the first's surface.

    C. Barre-Brisebois and S. Hill, "Blending in Detail" (2012): reoriented normal mapping.
    """
    base, detail = pictures
    t = 2 * base - np.array([1, 1, 0], np.float32)
    u = detail * np.array([-2, -2, 2], np.float32) + np.array([1, 1, -1], np.float32)
    return _stored(t * ((t * u).sum(axis=2, keepdims=True) / np.maximum(t[..., 2:], 1e-6)) - u)


def inside_mask(pictures: Pictures) -> F32:
    """Two normal maps and a mask: the second where the mask is white, the first where it is black."""
    base, other, mask = pictures
    share = mask[..., :1]
    return _stored((2 * base - 1) * (1 - share) + (2 * other - 1) * share)


def multiplied(pictures: Pictures) -> F32:
    """Occlusions, or other shades, multiplied."""
    return np.prod(np.stack(pictures), axis=0, dtype=np.float32)


def stacked(pictures: Pictures) -> F32:
    """Parts baked apart for one sheet, each picture followed by its mask: where that is white it lies on top.

    Where no mask is white it is black.
    """
    out = np.zeros_like(pictures[0])
    for picture, mask in zip(pictures[::2], pictures[1::2], strict=True):
        out = out * (1 - mask[..., :1]) + picture * mask[..., :1]
    return out


def _stored(normals: F32) -> F32:
    length = np.maximum(np.linalg.norm(normals, axis=2, keepdims=True), 1e-20)
    return np.asarray(0.5 * normals / length + 0.5, np.float32)


MIXES: dict[str, tuple[Callable[[Pictures], F32], str, range]] = {
    "detail": (detail_over, "a normal map and a detail normal map to lay over it", range(2, 3)),
    "mask": (inside_mask, "a normal map, another, and a mask that is white where the other shows", range(3, 4)),
    "multiply": (multiplied, "two or more shades, such as occlusions", range(2, 33)),
    "stack": (stacked, "pictures that were baked apart, each followed by its mask", range(2, 65, 2)),
}


GREY = ("multiply", "stack")  # of grey pictures these are grey


def mix_files(kind: str, given: list[pathlib.Path], target: pathlib.Path) -> None:
    """Mix pictures into one; its suffix says the format, its depth is the greatest of those given.

    Raises InputProblem for a wrong number of pictures, or sizes that differ.
    """
    mix, takes, counts = MIXES[kind]
    if len(given) not in counts:
        raise InputProblem(f"The mix “{kind}”", f"{len(given)} pictures were given.", f"Give {takes}.")
    read = [read_picture(path) for path in given]
    for path, picture in zip(given, read, strict=True):
        if picture.shape != read[0].shape:
            sizes = [f"{p.shape[1]} x {p.shape[0]}" for p in (picture, read[0])]
            raise InputProblem(path.name, f"It is {sizes[0]}, but {given[0].name} is {sizes[1]}.", "Give equal sizes.")
    out = np.clip(mix([png.dequantise(picture) for picture in read]), 0, 1)
    if kind in GREY and all(_is_grey(picture) for picture in read):
        out = out[..., :1]
    save(target, out, max({1: 8, 2: 16}.get(picture.dtype.itemsize, 32) for picture in read))


def _is_grey(picture: AnyArray) -> bool:
    return all(np.array_equal(picture[..., 0], picture[..., c]) for c in range(1, picture.shape[2]))


def save(out: pathlib.Path, image: F32, wanted: int) -> None:
    """Write values 0 to 1 in the format of a suffix, with the depth wanted or the nearest that the format has."""
    name = next((n for n, suffix in SUFFIXES.items() if suffix == out.suffix.lower()), None)
    if name is None:
        raise InputProblem(out.name, "Its suffix names no format.", f"Use one of {', '.join(SUFFIXES.values())}.")
    depth = min(DEPTHS[name], key=lambda d: abs(d - wanted))
    floats = name == "exr" or depth == 32
    exact = as_halves(image) if depth == 16 else image.astype(np.float32)
    values: AnyArray = exact if floats else png.quantise(image, depth)
    write_picture(out, name, values)
