"""Vertex colours as light: what a file means by its numbers, and the other way for files that are written."""

from dataclasses import replace
from typing import Literal

import numpy as np

from ..base.array_types import F32
from ..base.color_space import to_linear, to_srgb
from .mesh import ColorSpace, CornerValues, Mesh


def with_linear_colors(mesh: Mesh, space: Literal["auto", "srgb", "linear"] = "auto") -> Mesh:
    """The mesh with its vertex colours in linear light; `space` says what they are, by default as its format has it.

    Alpha is linear in every format.
    """
    given = mesh.color_space if space == "auto" else space
    if mesh.colors is None:
        return mesh
    return replace(
        mesh, colors=CornerValues(_in(mesh.colors.values, given, "linear"), mesh.colors.corners), color_space="linear"
    )


def colors_in(mesh: Mesh, space: ColorSpace) -> F32:
    """The rows (N, 4) of a mesh's colours as a file of that space has them."""
    assert mesh.colors is not None
    return _in(mesh.colors.values, mesh.color_space, space)


def _in(values: F32, given: ColorSpace, wanted: ColorSpace) -> F32:
    if given == wanted:
        return values
    turned = to_linear(np.maximum(values[:, :3], 0)) if wanted == "linear" else to_srgb(np.maximum(values[:, :3], 0))
    return np.concatenate([turned, values[:, 3:]], axis=1).astype(np.float32)
