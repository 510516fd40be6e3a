"""The one-page report of a handoff: one HTML file with its pictures in it."""

import base64
import importlib.resources
import pathlib
from typing import Any

import jinja2
import numpy as np

from ..bake.range_words import range_words
from ..base.on_demand import library
from ..images import png
from ..images.png import dequantise
from ..review.lit_pictures import SIDE as STRIP
from ..review.lit_pictures import SIDES as STRIPS
from ..settings.map_names import IN_TANGENT_BASIS
from ..settings.recipe import Recipe
from .bake_on_disk import Finished
from .channel_packing import packed
from .handed_manifest import HandedFile, HandedManifest
from .handoff_before import compared

cv2 = library("cv2")
SIDE = 300  # texels of a picture on the page
MOST_MARKED = 20  # flaws on a picture; the list has them all
SIDES = {"sculpt": "The sculpt", "low": "The low with its map", "heat": "How far the low looks from the sculpt"}


def report(finished: Finished, manifest: HandedManifest, before: HandedManifest | None = None) -> str:
    """The page, as HTML that needs no other file; compared with the handoff before, if there was one."""
    text = importlib.resources.files(__package__).joinpath("report.html").read_text(encoding="utf-8")
    environment = jinja2.Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, undefined=jinja2.StrictUndefined
    )
    pictures = {file.file: _picture(finished, file) for file in manifest.files if file.map or file.pack}
    return environment.from_string(text).render(
        m=manifest,
        bake=manifest.bake,
        pictures=pictures,
        setup=shader_words(manifest.bake.recipe),
        range_of={file.file: _range(finished, file) for file in manifest.files},
        packs=[file for file in manifest.files if file.pack],
        wells=pack_words,
        sides=[(name, SIDES[name], _as_it_is(finished.sides[name])) for name in SIDES if name in finished.sides],
        strip=(STRIPS * STRIP, STRIP),
        marks=list(enumerate(manifest.bake.marks[:MOST_MARKED], 1)),
        against=compared(before, manifest) if before else None,
    )


def shader_words(recipe: Recipe) -> list[str]:
    """How a receiving shader must read the normals of a bake, one sentence each."""
    basis, said = recipe.basis, list[str]()
    if set(IN_TANGENT_BASIS) & set(recipe.output.maps):
        said += [
            "Read the normal map as linear data: n = 2 · colour − 1.",
            f"Green points {basis.green} the sheet; a shader that reads it the other way must turn it over.",
            "Tangents are MikkTSpace from the low’s own normals and UVs, on the triangles of the handed-off low."
            if basis.tangents == "mikktspace"
            else "Tangents are those of the low’s file, on the triangles of the handed-off low.",
            f"The bitangent is {'w' if basis.hand == 'right' else '−w'} · (N × T), made "
            + ("at each texel from the interpolated N and T." if basis.bitangent == "texel" else "at the vertices."),
            "Use N, T and B as interpolated, and make only the result one long."
            if basis.lengths == "interpolated"
            else "Make N, T and B each one long at the texel.",
        ]
    if "normal_object" in recipe.output.maps:
        said.append("The object-space normal is n = 2 · colour − 1 in the low’s own axes, with no tangents.")
    if {"height", "displacement"} & set(recipe.output.maps):
        said.append(
            "Heights: mid-grey is the low, black and white are the range beside the file; floats are scene units."
        )
    return said


def pack_words(file: Any) -> list[str]:
    """What the channels of a packed picture hold."""
    said = []
    for name, well in file.pack.wells.items():
        if well.map:
            said.append(f"{name}: {well.map.replace('_', ' ')} {well.channel}{', inverted' if well.invert else ''}")
        else:
            said.append(f"{name}: {1 - well.value if well.invert else well.value:g}")
    return said


def _range(finished: Finished, file: HandedFile) -> str:
    entry = finished.map(file.sheet, file.map)
    return range_words(entry.facts, finished.manifest.recipe.output.form_of(entry.key)) if entry else ""


def _picture(finished: Finished, file: Any) -> str:
    """A small PNG of a map or a packed picture as a data address."""
    if file.map:
        path = finished.picture(file.sheet, file.map)
        assert path is not None
        steps: Any = png.read(path)
    else:
        sheet = finished.sheet(file.sheet)
        steps = packed(file.pack, (sheet.width, sheet.height), lambda key: finished.picture(file.sheet, key))
    return small_png(steps, SIDE)


def _as_it_is(path: pathlib.Path) -> str:
    """A PNG as an address with its data in it."""
    return "data:image/png;base64," + base64.b64encode(path.read_bytes()).decode()


def small_png(steps: Any, side: int) -> str:
    """A picture (H, W, 3 or 4), steps or 0 to 1, brought to `side` texels, as an address with its data in it."""
    image = np.clip(dequantise(steps if steps.dtype != np.float16 else steps.astype(np.float32)), 0, 1)
    scale = min(1.0, side / max(image.shape[:2]))
    size = max(1, round(image.shape[1] * scale)), max(1, round(image.shape[0] * scale))
    little = cv2.resize(image, size, interpolation=cv2.INTER_AREA)
    order = cv2.COLOR_RGBA2BGRA if little.shape[2] == 4 else cv2.COLOR_RGB2BGR
    data = cv2.imencode(".png", cv2.cvtColor(np.rint(255 * little).astype(np.uint8), order))[1].tobytes()
    return "data:image/png;base64," + base64.b64encode(data).decode()
