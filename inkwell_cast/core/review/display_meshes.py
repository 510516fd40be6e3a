"""The light form of meshes that a browser draws, as messages of `mesh.binary_message`."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from ..base.array_types import F32, F64, I32, U8, AnyArray, Bool
from ..base.kernels import kernel, prange
from ..base.progress import ShareDone
from ..cage.drawing import cage_lines, dent_lines, sparse_rays
from ..cage.fit import cage_of
from ..mesh.adjacency import edges_of, seams_of
from ..mesh.binary_message import Blocks, pack
from ..mesh.cells import numbered_cells
from ..mesh.mesh import CornerValues, Mesh, corner_positions, merge, subset
from ..mesh.normals import smooth, weld, with_normals
from ..mesh.surface_samples import surface_of
from ..piece.assembly import low_part, undivided
from ..piece.piece import Assembly, take
from ..piece.scene_cache import Warm
from ..tangent.frame import tangents_for
from ..uv.layout import SheetPlan, lay_out_sheets

STAND_IN_ABOVE = 500_000
STAND_IN_TRIANGLES = 240_000
THIN_OUT_ABOVE = 1_500_000
THINNED = 700_000  # triangles, of cells of a grid, from which the stand-in is made then
MOST_CELLS = 2000  # along the longest side
NO_SHEET = 255
NEIGHBOURS = 6
FEWEST_TRIANGLES = 400
NEAR_AT_MOST = 3_000_000  # triangles from which a stand-in of a place is made within two seconds
NEAR_RIM = 1.1  # of a ball: what lies around it gives the normals at its rim their neighbours


def view_of_low(assembly: Assembly) -> Blocks:
    """Every low of the piece corner by corner, with what it needs to wear maps; lows without a partner come last.

    Per triangle: its object and the number of its sheet in the header's list, NO_SHEET for none. The first
    `paired` triangles are those that have a cage (see `view_of_cage`). For a low that is subdivided, `wire (3 W, 2)`
    are the UVs of its triangles before that, as an artist knows them, and `wireSheet (W,)` their sheets. `seams (S, 4)`
    are the borders of the islands, from u, v to u, v, and `seamSheet (S,)` their sheets.
    """
    low, keys = assembly.low, list(assembly.keys)
    sheets, sheet = _sheets_of(assembly, low)
    alone = [a.part for a in assembly.paired.alone if a.role in ("low", "self")]
    extra = [low_part(assembly.recipe, assembly.files[part.file], part) for part in alone]
    keys += [part.key for part in alone]
    pieces = ([low] if len(low.triangles) else []) + [mesh for mesh in extra if len(mesh.triangles)]
    if not pieces:
        return pack({"triangles": 0, "keys": [], "sheets": [], "paired": 0, "bounds": None}, {})
    whole = with_normals(merge(pieces, "low"))
    assert whole.normals is not None
    count, channel = len(whole.triangles), assembly.recipe.sheet.channel
    uvs = whole.uvs[channel].at_corners() if channel < len(whole.uvs) else np.zeros((count, 3, 2), np.float32)
    tangents = np.zeros((count, 3, 4), np.float32)
    tangents[..., 0] = tangents[..., 3] = 1
    if len(low.triangles) and _usable(low, channel):
        tangents[: len(low.triangles)] = tangents_for(low, channel, assembly.recipe.basis)
    header = {
        "triangles": count,
        "paired": len(low.triangles),
        "keys": keys,
        "bounds": whole.bounds.tolist(),
        "pairs": [pair.name if (pair := assembly.paired.pair_of(key)) else "" for key in keys],
        "sheets": [{"name": s.name, "width": s.width, "height": s.height} for s in sheets],
        "members": {part.key: pair.name for pair in assembly.paired.pairs for _, part in pair.members},
    }
    arrays = {
        "position": corner_positions(whole).reshape(-1, 3),
        "normal": whole.normals.at_corners().reshape(-1, 3),
        "tangent": tangents.reshape(-1, 4),
        "uv": uvs.reshape(-1, 2),
        "color": np.repeat(_colors(whole), 3, axis=0),
        "object": whole.objects,
        "sheet": np.pad(sheet, (0, count - len(sheet)), constant_values=NO_SHEET),
    }
    if len(low.triangles) and _usable(low, channel):
        arrays |= _borders(low, channel, sheet)
    if assembly.recipe.subdivision.scheme != "none" and len(low.triangles):
        wire = undivided(assembly).low
        arrays |= {"wire": wire.uvs[channel].at_corners().reshape(-1, 2), "wireSheet": _sheets_of(assembly, wire)[1]}
    return pack(header, arrays)


def _borders(low: Mesh, channel: int, sheet: U8) -> dict[str, AnyArray]:
    """The edges at which UV islands end, and their sheets."""
    edges, uvs = edges_of(low), low.uvs[channel].at_corners()
    t, k = np.nonzero(seams_of(uvs, edges) | (edges.across < 0))
    ends = np.concatenate([uvs[t, k], uvs[t, (k + 1) % 3]], axis=1)
    return {"seams": np.ascontiguousarray(ends, np.float32), "seamSheet": sheet[t]}


def _sheets_of(assembly: Assembly, low: Mesh) -> tuple[list[SheetPlan], U8]:
    """The sheets, and for every triangle of a low the number of its own in them (T,)."""
    sheets = lay_out_sheets(assembly.recipe, low).sheets if _usable(low, assembly.recipe.sheet.channel) else []
    sheet = np.full(len(low.triangles), NO_SHEET, np.uint8)
    for n, plan in reversed([*enumerate(sheets)]):
        sheet[plan.triangles] = n
    return sheets, sheet


def _usable(low: Mesh, channel: int) -> bool:
    return channel < len(low.uvs) and low.uvs[channel].complete


def view_of_cage(assembly: Assembly, warm: Warm, tell: ShareDone = lambda share: None) -> Blocks:
    """Where rays start: lines of the cage (L, 2, 3) and a sparse even set of rays (R, 2, 3), float32, scene units.

    The header tells of cage meshes, in words by pair. `tell` is that of `fit.cage_of`.
    """
    if not len(assembly.low.triangles):
        nothing = np.zeros((0, 2, 3), np.float32)
        return pack({"forms": []}, {"lines": nothing, "rays": nothing})
    cage = cage_of(assembly, warm, tell)
    lines = np.concatenate([cage_lines(assembly, cage), dent_lines(assembly, cage)])
    forms = [{"pair": f.pair, "form": f.form, "words": f.words, "limited": len(f.limited)} for f in cage.forms]
    return pack({"forms": forms}, {"lines": lines, "rays": sparse_rays(assembly, cage)})


def view_of_sculpt(mesh: Mesh, names: tuple[str, ...], tell: ShareDone = lambda share: None) -> Blocks:
    """Some objects of one file, indexed; over half a million triangles through a decimated stand-in.

    `tell(share)` hears how much of the work is done, 0 to 1.
    """
    mesh = with_normals(take(mesh, names))
    large = len(mesh.triangles) > STAND_IN_ABOVE
    return _drawn(stand_in(mesh, tell) if large else mesh, mesh, standIn=large)


def view_near(
    mesh: Mesh, names: tuple[str, ...], centre: Sequence[float], radius: float, tell: ShareDone = lambda share: None
) -> Blocks:
    """What a stand-in hides: the triangles of some objects of one file that reach into a ball, scene units.

    All of them where that can be drawn (`complete` in the header), else through a stand-in of their own, which is
    finer. None, with `drawn` false, where even that would take too long: a smaller ball is to be asked for.
    """
    mesh = replace(take(mesh, names), uvs=(), tangents=None, colors=None, polygons=None)
    chosen = _reaching(mesh.positions, mesh.triangles, np.asarray(centre, np.float64), NEAR_RIM * radius)
    count = int(np.count_nonzero(chosen))
    if count > NEAR_AT_MOST:
        return pack({"drawn": False, "complete": False}, {})
    part = with_normals(subset(mesh, chosen))
    complete = count <= STAND_IN_ABOVE
    return _drawn(part if complete else stand_in(part, tell), mesh, drawn=True, complete=complete)


@kernel(parallel=True)
def _reaching(positions: F32, triangles: I32, centre: F64, radius: float) -> Bool:
    """Which triangles, each seen as the ball around its middle, reach into a ball: (T,)."""
    out = np.empty(len(triangles), np.bool_)
    for t in prange(len(triangles)):
        a, b, c = positions[triangles[t, 0]], positions[triangles[t, 1]], positions[triangles[t, 2]]
        away = 0.0
        own = np.zeros(3)
        for k in range(3):
            middle = (float(a[k]) + float(b[k]) + float(c[k])) / 3
            away += (middle - centre[k]) ** 2
            own[0] += (a[k] - middle) ** 2
            own[1] += (b[k] - middle) ** 2
            own[2] += (c[k] - middle) ** 2
        out[t] = np.sqrt(away) <= radius + np.sqrt(max(own[0], own[1], own[2]))
    return out


def _drawn(shown: Mesh, whole: Mesh, **said: bool) -> Blocks:
    """The message of a mesh with normals, or of what stands for it."""
    header = {
        "name": whole.name,
        "triangles": len(whole.triangles),
        "bounds": whole.bounds.tolist(),
        "keys": [f"{whole.name}/{name}" for name in shown.object_names],
        "materials": list(shown.material_names),
    }
    return pack(header | said, _indexed(shown))


def _colors(mesh: Mesh) -> AnyArray:
    """Material colour of every triangle, (T, 3) uint8."""
    return np.rint(np.clip(mesh.material_colors, 0, 1) * 255).astype(np.uint8)[mesh.materials]


def _vertex_colors(mesh: Mesh) -> AnyArray:
    colors = np.zeros((len(mesh.positions), 3), np.uint8)
    colors[mesh.triangles] = _colors(mesh)[:, None]
    return colors


def _at_vertices(mesh: Mesh, of: I32) -> I32:
    """The object or material `of` (T,) of every vertex, (V,); of one that several share, the last."""
    found = np.zeros(len(mesh.positions), np.int32)
    found[mesh.triangles] = of[:, None]
    return found


def _indexed(mesh: Mesh) -> dict[str, AnyArray]:
    assert mesh.normals is not None
    normals: CornerValues = mesh.normals
    if normals.corners is mesh.triangles or np.array_equal(normals.corners, mesh.triangles):
        return {
            "position": mesh.positions,
            "normal": normals.values[: len(mesh.positions)],
            "color": _vertex_colors(mesh),
            "index": mesh.triangles.astype(np.uint32).reshape(-1),
            "object": _at_vertices(mesh, mesh.objects),
            "material": _at_vertices(mesh, mesh.materials),
        }
    return {
        "position": corner_positions(mesh).reshape(-1, 3),
        "normal": normals.at_corners().reshape(-1, 3),
        "color": np.repeat(_colors(mesh), 3, axis=0),
        "object": np.repeat(mesh.objects, 3),
        "material": np.repeat(mesh.materials, 3),
    }


def stand_in(mesh: Mesh, tell: ShareDone = lambda share: None) -> Mesh:
    """Fewer triangles of the same shape, object by object, with the normals and materials of the nearest vertices."""
    mesh = with_normals(mesh)
    share = STAND_IN_TRIANGLES / max(len(mesh.triangles), 1)
    pieces = []
    for n, name in enumerate(mesh.object_names):
        tell(n / len(mesh.object_names))
        part = take(mesh, (name,))
        if len(part.triangles):
            pieces.append(_lighter(part, share, lambda s, n=n: tell((n + s) / len(mesh.object_names))))  # type: ignore[misc]
    return merge(pieces, mesh.name)


def _lighter(mesh: Mesh, share: float, tell: ShareDone) -> Mesh:
    """One object with `share` of its triangles, at least a few hundred."""
    import fast_simplification
    from scipy.spatial import cKDTree

    assert mesh.normals is not None
    plain = replace(mesh, uvs=(), tangents=None, colors=None, polygons=None)
    wanted = max(share * len(mesh.triangles), FEWEST_TRIANGLES)
    if wanted >= len(mesh.triangles):
        return plain
    tell(0.1)
    points, faces, corner = thinned(mesh)
    tell(0.4)
    if wanted < len(faces):
        fewer, faces = fast_simplification.simplify(points, faces, 1 - wanted / len(faces))
        tell(0.9)
        near = corner[cKDTree(points).query(np.asarray(fewer), k=NEIGHBOURS, workers=-1)[1]]
        points = np.asarray(fewer, np.float32)
        corner = _facing(mesh, near, smooth(Mesh("light", points, np.asarray(faces, np.int32))).values)
    triangles: I32 = np.asarray(faces, np.int32)
    first = corner[triangles[:, 0]] // 3
    normals = CornerValues(mesh.normals.values[mesh.normals.corners.reshape(-1)[corner]], triangles)
    return replace(
        plain,
        positions=points,
        triangles=triangles,
        normals=normals,
        objects=mesh.objects[first],
        materials=mesh.materials[first],
    )


def _facing(mesh: Mesh, near: AnyArray, normals: F32) -> AnyArray:
    """Of some corners near each vertex (V, K) the one whose normal agrees best, on the same side of a thin wall."""
    assert mesh.normals is not None
    candidates = mesh.normals.values[mesh.normals.corners.reshape(-1)[near]]
    best = np.einsum("vkc,vc->vk", candidates, normals).argmax(axis=1)
    return near[np.arange(len(near)), best]


def thinned(mesh: Mesh) -> tuple[F32, I32, I32]:
    """Positions, triangles, and for every position a corner of the mesh that has it.

    Vertices at one place become one, else decimating tears files apart that have a vertex for every corner. Of a very
    large mesh so do those of one cell of a fine grid, so that it stays quick.
    """
    if len(mesh.triangles) <= THIN_OUT_ABOVE:
        kept, of = np.unique(weld(mesh.positions), return_inverse=True)
        place: I32 = of.astype(np.int32)
    else:
        area = surface_of([(mesh.positions, mesh.triangles)]).area
        widest = float(np.ptp(mesh.bounds, axis=0).max())
        place, kept = numbered_cells(mesh.positions, max(np.sqrt(2 * area / THINNED), widest / MOST_CELLS))
    triangles, corner = _between(mesh.triangles, place, len(kept))
    return mesh.positions[kept], triangles, corner


@kernel
def _between(triangles: I32, place: I32, count: int) -> tuple[I32, I32]:
    """Triangles between the places of their vertices that still have three, and a corner that is at each place."""
    kept, corner = 0, np.zeros(count, np.int32)
    for t in range(len(triangles)):
        a, b, c = place[triangles[t, 0]], place[triangles[t, 1]], place[triangles[t, 2]]
        corner[a], corner[b], corner[c] = 3 * t, 3 * t + 1, 3 * t + 2
        kept += a != b and b != c and c != a
    out, n = np.empty((kept, 3), np.int32), 0
    for t in range(len(triangles)):
        a, b, c = place[triangles[t, 0]], place[triangles[t, 1]], place[triangles[t, 2]]
        if a != b and b != c and c != a:
            out[n, 0], out[n, 1], out[n, 2] = a, b, c
            n += 1
    return out, corner
