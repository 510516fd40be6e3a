"""The cage: where rays start. It is a cage mesh from a file, else the low pushed outward; see `rays.ray.make_ray`."""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from ..base.array_types import F32, F64, I32, I64, Bool
from ..base.errors import InputProblem
from ..base.figures import figure
from ..mesh.adjacency import edges_of
from ..mesh.mesh import Mesh, corner_positions
from ..piece.piece import Assembly
from ..rays.along_surface import Ground, spread_of
from ..rays.modifiers.foreign_cage import NEAR, ForeignCage, ForeignCageBuilder, no_foreign_cage
from ..rays.modifiers.modifiers import LaidPatches, Modifiers, no_modifiers
from ..rays.modifiers.straighten import straight_of, straight_on
from ..rays.modifiers.strokes import Nudges, nudges_of
from ..rays.ray import Rays, rays_through, reach_at
from ..settings.scopes import each_of, in_force, scopes
from .ray_directions import directions_of
from .straightening_report import Straightened, straightened

ITSELF = 1e-4  # of the low's diagonal: the reach of what is baked from itself


@dataclass(frozen=True, slots=True)
class CageForm:
    """How the cage mesh of a pair is in force, and by what that was told.

    form: "points" sets the start of every ray by its own vertices, "surface" through its nearest point, "length" only
    limits how far out rays start. vertices and faces are those of the low and of the cage; apart is the largest
    distance between them, scene units; share the part of the low's surface that "surface" serves, and limited (N, 3)
    float32 are places where it only limits the length.
    """

    pair: str
    form: Literal["points", "surface", "length"]
    vertices: tuple[int, int]
    faces: tuple[int, int]
    apart: float
    share: float
    limited: F32

    @property
    def words(self) -> str:
        """The state and its reason, for a user."""
        counts = (
            f"cage {self.vertices[1]:,} vertices and {self.faces[1]:,} triangles, low {self.vertices[0]:,} and "
            f"{self.faces[0]:,}"
        )
        if self.form == "points":
            return (
                f"Point to point: the same faces over the same vertices ({counts}), up to {figure(self.apart)} "
                "scene units apart. It sets where rays start and which way they go."
            )
        if self.form == "surface":
            rest = "" if self.share > 0.9995 else f" On {1 - self.share:.1%} of the low it only limits the length."
            return f"Through its surface, since the counts differ ({counts}): rays start at its nearest point.{rest}"
        return (
            f"Limits length only: it differs from the low ({counts}) and less than half of the low has a point of it "
            "that agrees. Rays follow the low’s own directions and start where they meet it."
        )


@dataclass(frozen=True, slots=True)
class Cage:
    """Where rays start and how far they go, for every triangle of the low.

    offsets (T, 3, 3) float32: from each corner of the low as its reach, its fit or a cage of the same topology has it;
    corners (T, 3, 3) float32: from there to where the ray really starts. A pocket or a nudge inside a face changes rays
    without touching corners, so these are what can be drawn and exported of a cage, not the whole of it.
    inward (T,) float32: how far below rays go; modifiers change rays at places. forms tell of the pairs' cage
    meshes, and straightened of what that changed.
    """

    offsets: F32
    corners: F32
    inward: F32
    modifiers: Modifiers
    straightened: Straightened | None = None
    forms: tuple[CageForm, ...] = ()


def lows_of(assembly: Assembly, scope: str) -> Bool:
    """The triangles of the low that a scope speaks of, (T,) bool."""
    spoken, paired = set(each_of(scope)), assembly.paired
    keys = [spoken & set(scopes(pair.name if (pair := paired.pair_of(key)) else "", key)) for key in assembly.keys]
    return np.array(keys, bool)[assembly.low.objects]


def build_cage(assembly: Assembly, lengths: F32 | None = None) -> Cage:
    """The cage of every low: its pair's cage mesh, else its reach along its directions, with pockets and nudges.

    `lengths (T, 3)` are those of a fitted cage and take the place of the outward reach; see `fit.cage_of`.
    """
    low, count = assembly.low, len(assembly.low.triangles)
    outward, inward = reaches(assembly)
    smallest = np.float32(1e-6 * max(low.diagonal, 1e-20))  # where the reach is zero the direction stays
    long = outward[:, None] if lengths is None else lengths
    directions = directions_of(assembly)
    offsets = np.asarray(directions * np.maximum(long, smallest)[..., None], np.float32)
    surface, forms = _from_files(assembly, directions, offsets)
    modifiers = replace(no_modifiers(count, len(assembly.paired.pairs)), foreign_cage=surface)
    bare = Cage(offsets, offsets, inward, modifiers, None, forms)
    pockets, omissions, strokes = _pockets_of(assembly), _omissions_of(assembly), assembly.recipe.nudges
    ground = Ground(low) if count and (len(pockets) or len(omissions) or strokes) else None
    modifiers = replace(modifiers, straight=straight_of(low, assembly.recipe))
    if ground:
        laid = [LaidPatches(numbers, spread_of(ground, numbers[:, :4])) for numbers in (pockets, omissions)]
        modifiers = replace(modifiers, pockets=laid[0], omissions=laid[1])
    cage = replace(bare, modifiers=modifiers)
    if ground and strokes:
        points = corner_positions(low)

        def measure(nudges: Nudges, triangles: I64, b: F64) -> F64:
            rays = rays_of(assembly, replace(cage, modifiers=replace(modifiers, nudges=nudges)))
            return np.asarray(np.linalg.norm(reach_at(rays, triangles, b), axis=1))

        cage = replace(cage, modifiers=replace(modifiers, nudges=nudges_of(strokes, points, ground.ids, measure)))
    if cage.modifiers.turns_rays:
        turned = straightened(assembly, rays_of(assembly, cage), rays_of(assembly, bare))
        cage = replace(cage, straightened=turned)
    if len(cage.modifiers.pockets.numbers) or strokes or len(surface.corners) or cage.straightened:
        b: F64 = np.tile(np.eye(3), (count, 1))
        ends = reach_at(rays_of(assembly, cage), np.repeat(np.arange(count), 3), b)
        cage = replace(cage, corners=ends.reshape(-1, 3, 3))
    return cage


def _from_files(assembly: Assembly, directions: F32, offsets: F32) -> tuple[ForeignCage, tuple[CageForm, ...]]:
    """Lay the cage meshes over their lows; those that fit point to point write their offsets into `offsets`."""
    low, pairs = assembly.low, assembly.paired.pairs
    if all(cage is None for cage in assembly.cages):
        return no_foreign_cage(len(low.triangles), len(pairs)), ()
    points, channel = corner_positions(low), assembly.recipe.sheet.channel
    uvs = low.uvs[channel].at_corners() if channel < len(low.uvs) and low.uvs[channel].complete else None
    laid = ForeignCageBuilder(points, directions, uvs, len(pairs), NEAR * low.diagonal)
    forms = list[CageForm]()
    ids = edges_of(low).ids
    for n, cage in enumerate(assembly.cages):
        rows = np.flatnonzero(assembly.low_pair == n)
        if cage is None or not len(rows) or not len(cage.triangles):
            continue
        counts = len(np.unique(ids[rows])), len(np.unique(edges_of(cage).ids))
        faces = len(rows), len(cage.triangles)
        if matches(cage, _pattern(ids[rows])):
            offsets[rows] = corner_positions(cage) - points[rows]
            apart = float(np.linalg.norm(offsets[rows], axis=2).max())
            forms.append(CageForm(pairs[n].name, "points", counts, faces, apart, 1.0, np.zeros((0, 3), np.float32)))
            continue
        _refuse_without_area(cage, pairs[n].cages[0].key if pairs[n].cages else pairs[n].name)
        fitted = laid.add(n, rows, cage)
        form: Literal["surface", "length"] = "surface" if fitted.share else "length"
        forms.append(CageForm(pairs[n].name, form, counts, faces, fitted.apart, fitted.share, fitted.limited))
    return laid.surface(), tuple(forms)


def _refuse_without_area(cage: Mesh, part: str) -> None:
    """A triangle without area has no nearest point with a normal of its own."""
    p = corner_positions(cage).astype(np.float64)
    count = int((~np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]).any(axis=1)).sum())
    if count:
        raise InputProblem(
            cage.name, f"{count:,} triangles of the cage have no area.", "Delete them and export the cage again.", part
        )


def rays_of(assembly: Assembly, cage: Cage, rows: I32 | I64 | None = None) -> Rays:
    """The rays of all triangles of the low, or of some rows of it."""
    points, pair, modifiers = corner_positions(assembly.low), assembly.low_pair, cage.modifiers
    offsets, inward = cage.offsets, cage.inward
    if rows is not None:
        points, pair, offsets, inward = points[rows], pair[rows], offsets[rows], inward[rows]
        modifiers = replace(
            modifiers,
            nudges=modifiers.nudges.on(rows),
            straight=straight_on(modifiers.straight, rows),
            pockets=modifiers.pockets.on(rows),
            omissions=modifiers.omissions.on(rows),
            foreign_cage=replace(
                modifiers.foreign_cage, grid=modifiers.foreign_cage.grid[rows], first=modifiers.foreign_cage.first[rows]
            ),
        )
    return rays_through(points, offsets, inward, pair, modifiers)


def _pockets_of(assembly: Assembly) -> F64:
    """The recipe's pockets as rows of numbers, see `Modifiers`."""
    scale = assembly.recipe.reach.scale(assembly.low.diagonal)
    pockets = assembly.recipe.pockets
    rows = [[*p.centre, p.radius * scale, p.rim, p.outward * scale, p.inward * scale] for p in pockets]
    return np.array(rows, np.float64).reshape(-1, 7)


def _omissions_of(assembly: Assembly) -> F64:
    """The recipe's omissions as rows of numbers, see `Modifiers`; those of highs that are not there do nothing."""
    keys = assembly.sculpt_keys
    rows = [
        [*omission.centre, omission.radius, n]
        for omission in assembly.recipe.omissions
        for n, key in enumerate(keys)
        if key == omission.part
    ]
    return np.array(rows, np.float64).reshape(-1, 5)


def reaches(assembly: Assembly) -> tuple[F32, F32]:
    """Outward and inward reach of every triangle of the low in scene units, (T,) float32 each.

    A low that is its own source for want of a high is met where it lies: by a longer reach its rays would meet other
    parts of it first.
    """
    recipe, diagonal = assembly.recipe, assembly.low.diagonal
    by_object = []
    for key in assembly.keys:
        pair = assembly.paired.pair_of(key)
        levels = in_force(recipe, scopes(pair.name if pair else "", key))
        reach = recipe.reach.model_copy(update={"outward": levels["outward"].value, "inward": levels["inward"].value})
        itself = pair is not None and pair.by_itself
        by_object.append((ITSELF * diagonal,) * 2 if itself else reach.in_scene_units(diagonal))
    table = np.array(by_object, np.float32).reshape(-1, 2)[assembly.low.objects]
    return table[:, 0].copy(), table[:, 1].copy()


def matches(cage: Mesh, pattern: I32) -> bool:
    """Whether a cage has the low's faces over the low's vertices, in the same order."""
    return len(cage.triangles) == len(pattern) and np.array_equal(_pattern(edges_of(cage).ids), pattern)


def _pattern(ids: I32) -> I32:
    """Vertices numbered in the order in which corners meet them, (T, 3)."""
    _, first, place = np.unique(ids.reshape(-1), return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int32)
    rank[np.argsort(first)] = np.arange(len(first), dtype=np.int32)
    return rank[place].reshape(ids.shape)
