"""The low as it was baked on, wearing its maps: the GLB of a handoff.

Its readers take green as up, make the bitangent at the vertices and each of N, T and B one long at the texel; so the
normals are brought into that basis, whatever the receiver's own files have. Base colours are those carried from the
sculpt, else the ID colours.
"""

from dataclasses import replace

import numpy as np

from ..base.array_types import I32, U8, U16
from ..base.on_demand import library
from ..formats.glb_writer import MaterialPictures
from ..images import png
from ..mesh.mesh import Mesh
from ..settings.basis import Basis
from ..uv.layout import SheetPlan
from .bake_on_disk import Finished
from .convert_normals import convert

cv2 = library("cv2")
LARGEST = 8192  # texels on a side that graphics cards take everywhere
READ_AS = Basis(green="up", hand="right", bitangent="vertex", lengths="unit")
BASES, SHADES = ("color", "ids"), ("occlusion", "sheet_occlusion")


def by_sheet(mesh: Mesh, sheets: list[SheetPlan]) -> Mesh:
    """The mesh with a material for each sheet in place of its own, and one more for triangles that lie on none."""
    of: I32 = np.full(len(mesh.triangles), len(sheets), np.int32)
    for n in reversed(range(len(sheets))):  # of several the first
        of[sheets[n].triangles] = n
    called = tuple(sheet.name or mesh.name for sheet in sheets)
    if (of == len(sheets)).any():
        called += ("on no sheet",)
    colors = np.full((len(called), 3), 0.5, np.float32)
    return replace(
        mesh,
        materials=of,
        material_names=called,
        material_colors=colors,
        textures=(),
        emission_textures=(),
        emission_colors=np.zeros((0, 3), np.float32),
    )


def worn(finished: Finished, low: Mesh, sheet: SheetPlan) -> MaterialPictures:
    """What the triangles of a sheet wear, as PNGs of 8 bits."""
    channel = finished.manifest.recipe.sheet.channel
    shade, color = (finished.picture(sheet.name, *keys) for keys in (SHADES, BASES))
    normals, sent = _normals(finished, low, sheet), finished.map(sheet.name, "emission")
    glowing = finished.picture(sheet.name, "emission") if sent else None
    return MaterialPictures(
        normal=b"" if normals is None else _png(_eight_bits(normals)),
        occlusion=_png(_eight_bits(png.read(shade))) if shade else b"",
        color=_png(_eight_bits(png.read(color))) if color else b"",
        emission=_png(_eight_bits(png.read(glowing))) if glowing else b"",
        strength=float(sent.facts["white"]) if sent else 1.0,
        channel=channel,
    )


def _normals(finished: Finished, low: Mesh, sheet: SheetPlan) -> U8 | U16 | None:
    """The normals of a sheet in the basis of glTF's readers, from those in tangent space or in object space."""
    recipe = finished.manifest.recipe
    for key, source in (("normal", recipe.basis), ("normal_object", None)):
        path = finished.picture(sheet.name, key)
        if path:
            steps = png.read(path)
            target = READ_AS.model_copy(update={"tangents": recipe.basis.tangents})
            converted = convert(png.dequantise(steps), low, source, target, recipe.sheet.channel, sheet)
            return png.quantise(converted, 8)
    return None


def _eight_bits(steps: np.ndarray) -> U8:  # type: ignore[type-arg]
    eight = steps if steps.dtype == np.uint8 else np.rint(steps / np.float32(257)).astype(np.uint8)
    scale = LARGEST / max(eight.shape[:2])
    if scale >= 1:
        return eight
    size = round(eight.shape[1] * scale), round(eight.shape[0] * scale)
    return np.asarray(cv2.resize(eight, size, interpolation=cv2.INTER_AREA), np.uint8)


def _png(steps: U8) -> bytes:
    return bytes(cv2.imencode(".png", cv2.cvtColor(steps, cv2.COLOR_RGB2BGR))[1].tobytes())
