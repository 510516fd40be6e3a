"""Wavy outline: the low turns a round form into few faces, and no map hides the corners of its outline."""

import numpy as np

from ..base.array_types import F64, I32, I64
from ..base.figures import figure
from ..cast.sheet_surroundings import unit_normals
from .flaw import Explanation, FlawRows
from .texel_rows import TexelRows

KEY, TITLE = "wavy", "Wavy outline"
BY_PART = WHOLE_SHEET = True  # what cures it is a finer low, not a change here or there
CORNER = 15.0  # degrees between shading and face beside an edge: half of what the outline turns by there
ROUND = 0.5  # of that: how closely the sculpt must follow the shading, to be round and not flat with a hard edge
MOSTLY = 0.6  # of such texels of a part follow, or it is no round form
MUCH = 0.005  # of a part's texels: a form is round over more than a few corners
DEEP = 0.004  # of the part's diagonal: how far the sculpt stands off the faces there
MOST_OF = 95.0  # percentile of the bend over the faces
SOFT = 6.0  # degrees: beside which corners no longer show
SHOWS = 0.25  # of the angle: a map hides it everywhere but on the outline
OUTLINE = 0.03  # of what is seen of the pair alone: so much only one of low and sculpt covers


def find(seen: TexelRows) -> FlawRows:
    """Texels beside edges where the sculpt is round and stands off the low, of pairs whose outline shows it."""
    context = seen.context
    normal = unit_normals(context)[seen.y, seen.x].astype(np.float64)
    shading = np.einsum("nk,nkc->nc", seen.b, context.low.normals[seen.triangle])
    shading /= np.maximum(np.linalg.norm(shading, axis=1, keepdims=True), 1e-30)
    parts = context.low.mesh.objects[context.low.triangles[seen.triangle]]
    deep = np.abs(seen.height) > DEEP * _diagonals(seen.place, parts)[parts]
    apart = seen.visible.outline[context.rays.pair[seen.triangle]] > OUTLINE
    bent = (seen.struck > 0) & (seen.strain > CORNER) & apart
    corner = seen.triangle.astype(np.int64) * 3 + np.argmax(seen.b, axis=1)
    many = np.maximum(np.bincount(corner, bent), 1)
    bend = np.bincount(corner, bent * _bend(normal, seen.normal, shading)) / many  # detail to and fro counts nothing
    strain = np.bincount(corner, bent * seen.strain) / many
    follows = (np.abs(bend - strain) < ROUND * strain)[corner]
    round_share = np.bincount(parts, bent & follows) / np.maximum(np.bincount(parts, bent), 1)
    shown = bent & follows & deep & (round_share >= MOSTLY)[parts]
    much = np.bincount(parts, shown) >= MUCH * np.maximum(np.bincount(parts), 1)
    rows = np.flatnonzero(shown & much[parts])

    def tell(region: I64) -> Explanation:
        at = rows[region]
        faces = np.isin(seen.triangle, np.unique(seen.triangle[at]))  # to their edges, where the sculpt meets them
        bend, off = 2 * float(np.percentile(seen.strain[faces], MOST_OF)), float(np.abs(seen.height[at]).max())
        more = int(np.ceil(bend / (2 * SOFT)))
        return Explanation(
            f"Faces of the low meet at about {bend:.0f}° where the sculpt is round, and it stands up to {figure(off)} "
            "off them: the outline shows their corners.",
            f"Give the low {more} edges here for every one; no setting of a bake can round an outline.",
        )

    return FlawRows(rows, tell, SHOWS * seen.strain[rows].astype(np.float64))


def _diagonals(places: F64, parts: I32) -> F64:
    """How large the parts are that places (N, 3) lie on: those of the boxes around them, by part."""
    count = int(parts.max(initial=-1)) + 1
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, parts, places)
    np.maximum.at(high, parts, places)
    return np.asarray(np.linalg.norm(np.where(high > low, high - low, 0), axis=1))


def _bend(normal: F64, face: F64, shading: F64) -> F64:
    """How far normals (N, 3) bend from the face's toward the shading, degrees; detail across it counts nothing."""
    toward = shading - np.einsum("nc,nc->n", shading, face)[:, None] * face
    toward /= np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-30)
    along = np.einsum("nc,nc->n", normal, toward), np.einsum("nc,nc->n", normal, face)
    return np.asarray(np.degrees(np.arctan2(*along)))
