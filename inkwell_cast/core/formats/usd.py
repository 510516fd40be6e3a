"""USD in its text, binary and packed forms, read through its own library (an optional extra) in a child process.

Kept: prim paths' last names as objects, transforms (applied), polygons (cut by `polygons`), normals, every texCoord2f
primvar as a UV channel, displayColor, materials bound to prims or to subsets. Axes and units stay the file's.
"""

import importlib.util
import pathlib
from typing import Any

import numpy as np

from ..arrays import F32, I32, I64, Any_
from ..errors import InputProblem
from ..mesh import Layer, Mesh, merge
from ..polygons import triangulate
from ..transform import one_name_each, transformed
from .isolated import read_in_child

SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")


def read(path: pathlib.Path) -> Mesh:
    """Read one file as one mesh. Raises InputProblem, also where the library is not installed."""
    if importlib.util.find_spec("pxr") is None:
        raise InputProblem(
            path.name, "Reading USD needs a library that is not installed.",
            "Install it with `pip install inkwell-cast[usd]`, or export the mesh as GLB.",
        )  # fmt: skip
    return read_in_child(path, __name__)


def parse(path: pathlib.Path) -> Mesh:
    """The same in this process. References to other files are not followed."""
    from pxr import Tf, Usd, UsdGeom

    try:
        stage = Usd.Stage.Open(str(path), load=Usd.Stage.LoadNone)
    except Tf.ErrorException as error:
        raise InputProblem(path.name, "It cannot be read as USD.", "") from error
    places = UsdGeom.XformCache(Usd.TimeCode.Default())
    parts = []
    for prim in stage.Traverse():
        if prim.IsA(UsdGeom.Mesh):
            matrix = np.array(places.GetLocalToWorldTransform(prim), np.float64).T
            made = _part(path, UsdGeom.Mesh(prim), prim.GetName())
            if made is not None:
                parts.append(transformed(made, matrix))
    if not parts:
        raise InputProblem(path.name, "It holds no meshes of its own.", "")
    return one_name_each(merge(parts, path.name))


def _part(path: pathlib.Path, mesh: Any, name: str) -> Mesh | None:
    from pxr import UsdGeom

    positions: F32 = np.array(mesh.GetPointsAttr().Get() or [], np.float32).reshape(-1, 3)
    counts: I64 = np.array(mesh.GetFaceVertexCountsAttr().Get() or [], np.int64)
    corners: I64 = np.array(mesh.GetFaceVertexIndicesAttr().Get() or [], np.int64)
    if not len(counts):
        return None
    if counts.sum() != len(corners) or counts.min() < 0 or corners.min() < 0 or corners.max() >= len(positions):
        raise InputProblem(path.name, f"The faces of {name} name vertices that are not there.", "")
    picks, faces = triangulate(counts, corners, positions)
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        picks = picks[:, ::-1].copy()
    triangles = corners[picks].astype(np.int32)

    def layer(values: Any_, interpolation: str, width: int) -> Layer | None:
        rows = np.array(values, np.float32).reshape(-1, values.shape[1])[:, :width]
        places: dict[str, Any_] = {
            "faceVarying": picks, "vertex": triangles, "varying": triangles,
            "uniform": np.repeat(faces[:, None], 3, axis=1), "constant": np.zeros_like(triangles),
        }  # fmt: skip
        place: I32 = places[interpolation].astype(np.int32)
        return Layer(np.ascontiguousarray(rows), place) if len(rows) > place.max(initial=-1) else None

    normals, uvs, colors = None, [], None
    if mesh.GetNormalsAttr().Get():
        normals = layer(np.array(mesh.GetNormalsAttr().Get()), str(mesh.GetNormalsInterpolation()), 3)
    for primvar in UsdGeom.PrimvarsAPI(mesh).GetPrimvarsWithValues():
        kind, values = str(primvar.GetTypeName()), primvar.ComputeFlattened()
        if kind in ("texCoord2f[]", "float2[]") and values:
            uvs.append(layer(np.array(values), str(primvar.GetInterpolation()), 2))
        elif primvar.GetPrimvarName() == "displayColor" and values:
            rgb = np.array(values, np.float32).reshape(-1, 3)
            rgba = np.concatenate([rgb, np.ones((len(rgb), 1), np.float32)], axis=1)
            colors = layer(rgba, str(primvar.GetInterpolation()), 4)
    materials, material_names = _materials(mesh, len(counts))
    return Mesh(
        path.name, positions, triangles, normals=normals, uvs=tuple(uv for uv in uvs if uv), colors=colors,
        polygons=faces.astype(np.int32) if len(faces) > len(counts) else None, object_names=(name,),
        materials=materials[faces], material_names=material_names,
    )  # fmt: skip


def _materials(mesh: Any, faces: int) -> tuple[I32, tuple[str, ...]]:
    """Material of every face: what is bound to the prim, then what its subsets say."""
    from pxr import UsdGeom, UsdShade

    def bound(prim: Any) -> str:
        material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        return str(material.GetPrim().GetName()) if material else ""

    names, rows = [bound(mesh.GetPrim())], np.zeros(faces, np.int32)
    for subset in UsdGeom.Subset.GetAllGeomSubsets(mesh):
        if subset.GetElementTypeAttr().Get() != UsdGeom.Tokens.face:
            continue
        chosen = np.array(subset.GetIndicesAttr().Get() or [], np.int64)
        rows[chosen[(chosen >= 0) & (chosen < faces)]] = len(names)
        names.append(bound(subset.GetPrim()) or subset.GetPrim().GetName())
    return rows, tuple(names)
