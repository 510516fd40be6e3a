"""Forms that assets are made of: patches of surface, sampled finely for the sculpt and coarsely for the low.

Lengths are in units of a form about one across; every drawn number comes from the generator that is handed in.
"""

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from inkwell_cast.core.mesh.mesh import CornerValues, Mesh, merge, values_at_corners
from inkwell_cast.core.mesh.normals import face_normals, with_normals

F64 = NDArray[np.float64]
Rng = np.random.Generator
Patch = Callable[[F64, F64], tuple[F64, F64]]  # (u, v) to places and unit normals, each (..., 3)
Relief = Callable[[F64], F64]  # places (..., 3) to heights
FINE = 90  # cells across a patch of a sculpt
GAP = 0.03  # of the tile between islands


@dataclass(frozen=True, slots=True)
class Form:
    """Patches that look outward; `steps` are the cells of the low along u and v of each."""

    name: str
    patches: tuple[Patch, ...]
    steps: tuple[int, int]
    hard: bool = False  # the low's normals part between patches
    breaks: F64 | None = field(default=None)  # where along u and v the low is cut instead, from 0 to 1
    fine: tuple[Patch, ...] = ()  # what the sculpt is made of, where that is not the same

    def low(self, steps: tuple[int, int] | None = None, off: float = 0.0) -> Mesh:
        """The low, each patch an island of its own; `off` its surface."""
        across, down = steps or self.steps
        cells = self._cells()
        sides = []
        for n, patch in enumerate(self.patches):
            u = np.linspace(0, 1, across + 1) if self.breaks is None else self.breaks
            v = np.linspace(0, 1, down + 1) if self.breaks is None else self.breaks
            mesh = sheet_of(patch, u, v, lambda places: np.full(places.shape[:-1], off))
            if not self.hard:
                mesh = replace(mesh, normals=None)
            sides.append(laid(mesh, 1 / cells - GAP, (n % cells / cells + GAP / 2, n // cells / cells + GAP / 2)))
        return with_normals(merge(sides, "low"))

    def high(self, relief: Relief, fine: int = FINE) -> Mesh:
        """The sculpt with its relief, smooth across patches."""
        line = np.linspace(0, 1, (fine if len(self.patches) < 3 else fine * 2 // 3) + 1)
        patches = self.fine or self.patches
        sides = [replace(sheet_of(patch, line, line, relief), normals=None, uvs=()) for patch in patches]
        return with_normals(merge(sides, "high"))

    def _cells(self) -> int:
        return int(np.ceil(np.sqrt(len(self.patches))))


def sheet_of(patch: Patch, u: F64, v: F64, relief: Relief) -> Mesh:
    """A grid over a patch with its normals, raised by a relief; UVs are u and v."""
    uu, vv = np.meshgrid(u, v, indexing="ij")
    places, normals = patch(uu, vv)
    places = places + relief(places)[..., None] * normals
    index = np.arange(uu.size).reshape(uu.shape)
    a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
    triangles = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
    triangles = triangles.astype(np.int32)
    flat = np.stack([uu, vv], -1).reshape(-1, 2).astype(np.float32)
    return Mesh(
        "patch",
        places.reshape(-1, 3).astype(np.float32),
        triangles,
        normals=CornerValues(normals.reshape(-1, 3).astype(np.float32), triangles),
        uvs=(CornerValues(flat, triangles),),
    )


def laid(mesh: Mesh, size: float, at: tuple[float, float]) -> Mesh:
    """The mesh with its UVs shrunk and moved on the sheet."""
    return replace(mesh, uvs=(values_at_corners(mesh.uvs[0].at_corners() * np.float32(size) + np.float32(at)),))


def bare(mesh: Mesh) -> Mesh:
    return replace(mesh, uvs=())


def soft(mesh: Mesh) -> Mesh:
    return with_normals(replace(mesh, normals=None))


def faceted(mesh: Mesh) -> Mesh:
    """With the normals of its faces."""
    faces = face_normals(mesh.positions, mesh.triangles)[:, None].repeat(3, axis=1)
    return replace(mesh, normals=values_at_corners(faces.astype(np.float32)))


def turned_over(mesh: Mesh) -> Mesh:
    """Its faces turned over, UVs with them, normals made anew."""
    uvs = tuple(replace(channel, corners=channel.corners[:, ::-1].copy()) for channel in mesh.uvs)
    return with_normals(replace(mesh, triangles=mesh.triangles[:, ::-1].copy(), normals=None, uvs=uvs))


def placed(mesh: Mesh, turn: F64, size: float, at: F64) -> Mesh:
    """Turned by a matrix, scaled and moved."""
    positions = (mesh.positions @ turn.T * size + at).astype(np.float32)
    normals = mesh.normals
    if normals is not None:
        normals = replace(normals, values=(normals.values @ turn.T).astype(np.float32))
    return replace(mesh, positions=positions, normals=normals)


def any_turn(rng: Rng) -> F64:
    """A rotation, every one as likely."""
    q, r = np.linalg.qr(rng.normal(size=(3, 3)))
    q = q * np.sign(np.diag(r))
    return q if np.linalg.det(q) > 0 else q[:, ::-1]


def named(mesh: Mesh, name: str) -> Mesh:
    return replace(mesh, name=name, object_names=(name,), objects=np.zeros(len(mesh.triangles), np.int32))


# Reliefs


def waves(rng: Rng, height: float, finest: float = 0.12) -> Relief:
    """Smooth waves in all directions, between -height and height."""
    count = 5
    ways = rng.normal(size=(count, 3))
    ways *= 2 * np.pi / (finest * rng.uniform(1, 3, count)[:, None] * np.linalg.norm(ways, axis=1, keepdims=True))
    phases = rng.uniform(0, 2 * np.pi, count)
    return lambda places: height / count * np.sin(places @ ways.T + phases).sum(axis=-1) * 1.6


def knobs(rng: Rng, form: Form, height: float, count: int) -> Relief:
    """Rounded knobs (or dents, below zero) at random places of a form."""
    centres = somewhere(rng, form, count)
    width = rng.uniform(0.06, 0.1, count)

    def relief(places: F64) -> F64:
        away = np.linalg.norm(places[..., None, :] - centres, axis=-1) / width
        return height * np.exp(-(away**4)).max(axis=-1)

    return relief


def added(*reliefs: Relief) -> Relief:
    return lambda places: np.sum([relief(places) for relief in reliefs], axis=0)


def even(height: float) -> Relief:
    return lambda places: np.full(places.shape[:-1], height)


def somewhere(rng: Rng, form: Form, count: int) -> F64:
    """Places on a form, away from the rims of its patches: (count, 3)."""
    found = []
    for _ in range(count):
        patch = form.patches[rng.integers(len(form.patches))]
        found.append(patch(*rng.uniform(0.25, 0.75, 2)[:, None])[0][0])
    return np.array(found)


# Patches


def flat(u: F64, v: F64) -> tuple[F64, F64]:
    places = np.stack([u - 0.5, v - 0.5, 0 * u], -1)
    return places, np.broadcast_to(np.array([0.0, 0.0, 1.0]), places.shape)


def around_axis(radius: float, height: float, flare: float = 0.0) -> Patch:
    """The side of a tube about z."""

    def patch(u: F64, v: F64) -> tuple[F64, F64]:
        a = np.where(u == 1, 0, u) * 2 * np.pi
        r = radius * (1 + flare * v)
        slope = radius * flare / height
        normal = np.stack([np.cos(a), np.sin(a), 0 * a - slope], -1) / np.hypot(1, slope)
        return np.stack([r * np.cos(a), r * np.sin(a), height * (v - 0.5)], -1), normal

    return patch


def ring_patch(big: float, small: float) -> Patch:
    def patch(u: F64, v: F64) -> tuple[F64, F64]:
        a, b = (np.where(w == 1, 0, w) * 2 * np.pi for w in (u, v))
        normal = np.stack([np.cos(b) * np.cos(a), np.cos(b) * np.sin(a), np.sin(b)], -1)
        ring = big + small * np.cos(b)
        return np.stack([ring * np.cos(a), ring * np.sin(a), small * np.sin(b)], -1), normal

    return patch


SIDES = tuple(np.roll(np.eye(3), axis, axis=1) @ np.diag(way) for axis in range(3) for way in ((1, 1, 1), (-1, 1, -1)))


def ball_patches(stretch: F64) -> tuple[Patch, ...]:
    """An ellipsoid over the sides of a cube."""

    def side(turn: F64) -> Patch:
        def patch(u: F64, v: F64) -> tuple[F64, F64]:
            grown = [np.tan((w - 0.5) * np.pi / 2) for w in (u, v)]
            way = np.einsum("ij,j...->...i", turn, np.stack([*grown, 1 + 0 * u]))
            way = way / np.linalg.norm(way, axis=-1, keepdims=True)
            normal = way / stretch
            return 0.5 * way * stretch, normal / np.linalg.norm(normal, axis=-1, keepdims=True)

        return patch

    return tuple(side(turn) for turn in SIDES)


def box_patches(size: F64, radius: float) -> tuple[Patch, ...]:
    """A box with rounded edges; radius 0 for sharp ones."""

    def side(turn: F64) -> Patch:
        def patch(u: F64, v: F64) -> tuple[F64, F64]:
            outer = np.einsum("ij,j...->...i", turn, np.stack([u - 0.5, v - 0.5, 0.5 + 0 * u])) * size
            most = size / 2 - radius
            inner = np.clip(outer, -most, most)
            way = outer - inner
            if radius == 0:
                return outer, np.broadcast_to(turn[:, 2], outer.shape)
            way = way / np.linalg.norm(way, axis=-1, keepdims=True)
            return inner + radius * way, way

        return patch

    return tuple(side(turn) for turn in SIDES)


# Forms


def plate(rng: Rng) -> Form:
    return Form("plate", (flat,), (int(rng.integers(1, 6)),) * 2)


def tube(rng: Rng) -> Form:
    patch = around_axis(rng.uniform(0.25, 0.45), rng.uniform(0.6, 1), rng.uniform(-0.3, 0.3))
    return Form("tube", (patch,), (int(rng.integers(20, 40)), int(rng.integers(4, 8))))


def ring(rng: Rng) -> Form:
    steps = int(rng.integers(24, 40)), int(rng.integers(14, 22))
    return Form("ring", (ring_patch(0.36, rng.uniform(0.1, 0.16)),), steps)


def ball(rng: Rng) -> Form:
    return Form("ball", ball_patches(rng.uniform(0.6, 1, 3)), (int(rng.integers(5, 9)),) * 2)


def box(rng: Rng) -> Form:
    """A hard box under a sculpt with narrow rounded edges."""
    size = rng.uniform(0.5, 1, 3)
    steps = (int(rng.integers(1, 4)),) * 2
    return Form("box", box_patches(size, 0.0), steps, hard=True, fine=box_patches(size, 0.05))


def chamfered(rng: Rng) -> Form:
    """A soft box with a loop of edges along its rims."""
    radius = 0.04
    return Form(
        "chamfered box",
        box_patches(rng.uniform(0.6, 1, 3), radius),
        (3, 3),
        breaks=np.array([0.0, 0.06, 0.94, 1.0]),
    )


SMOOTH = (plate, tube, ring, ball)
