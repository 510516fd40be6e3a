"""Parts of the sculpt with no surface of the low beside them, such as glasses, straps, horns: no ray can draw them.

Found shell by shell: what stands off the low over most of its surface, farther than detail does, and hardly looks the
way that the low under it looks, is a thing of its own. A plate that floats over the low, however high, can be drawn.
"""

from collections.abc import Iterator

import numpy as np

from ..base.array_types import F64, I64
from ..base.figures import figure
from ..mesh.shells import MOST_SHELLS, place_in
from ..mesh.surface_samples import few_over
from ..rays.nearest_surface import NearestSurface
from .finding import Finding, Inspected, Remedy, Subject, plural

KEY = "lacking"
TITLE = "Sculpt without a low"
FAR = 0.03  # of the low's diagonal: what stands farther off is no detail of it
MOSTLY = 0.5  # of a shell's surface
BESIDE = 0.5  # of a pair's sculpt that must lie beside the low: else the low is misplaced, which is told otherwise
LEAST = 1e-4  # of the sculpt's surface: a smaller shell is seen by nobody
DRAWN, ALIKE = 0.35, 0.7  # of a shell's surface, that looks within this cosine the way of the low under it: a plate
POINTS = 64  # on each shell
MOST_NAMED = 24  # shells that one change leaves out


def find(piece: Inspected) -> Iterator[Finding]:
    """By places on every shell of the highs, and how far above the nearest low of their pair those lie."""
    for pair in piece.assembly.paired.pairs:
        highs = [s for s in piece.highs if s.pair == pair.name and s.role == "high" and len(s.mesh.triangles)]
        lows = [s for s in piece.lows if s.pair == pair.name and len(s.mesh.triangles)]
        if not highs or not lows or pair.sources:
            continue
        surface = NearestSurface.of([(low.mesh.positions, low.mesh.triangles) for low in lows])
        far = FAR * float(np.linalg.norm(np.ptp(np.concatenate([low.mesh.positions for low in lows]), axis=0)))
        shells = [(high, rows) for high in highs for rows in _shells(high)]
        looked = [_above(high, rows, surface, far) for high, rows in shells]
        areas, apart = np.array([area for area, _ in looked]), np.array([share > MOSTLY for _, share in looked])
        if areas[~apart].sum() < BESIDE * areas.sum():
            continue
        told = apart & (areas > LEAST * areas.sum())
        for high in highs:
            rows = [own for (of, own), tell in zip(shells, told, strict=True) if tell and of is high]
            if rows:
                yield _finding(high, rows, far)


def _shells(high: Subject) -> list[I64]:
    """Triangles of its shells, the largest first."""
    shell = high.shells
    groups = np.split(np.argsort(shell, kind="stable"), np.cumsum(np.bincount(shell))[:-1])
    return sorted(groups, key=lambda rows: -len(rows))[:MOST_SHELLS]


def _above(high: Subject, rows: I64, surface: NearestSurface, far: float) -> tuple[float, float]:
    """The surface of a shell, and the share of it that stands farther than `far` above the low; 0 for a plate."""
    corners = high.mesh.positions[high.mesh.triangles[rows]].astype(np.float64)
    owner, b = few_over(corners, POINTS)
    if not len(owner):
        return 0.0, 0.0
    places: F64 = np.einsum("nk,nkc->nc", b, corners[owner])
    distance, nearest = surface.at(places)
    under = surface.surface.corners(nearest)
    normals = np.cross(under[:, 1] - under[:, 0], under[:, 2] - under[:, 0])
    above = np.einsum("nc,nc->n", places - under.mean(axis=1), normals) > 0
    facing = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    ways, size = facing[owner], np.linalg.norm(facing, axis=1)
    cosine = np.einsum("nc,nc->n", ways, normals)
    alike = cosine > ALIKE * np.linalg.norm(ways, axis=1) * np.linalg.norm(normals, axis=1)
    return float(size.sum()), float(((distance > far) & above).mean()) if alike.mean() < DRAWN else 0.0


def _finding(high: Subject, shells: list[I64], far: float) -> Finding:
    chosen = np.zeros(len(high.mesh.triangles), np.bool_)
    chosen[np.concatenate(shells)] = True
    whole = bool(chosen.all())
    count = len(shells)
    name = high.part.name if whole else f"A part of {high.part.name}"
    near = tuple(
        place_in(high.mesh.positions[high.mesh.triangles[rows]].astype(np.float64)) for rows in shells[:MOST_NAMED]
    )
    float_it = Remedy("Take it as a floater", "float", high.part.file, high.part.name)
    return Finding(
        KEY,
        "warning",
        TITLE,
        high.part.key,
        count,
        f"{name} ({plural(count, 'shell')}) has no low: most of it stands more than {figure(far)} scene units off, so rays "
        "draw it onto what lies under it, or miss it.",
        "Leave it out, float it" + ("" if whole else " as an object of its own") + ", or model a low for it.",
        Remedy("Leave it out", "leave_out", high.part.file, high.part.name, places=() if whole else near),
        marks=high.marks(chosen),
        others=(float_it,) if whole else (),
    )
