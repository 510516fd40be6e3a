"""Mesh files: one module a format that is read, and one a format that is written.

Adding a format is a file and a line in the registry. No reader follows a path that a file gives: what belongs to a
mesh (an MTL, a glTF buffer, a texture) is looked for beside it, by its bare name.
"""

import pathlib
import re
from dataclasses import replace
from typing import Protocol

import numpy as np

from ..base.array_types import F32, Bool
from ..base.errors import InputProblem
from ..base.kernels import kernel, prange
from ..base.progress import Cancel
from ..mesh import textures
from ..mesh.mesh import FAR, CornerValues, Mesh, step_of
from ..mesh.transforms import one_name_each
from . import fbx, glb_writer, gltf, obj, obj_writer, ply, ply_writer, stl, usd
from .files_beside import companions_of
from .reading_budget import Budget


class Format(Protocol):
    SUFFIXES: tuple[str, ...]

    def read(self, path: pathlib.Path, budget: Budget) -> Mesh: ...


class Writer(Protocol):
    def write(self, path: pathlib.Path, mesh: Mesh) -> None: ...


MODULES: tuple[Format, ...] = (obj, ply, stl, gltf, fbx, usd)  # type: ignore[assignment]
REGISTRY: dict[str, Format] = {suffix: module for module in MODULES for suffix in module.SUFFIXES}
WRITERS: dict[str, Writer] = {".obj": obj_writer, ".ply": ply_writer, ".glb": glb_writer}
LONGEST_NAME = 200
COMPANIONS = (".mtl", ".bin", *textures.SUFFIXES)  # files that belong to a mesh and lie beside it


def read_mesh(path: str | pathlib.Path, name: str = "", cancelled: Cancel = lambda: False) -> Mesh:
    """Read one file as one mesh, of the format its suffix names, and refuse what cannot be computed with.

    `name` is what messages call the file, by default its own name; `cancelled()` is asked between steps. Raises
    InputProblem, also for a file that would become too large, and Cancelled.
    """
    path = pathlib.Path(path)
    name = name or path.name
    try:
        size = sum(file.stat().st_size for file in (path, *companions_of(path)))
        mesh, budget = _read(path, name, size, cancelled)
        mesh = _with_usable_colors(_named(mesh, name), budget)
        refuse_unusable_numbers(mesh)
        mesh = replace(mesh, notes=(*mesh.notes, *budget.notes))
    except InputProblem as problem:
        raise InputProblem(name, problem.what, problem.remedy, problem.part) from None
    except OSError as error:
        raise InputProblem(
            name, f"The file cannot be read ({error.strerror}).", "Check its path and rights."
        ) from error
    except MemoryError as error:
        raise InputProblem(name, "The file does not fit into memory.", "Close other programs or split it.") from error
    return mesh


def _read(path: pathlib.Path, name: str, size: int, cancelled: Cancel) -> tuple[Mesh, Budget]:
    """What a reader makes of a file; one far from its origin is read again, its positions counted from near by."""
    origin = np.zeros(3)
    for _ in range(3):  # the first reading may not even see how large it is
        budget = Budget(name, size, cancelled, origin=origin)
        mesh = format_of(pathlib.PurePath(name)).read(path, budget)
        box = mesh.bounds.astype(np.float64) if len(mesh.positions) else np.zeros((2, 3))
        if not np.isfinite(box).all():  # which is refused by its name
            break
        middle, step = box.mean(axis=0), step_of(box)
        if np.abs(middle).max() <= FAR * step:
            break
        origin = origin + np.round(middle / step) * step
    x, y, z = budget.origin.tolist()
    return replace(mesh, origin=(x, y, z)), budget


def _named(mesh: Mesh, name: str) -> Mesh:
    """The mesh under the file's name; parts that have none in the file take it too."""
    stem = pathlib.PurePath(name).stem
    return one_name_each(
        replace(
            mesh,
            name=name,
            object_names=tuple(_plain(part) or stem for part in mesh.object_names),
            material_names=tuple(_plain(material) for material in mesh.material_names),
        )
    )


def _plain(name: str) -> str:
    """A name of a file on one line and of bounded length."""
    return re.sub(r"[\x00-\x1f\x7f\x85\u2028\u2029]", "_", name)[:LONGEST_NAME]


def _with_usable_colors(mesh: Mesh, budget: Budget) -> Mesh:
    """Colours that are no numbers become mid-grey, those below 0 black; that is noted."""
    if mesh.colors is None:
        return mesh
    values = mesh.colors.values
    bad: Bool = ~np.isfinite(values) | (values < 0)
    if not bad.any():
        return mesh
    budget.note(f"{int(bad.any(axis=1).sum()):,} vertex colours are no numbers, or below 0; they are taken as grey.")
    grey = np.where(np.arange(values.shape[1]) == 3, np.float32(1), np.float32(0.5))
    return replace(mesh, colors=CornerValues(np.where(bad, grey, values).astype(np.float32), mesh.colors.corners))


def format_of(path: pathlib.PurePath) -> Format:
    """The format that a file's suffix names. Raises InputProblem for others."""
    module = REGISTRY.get(path.suffix.lower())
    if module is None:
        known = ", ".join(s[1:].upper() for s in REGISTRY)
        kind = f"Files of type {path.suffix}" if path.suffix else "Files without a suffix"
        raise InputProblem(path.name, f"{kind} cannot be read.", f"Use one of {known}.")
    return module


def write_mesh(path: str | pathlib.Path, mesh: Mesh) -> None:
    """Write a mesh in the format that the suffix names, OBJ, PLY or GLB. Raises InputProblem for others."""
    path = pathlib.Path(path)
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        known = ", ".join(s[1:].upper() for s in WRITERS)
        raise InputProblem(path.name, f"Files of type {path.suffix or '(none)'} cannot be written.", f"Use {known}.")
    try:
        writer.write(path, mesh)
    except OSError as error:
        raise InputProblem(
            path.name, f"The file cannot be written ({error.strerror}).", "Choose another folder or free some space."
        ) from error


def refuse_unusable_numbers(mesh: Mesh) -> None:
    """Raise InputProblem where a position, normal or UV in use is NaN or infinite, naming its object."""
    layers = {"position": (mesh.positions, mesh.triangles)}
    if mesh.normals:
        layers["normal"] = (mesh.normals.values, mesh.normals.corners)
    for c, uv in enumerate(mesh.uvs):
        layers[f"UV of channel {c}"] = (uv.values, uv.corners)
    if mesh.tangents:
        layers["tangent"] = (mesh.tangents.values, mesh.tangents.corners)
    for what, (values, corners) in layers.items():
        if not _has_unusable(values):
            continue
        bad: Bool = ~np.all(np.isfinite(values), axis=1)
        faces = np.flatnonzero((bad[corners] & (corners >= 0)).any(axis=1))
        if len(faces):
            corner = corners[faces[0]][bad[corners[faces[0]]]][0]
            shown = ", ".join(f"{x:g}" for x in values[corner])
            raise InputProblem(
                mesh.name,
                f"{len(faces):,} triangles have a {what} that is not a number; the first is ({shown}).",
                "Delete or repair them and export again.",
                mesh.object_of(int(faces[0])),
            )


@kernel(parallel=True)
def _has_unusable(values: F32) -> bool:
    flat = values.reshape(-1)
    bad = 0
    for i in prange(len(flat)):
        if not np.isfinite(flat[i]):
            bad += 1
    return bad > 0
