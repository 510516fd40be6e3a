"""Named parts of a demo piece, and the two meshes that they make: the low unwrapped onto one sheet, and the high."""

import pathlib
from dataclasses import dataclass, replace

import numpy as np

from ..core.base.array_types import F64
from ..core.formats import write_mesh
from ..core.mesh.mesh import CornerValues, Mesh, merge
from ..core.mesh.normals import with_normals
from .packing import pack
from .shapes import Panel

Y_UP = np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0]], np.float64)

Color = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class DemoPart:
    """One named part: its patches as high and as low, either of which may be missing.

    A part belongs to the pair of its name; `names` call its low and high otherwise.
    """

    name: str
    material: str
    high: list[Panel]
    low: list[Panel]
    mirror_of: str = ""
    names: tuple[str, str] = ("", "")

    @property
    def low_name(self) -> str:
        return self.names[0] or f"{self.name}_low"

    @property
    def high_name(self) -> str:
        return self.names[1] or (f"{self.name}_high" if self.low else self.name)  # what floats says so itself

    def placed(self, offset: tuple[float, float, float], matrix: F64 | None = None) -> "DemoPart":
        turn = np.eye(3) if matrix is None else matrix
        move = [[p.placed(turn, offset) for p in patches] for patches in (self.high, self.low)]
        return replace(self, high=move[0], low=move[1])

    def mirrored(self, name: str, names: tuple[str, str] = ("", "")) -> "DemoPart":
        """The part seen in the plane x = 0, with the same UVs."""
        flip = np.diag([-1.0, 1.0, 1.0])
        sides = [[p.placed(flip, (0, 0, 0)) for p in patches] for patches in (self.high, self.low)]
        return DemoPart(name, self.material, sides[0], sides[1], self.name, names)


def meshes_of(
    parts: list[DemoPart], materials: dict[str, Color], name: str, gap: float, glowing: dict[str, Color] | None = None
) -> tuple[Mesh, Mesh]:
    """The low and the high of a whole piece, mirrored parts after those whose UVs they share.

    `gap` lies between charts, in the unit of the parts; `glowing` is the light that materials send out.
    """
    modelled = [part for part in parts if part.low and not part.mirror_of]
    charts = [(part.name, k, patch) for part in modelled for k, patch in enumerate(part.low)]
    flats = [_laid_down(patch.flat * patch.worth) for _, _, patch in charts]
    corners, side = pack(np.array([np.ptp(flat.reshape(-1, 2), axis=0) for flat in flats]), gap)
    placed = {
        (part, k): (flat + corner) / side for (part, k, _), flat, corner in zip(charts, flats, corners, strict=True)
    }
    lows, highs = [], []
    for part in parts:
        color, flip = materials[part.material], bool(part.mirror_of)
        if part.low:
            uvs = [placed[part.mirror_of or part.name, k] for k in range(len(part.low))]
            lows.append(_grid_mesh(part.low_name, part.material, color, part.low, uvs, flip))
        if part.high:
            high = _grid_mesh(part.high_name, part.material, color, part.high, None, flip)
            sent = np.array([(glowing or {}).get(part.material, (0, 0, 0))], np.float32)
            highs.append(replace(high, emission_colors=sent))
    low, high = (merge(meshes, name) for meshes in (lows, highs))
    return replace(low, name=f"{name}_low.glb"), replace(high, name=f"{name}_high.glb")


def written(folder: pathlib.Path, meshes: tuple[Mesh, ...]) -> tuple[pathlib.Path, ...]:
    """Write meshes under their names; gives their paths."""
    for mesh in meshes:
        write_mesh(folder / mesh.name, mesh)
    return tuple(folder / mesh.name for mesh in meshes)


def _grid_mesh(name: str, material: str, color: Color, patches: list[Panel], uvs: list[F64] | None, flip: bool) -> Mesh:
    """Triangles of some grids, wound outward, with corners that fall together left out."""
    positions, flats, triangles, start = [], [], [], 0
    for k, patch in enumerate(patches):
        n, m = patch.points.shape[:2]
        index = start + np.arange(n * m).reshape(n, m)
        a, b, c, d = index[:-1, :-1], index[1:, :-1], index[1:, 1:], index[:-1, 1:]
        both = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])
        triangles.append(both[:, ::-1] if flip else both)
        positions.append(patch.points.reshape(-1, 3) @ Y_UP.T)
        flats.append((uvs[k] if uvs else patch.flat).reshape(-1, 2))
        start += n * m
    points = np.round(np.concatenate(positions), 5).astype(np.float32)
    faces = np.concatenate(triangles).astype(np.int32)
    p = points[faces]
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    faces = faces[area > 1e-9]
    layers = (CornerValues(np.concatenate(flats).astype(np.float32), faces),) if uvs else ()
    mesh = Mesh(
        name,
        points,
        faces,
        uvs=layers,
        object_names=(name,),
        material_names=(material,),
        material_colors=np.array([color], np.float32),
    )
    return with_normals(mesh)


def _laid_down(flat: F64) -> F64:
    """A chart turned so that it is wider than high, with its lower left corner at the origin."""
    width, height = np.ptp(flat.reshape(-1, 2), axis=0)
    turned_flat = flat if width >= height else np.stack([flat[..., 1], -flat[..., 0]], axis=-1)
    return turned_flat - turned_flat.reshape(-1, 2).min(axis=0)
