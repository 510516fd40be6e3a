"""Mesh: the one geometry type.

A mesh is a set of triangles over shared positions. What may differ from corner to corner (normals, UVs, colours) is
kept in layers: values, and for every corner of every triangle the row it uses. A reader that finds one normal a
vertex therefore copies nothing, and one that finds a normal a corner loses nothing.
"""

import math
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from ..base.array_types import F32, F64, I32, AnyArray, Bool
from .textures import Texture

NO_VALUE = -1
NO_OFFSET = (0.0, 0.0, 0.0)
FAR = 64.0  # sizes from the origin: farther off, 32 bits hold fewer than 18 of what tells two places apart
ColorSpace = Literal["linear", "srgb"]


@dataclass(frozen=True, slots=True)
class CornerValues:
    """Per-corner data: `values (N, K) float32`, `corners (T, 3) int32` rows of values, -1 where a corner has none."""

    values: F32
    corners: I32

    def at_corners(self) -> F32:
        """The values corner by corner: (T, 3, K) float32. Corners without a value read zero."""
        if len(self.values) == 0:
            return np.zeros((*self.corners.shape, self.values.shape[1]), np.float32)
        out = self.values[self.corners]
        out[self.corners < 0] = 0
        return out

    @property
    def complete(self) -> bool:
        return bool((self.corners >= 0).all())


def values_at_corners(values: F32) -> CornerValues:
    """A layer with a row of its own for every corner, from `values (T, 3, K)`."""
    count, _, width = values.shape
    rows = np.arange(3 * count, dtype=np.int32).reshape(count, 3)
    return CornerValues(np.ascontiguousarray(values, np.float32).reshape(3 * count, width), rows)


@dataclass(frozen=True, slots=True)
class Mesh:
    """Triangles in the axes and units of their file.

    positions        (V, 3) float32
    triangles        (T, 3) int32, counter-clockwise seen from outside
    normals          layer of 3, or None
    uvs              layers of 2, one a channel; origin bottom-left
    tangents         layer of 4 (unit tangent along U, sign of the bitangent) as the file has them, or None
    colors           layer of 4 (RGBA, 0 to 1), or None
    color_space      what the numbers of colors are: "linear" light, or display values ("srgb")
    polygons         (T,) int32, the polygon of its file that a triangle was cut from, or None where all are triangles
    objects          (T,) int32 into object_names
    materials        (T,) int32 into material_names
    material_colors  (M, 3) float32, linear RGB, one a material name
    textures         (M,) the picture of a material's colour, or None
    emission_colors  (M, 3) float32, linear RGB that a material sends out, beyond 1 where it is strong; black for none
    emission_textures (M,) the picture of that, or None
    origin           x, y and z in 64 bits that positions count from; zeros unless the file lies far from its origin
    notes            what of its file was left out or taken otherwise than it may be meant, in sentences
    """

    name: str
    positions: F32
    triangles: I32
    normals: CornerValues | None = None
    uvs: tuple[CornerValues, ...] = ()
    tangents: CornerValues | None = None
    colors: CornerValues | None = None
    polygons: I32 | None = None
    objects: I32 = field(default_factory=lambda: np.zeros(0, np.int32))
    object_names: tuple[str, ...] = ()
    materials: I32 = field(default_factory=lambda: np.zeros(0, np.int32))
    material_names: tuple[str, ...] = ()
    material_colors: F32 = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    textures: tuple[Texture | None, ...] = ()
    emission_colors: F32 = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    emission_textures: tuple[Texture | None, ...] = ()
    color_space: ColorSpace = "linear"
    notes: tuple[str, ...] = ()
    origin: tuple[float, float, float] = NO_OFFSET

    def __post_init__(self) -> None:
        count = len(self.triangles)
        if len(self.objects) != count:
            object.__setattr__(self, "objects", np.zeros(count, np.int32))
        if not self.object_names:
            object.__setattr__(self, "object_names", (self.name,))
        if len(self.materials) != count:
            object.__setattr__(self, "materials", np.zeros(count, np.int32))
        if not self.material_names:
            object.__setattr__(self, "material_names", ("",))
        if len(self.material_colors) != len(self.material_names):
            plain = np.full((len(self.material_names), 3), 0.5, np.float32)
            object.__setattr__(self, "material_colors", plain)
        if len(self.emission_colors) != len(self.material_names):
            object.__setattr__(self, "emission_colors", np.zeros((len(self.material_names), 3), np.float32))
        for pictures in ("textures", "emission_textures"):
            if len(getattr(self, pictures)) != len(self.material_names):
                object.__setattr__(self, pictures, (None,) * len(self.material_names))

    @property
    def bounds(self) -> F32:
        """Lowest and highest corner of the box around the mesh: (2, 3) float32."""
        columns = self.positions.T  # many times as fast as axis 0 of rows
        return np.array([[column.min() for column in columns], [column.max() for column in columns]], np.float32)

    @property
    def diagonal(self) -> float:
        """Diagonal of the bounding box, in the file's units."""
        low, high = self.bounds.astype(np.float64)
        return float(np.linalg.norm(high - low))

    def object_of(self, triangle: int) -> str:
        return self.object_names[int(self.objects[triangle])]


def step_of(box: AnyArray) -> float:
    """A power of two, about the size of a box (2, 3), in whose multiples an origin near to it is chosen."""
    size = float(np.linalg.norm(box[1] - box[0]))
    return 2.0 ** math.ceil(math.log2(max(size, float(np.abs(box).max()) * 2.0**-24, 2.0**-120)))


def positions_in_file(mesh: Mesh) -> F32 | F64:
    """The positions (V, 3) as the file has them: in 64 bits where they count from an origin of their own."""
    return mesh.positions if mesh.origin == NO_OFFSET else mesh.positions + np.array(mesh.origin)


def corner_positions(mesh: Mesh) -> F32:
    """The positions corner by corner: (T, 3, 3) float32."""
    return mesh.positions[mesh.triangles]


def subset(mesh: Mesh, chosen: Bool) -> Mesh:
    """The triangles marked in `chosen (T,)`, with the positions and layer rows they use; all of them cost no copy."""
    if chosen.all():
        return mesh

    def thinned(layer: CornerValues | None) -> CornerValues | None:
        if layer is None:
            return None
        values, corners = _used(layer.values, layer.corners[chosen])
        return None if (corners < 0).all() else CornerValues(values, corners)

    positions, triangles = _used(mesh.positions, mesh.triangles[chosen])
    return replace(
        mesh,
        positions=positions,
        triangles=triangles,
        normals=thinned(mesh.normals),
        uvs=tuple(layer for uv in mesh.uvs if (layer := thinned(uv))),
        tangents=thinned(mesh.tangents),
        colors=thinned(mesh.colors),
        polygons=None if mesh.polygons is None else mesh.polygons[chosen],
        objects=mesh.objects[chosen],
        materials=mesh.materials[chosen],
    )


def _used(values: F32, corners: I32) -> tuple[F32, I32]:
    """The rows of `values` that `corners` names, and the corners over them."""
    used = np.zeros(len(values) + 1, bool)
    used[corners] = True  # -1, no value, marks the spare last place
    used[-1] = False
    place = np.cumsum(used, dtype=np.int32) - 1
    place[-1] = NO_VALUE
    return values[used[:-1]], place[corners]


def merge(meshes: list[Mesh], name: str) -> Mesh:
    """One mesh of several, in order, that count from one origin; a single mesh passes through untouched.

    A layer that only some of them have keeps its values there and is marked as missing elsewhere.
    """
    if len(meshes) == 1:
        return meshes[0]
    starts = np.cumsum([0] + [len(m.positions) for m in meshes])
    object_starts = np.cumsum([0] + [len(m.object_names) for m in meshes])
    material_starts = np.cumsum([0] + [len(m.material_names) for m in meshes])
    channels = max(len(m.uvs) for m in meshes)
    return Mesh(
        name,
        np.concatenate([m.positions for m in meshes]),
        np.concatenate([m.triangles + np.int32(s) for m, s in zip(meshes, starts, strict=False)]),
        normals=_merge_layers([m.normals for m in meshes], meshes, 3),
        uvs=tuple(
            layer
            for c in range(channels)
            if (layer := _merge_layers([m.uvs[c] if c < len(m.uvs) else None for m in meshes], meshes, 2))
        ),
        tangents=_merge_layers([m.tangents for m in meshes], meshes, 4),
        colors=_merge_layers([m.colors for m in meshes], meshes, 4),
        polygons=_merge_polygons(meshes),
        objects=np.concatenate([m.objects + np.int32(s) for m, s in zip(meshes, object_starts, strict=False)]),
        object_names=tuple(n for m in meshes for n in m.object_names),
        materials=np.concatenate([m.materials + np.int32(s) for m, s in zip(meshes, material_starts, strict=False)]),
        material_names=tuple(n for m in meshes for n in m.material_names),
        material_colors=np.concatenate([m.material_colors for m in meshes]),
        textures=tuple(t for m in meshes for t in m.textures),
        emission_colors=np.concatenate([m.emission_colors for m in meshes]),
        emission_textures=tuple(t for m in meshes for t in m.emission_textures),
        color_space=next((m.color_space for m in meshes if m.colors), "linear"),
        notes=tuple(dict.fromkeys(note for m in meshes for note in m.notes)),
        origin=meshes[0].origin,
    )


def _merge_polygons(meshes: list[Mesh]) -> I32 | None:
    if all(m.polygons is None for m in meshes):
        return None
    rows, start = [], 0
    for m in meshes:
        polygons = np.arange(len(m.triangles), dtype=np.int32) if m.polygons is None else m.polygons
        rows.append(polygons + np.int32(start))
        start += int(polygons.max(initial=-1)) + 1
    return np.concatenate(rows)


def _merge_layers(layers: list[CornerValues | None], meshes: list[Mesh], width: int) -> CornerValues | None:
    if all(layer is None for layer in layers):
        return None
    values, corners, start = [], [], 0
    for layer, mesh in zip(layers, meshes, strict=True):
        if layer is None:
            corners.append(np.full((len(mesh.triangles), 3), NO_VALUE, np.int32))
            continue
        values.append(layer.values.reshape(-1, width))
        corners.append(np.where(layer.corners < 0, NO_VALUE, layer.corners + np.int32(start)))
        start += len(layer.values)
    return CornerValues(np.concatenate(values), np.concatenate(corners))
