"""USD in its text, binary and packed forms, read through its own library (an optional extra) in a child process.

Kept: names as objects (of a path the last part that tells something), transforms (applied), instances, polygons (cut by
`polygons`), normals, every texCoord2f primvar as a UV channel, displayColor, materials bound to prims or to subsets
with the colours of their preview surfaces. Axes and units stay the file's. References, payloads and sublayers that lie
in other files are taken out before anything is composed, so none of them is ever opened; what was left out is told.
"""

import importlib.util
import pathlib
import re
from typing import Any

import numpy as np

from ..base.array_types import F32, I32, I64, AnyArray
from ..base.errors import InputProblem
from ..mesh.mesh import CornerValues, Mesh, merge
from ..mesh.transforms import one_name_each, transformed
from ..mesh.triangulation import triangulate
from .child_process import read_in_child
from .reading_budget import Budget

SUFFIXES = (".usd", ".usda", ".usdc", ".usdz")


def read(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read one file as one mesh. Raises InputProblem, also where the library is not installed."""
    if importlib.util.find_spec("pxr") is None:
        raise InputProblem(
            path.name,
            "Reading USD needs a library that is not installed.",
            "Install it with `pip install inkwell-cast[usd]`, or export the mesh as GLB.",
        )
    return read_in_child(path, __name__, budget)


def parse(path: pathlib.Path, budget: Budget) -> Mesh:
    """Read a file in this process. Nothing outside the file is followed."""
    from pxr import Usd, UsdGeom

    stage = _stage(path, budget)
    places = UsdGeom.XformCache(Usd.TimeCode.Default())
    parts = []
    for prim in Usd.PrimRange.Stage(stage, Usd.TraverseInstanceProxies(Usd.PrimDefaultPredicate)):
        budget.take(instances=1)
        if prim.IsA(UsdGeom.PointInstancer):
            budget.note(f"{prim.GetName()} scatters copies of meshes, which were left out.")
        if not prim.IsA(UsdGeom.Mesh) or _hidden(prim, budget):
            continue
        matrix = np.array(places.GetLocalToWorldTransform(prim), np.float64).T
        part = _part(path, UsdGeom.Mesh(prim), _telling_name(prim), budget)
        if part is not None:
            parts.append(transformed(part, budget.placed(matrix)))
    if not parts:
        raise InputProblem(path.name, "It holds no meshes of its own.", "")
    return one_name_each(merge(parts, path.name))


def _stage(path: pathlib.Path, budget: Budget) -> Any:
    """The file alone as a stage: all that would open another file is taken out of a copy of its layer first."""
    from pxr import Sdf, Tf, Usd

    try:
        given = Sdf.Layer.FindOrOpen(str(path))
        if given is None:
            raise InputProblem(path.name, "It cannot be read as USD.", "")
        layer = Sdf.Layer.CreateAnonymous(".usda")
        layer.TransferContent(given)
        if list(layer.subLayerPaths):
            budget.note(f"It builds on {len(layer.subLayerPaths)} other files, which were not read.")
            layer.subLayerPaths.clear()
        outside: set[str] = set()
        layer.Traverse(Sdf.Path.absoluteRootPath, lambda at: _without_outside(layer.GetObjectAtPath(at), outside))
        for name in sorted(outside)[:5]:
            budget.note(f"It refers to “{name[:80]}”, which was not read.")
        return Usd.Stage.Open(layer)
    except Tf.ErrorException as error:
        raise InputProblem(path.name, "It cannot be read as USD.", "") from error


def _without_outside(spec: Any, outside: set[str]) -> None:
    """Take references, payloads and value clips that lie in other files off a prim; their names go into `outside`."""
    from pxr import Sdf

    if not isinstance(spec, Sdf.PrimSpec):
        return
    for key in ("references", "payload"):
        if not spec.HasInfo(key):
            continue
        listed = spec.GetInfo(key)
        for kind in ("explicitItems", "addedItems", "prependedItems", "appendedItems"):
            items = getattr(listed, kind)
            outside |= {str(item.assetPath) for item in items if item.assetPath}
            if any(item.assetPath for item in items):
                setattr(listed, kind, [item for item in items if not item.assetPath])
        spec.SetInfo(key, listed)
    if spec.HasInfo("clips"):
        outside.add("value clips")
        spec.ClearInfo("clips")


GENERIC = re.compile(
    r"(mesh|geom?|geometry|shape|object|model|cube|sphere|plane|cylinder|cone|torus|grid|polysurface|root|world|scene|"
    r"default|group|grp|node)?[_.]?\d*",
    re.IGNORECASE,
)


def _telling_name(prim: Any) -> str:
    """The name of a mesh: its own, or where that tells nothing ("Mesh", "lidShape") the nearest above that does."""
    plain = str(prim.GetName())
    at = prim
    while at and str(at.GetPath()) != "/":
        name = str(at.GetName())
        above = str(at.GetParent().GetName()) if at.GetParent() else ""
        if not GENERIC.fullmatch(name) and name != f"{above}Shape":
            return name
        at = at.GetParent()
    return plain


def _hidden(prim: Any, budget: Budget) -> bool:
    """Whether a mesh is not there for rendering; that is told."""
    from pxr import UsdGeom

    image = UsdGeom.Imageable(prim)
    if image.ComputeVisibility() == UsdGeom.Tokens.invisible:
        budget.note(f"{_telling_name(prim)} is invisible and was left out.")
        return True
    purpose = str(image.ComputePurpose())
    if purpose in ("guide", "proxy"):
        budget.note(f"{_telling_name(prim)} is there as {purpose} only and was left out.")
        return True
    return False


def _part(path: pathlib.Path, mesh: Any, name: str, budget: Budget) -> Mesh | None:
    from pxr import UsdGeom

    positions: F32 = np.array(mesh.GetPointsAttr().Get() or [], np.float32).reshape(-1, 3)
    counts: I64 = np.array(mesh.GetFaceVertexCountsAttr().Get() or [], np.int64)
    corners: I64 = np.array(mesh.GetFaceVertexIndicesAttr().Get() or [], np.int64)
    if not len(counts):
        return None
    if counts.sum() != len(corners) or counts.min() < 0 or corners.min() < 0 or corners.max() >= len(positions):
        raise InputProblem(path.name, f"The faces of {name} name vertices that are not there.", "")
    budget.take(len(positions), len(corners) - 2 * len(counts))
    picks, faces = triangulate(counts, corners, positions)
    if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
        picks = picks[:, ::-1].copy()
    triangles = corners[picks].astype(np.int32)

    def layer(values: AnyArray, interpolation: str, width: int) -> CornerValues | None:
        rows = np.array(values, np.float32).reshape(-1, values.shape[1])[:, :width]
        places: dict[str, AnyArray] = {
            "faceVarying": picks,
            "vertex": triangles,
            "varying": triangles,
            "uniform": np.repeat(faces[:, None], 3, axis=1),
            "constant": np.zeros_like(triangles),
        }
        place: I32 = places[interpolation].astype(np.int32)
        return CornerValues(np.ascontiguousarray(rows), place) if len(rows) > place.max(initial=-1) else None

    normals, uvs, colors = None, [], None
    if mesh.GetNormalsAttr().Get():
        normals = layer(np.array(mesh.GetNormalsAttr().Get()), str(mesh.GetNormalsInterpolation()), 3)
    primvars = UsdGeom.PrimvarsAPI(mesh)
    given = primvars.GetPrimvar("normals")  # has the say where there are both
    if given and given.HasValue() and given.ComputeFlattened():
        normals = layer(np.array(given.ComputeFlattened()), str(given.GetInterpolation()), 3)
    for primvar in primvars.GetPrimvarsWithValues():
        kind, values = str(primvar.GetTypeName()), primvar.ComputeFlattened()
        if kind in ("texCoord2f[]", "float2[]") and values:
            uvs.append(layer(np.array(values), str(primvar.GetInterpolation()), 2))
        elif primvar.GetPrimvarName() == "displayColor" and values:
            rgb = np.array(values, np.float32).reshape(-1, 3)
            rgba = np.concatenate([rgb, np.ones((len(rgb), 1), np.float32)], axis=1)
            colors = layer(rgba, str(primvar.GetInterpolation()), 4)
    materials, material_names, looks = _materials(mesh, len(counts), budget)
    return Mesh(
        path.name, positions, triangles, normals=normals, uvs=tuple(uv for uv in uvs if uv), colors=colors,
        polygons=faces.astype(np.int32) if len(faces) > len(counts) else None, object_names=(name,),
        materials=materials[faces], material_names=material_names, material_colors=looks[:, 0],
        emission_colors=looks[:, 1],
    )  # fmt: skip


def _materials(mesh: Any, faces: int, budget: Budget) -> tuple[I32, tuple[str, ...], F32]:
    """Material of every face: what is bound to the prim, then what its subsets say; names, and (M, 2, 3) what they
    reflect and send out."""
    from pxr import UsdGeom, UsdShade

    def bound(prim: Any) -> tuple[str, list[list[float]]]:
        material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if not material:
            return "", [[0.5] * 3, [0.0] * 3]
        looks = [_color(material, "diffuseColor", 0.5, budget), _color(material, "emissiveColor", 0.0, budget)]
        return str(material.GetPrim().GetName()), looks

    materials, rows = [bound(mesh.GetPrim())], np.zeros(faces, np.int32)
    for subset in UsdGeom.Subset.GetAllGeomSubsets(mesh):
        if subset.GetElementTypeAttr().Get() != UsdGeom.Tokens.face:
            continue
        chosen = np.array(subset.GetIndicesAttr().Get() or [], np.int64)
        rows[chosen[(chosen >= 0) & (chosen < faces)]] = len(materials)
        name, looks = bound(subset.GetPrim())
        materials.append((name or str(subset.GetPrim().GetName()), looks))
    return rows, tuple(name for name, _ in materials), np.array([looks for _, looks in materials], np.float32)


def _color(material: Any, name: str, without: float, budget: Budget) -> list[float]:
    """A colour of a material's preview surface; grey `without` where it has none, or wears a texture instead."""
    surface = material.ComputeSurfaceSource()[0]
    given = surface.GetInput(name) if surface else None
    if not given:
        return [without] * 3
    if given.HasConnectedSource():
        budget.note(f"The material {material.GetPrim().GetName()} wears a texture, which was not read.")
        return [without] * 3
    value = given.Get()
    return [float(c) for c in value] if value is not None else [0.18 if without else 0.0] * 3
