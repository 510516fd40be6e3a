"""Panoramas: read, carried along with a piece, and cut into an even part and bright places that rays must aim at.

A sun of a few pixels is met by one of thousands of rays that leave at random. So what is much brighter than the rest is
taken out and aimed at, each pixel as often as it gives light; the rest is what rays find that meet nothing. Together
they are the panorama.
"""

import base64
import pathlib
import tempfile

import numpy as np

from ..base.array_types import F32, F64
from ..base.errors import InputProblem
from ..base.on_demand import library
from ..images import exr
from ..settings.recipe import Recipe

cv2 = library("cv2")
WIDEST = 512  # pixels; more tells nothing of light that falls on a surface
BRIGHT = 4.0  # times the mean, from which on places are aimed at


def panorama_of(recipe: Recipe) -> F32 | None:
    """The panorama (H, W, 3) that lights a recipe, its middle column -z, y up; None for none. Raises InputProblem."""
    return _picture(recipe) if recipe.light.panorama and recipe.light.sky else None


def with_panorama(recipe: Recipe) -> Recipe:
    """The recipe as it leaves this machine: with the picture that its light names.

    Raises InputProblem where that cannot be read and light is to be baked.
    """
    stored = ""
    try:
        picture = _picture(recipe) if recipe.light.panorama else None
    except InputProblem:
        if "light" in recipe.output.maps:
            raise
        picture = None
    if picture is not None:
        with tempfile.TemporaryDirectory() as folder:
            path = pathlib.Path(folder) / "panorama.exr"
            exr.write(path, picture.astype(np.float16))
            stored = f"{recipe.light.panorama}\n{base64.b64encode(path.read_bytes()).decode()}"
    return recipe if stored == recipe.carried_panorama else recipe.model_copy(update={"carried_panorama": stored})


def _picture(recipe: Recipe) -> F32:
    """That which was carried here under this path, else that which lies there."""
    place = recipe.light.panorama
    named, _, stored = recipe.carried_panorama.partition("\n")
    if not stored or named != place:
        return _read(pathlib.Path(place))
    with tempfile.TemporaryDirectory() as folder:
        path = pathlib.Path(folder) / "panorama.exr"
        try:
            path.write_bytes(base64.b64decode(stored, validate=True))
        except ValueError as error:
            raise InputProblem(
                place, "The panorama that came with the piece is damaged.", "Give its path again, or take it out."
            ) from error
        return _sound(exr.read(path), place)


def _read(path: pathlib.Path) -> F32:
    if path.suffix.lower() != ".exr" or not path.is_file():
        what = "There is no such file." if path.suffix.lower() == ".exr" else "A panorama must be an OpenEXR picture."
        raise InputProblem(str(path), what, "Give the whole path of an .exr on this machine.")
    picture = _sound(exr.read(path), str(path))
    height, width = picture.shape[:2]
    if width > WIDEST:
        size = WIDEST, max(1, round(height * WIDEST / width))
        picture = np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), np.float32)
    return np.minimum(picture, np.float32(60000)).astype(np.float16).astype(np.float32)  # as it is carried


def _sound(picture: F32, place: str) -> F32:
    """The picture itself. Raises InputProblem for one that is no light."""
    if not picture.size or not np.isfinite(picture).all() or picture.min() < 0:
        raise InputProblem(place, "It holds light that is negative or no number.", "Mend it in an image program.")
    return picture


def parted(panorama: F32) -> tuple[F32, F64]:
    """The even part of a panorama (H, W, 3), and what is brighter, pixel by pixel (N, 7).

    Each row holds how often this pixel or one before is aimed at, of 1; where it begins about y, in shares of a turn;
    the cosines of its upper and lower border to y; and the light (3,) that a ray to it brings a surface that faces it.
    """
    rows, columns = panorama.shape[:2]
    edges = np.cos(np.pi * np.arange(rows + 1) / rows)
    angle = (edges[:-1] - edges[1:]) * 2 * np.pi / columns  # steradians of a pixel
    strong = panorama.max(axis=2)
    mean = float((strong.mean(axis=1) * angle).sum() / angle.sum())
    over = np.where(strong > BRIGHT * mean, 1 - BRIGHT * mean / np.maximum(strong, 1e-30), 0)
    y, x = np.nonzero(over)
    if not len(y):
        return panorama, np.zeros((0, 7))
    excess = (panorama * over[..., None])[y, x].astype(np.float64)
    weight = excess.max(axis=1) * angle[y]
    share = weight / weight.sum()
    light = excess * (angle[y] / np.pi / share)[:, None]
    places = np.stack([np.cumsum(share), x / columns, edges[y], edges[y + 1]], axis=1)
    return np.asarray(panorama * (1 - over[..., None]), np.float32), np.hstack([places, light])
