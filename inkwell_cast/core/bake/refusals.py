"""What stops a bake, and what an artist should hear of afterwards. What is wrong with meshes is found by `checks`."""

import numpy as np

from ..base.array_types import F32, I32
from ..base.errors import InputProblem
from ..base.kernels import kernel, prange
from ..cast.hits import Cast
from ..mesh.mesh import Mesh
from ..piece.near_origin import LARGEST, MOST_SIZES, SMALLEST, box_in_file, distance_of, size_of
from ..piece.piece import Assembly
from ..piece.scene_cache import Slot, Warm
from ..tangent.frame import tangents_for

NOT_EMPTY = Slot[list[Mesh]]()


def refuse_unusable(assembly: Assembly, warm: Warm | None = None) -> None:
    """Raise InputProblem for meshes that cannot be baked at all."""
    paired, recipe, files = assembly.paired, assembly.recipe, list(assembly.files.values())
    refuse_unpaired(assembly)
    (warm or Warm()).once(NOT_EMPTY, str([id(mesh) for mesh in files]), lambda: _refused_empty(files))
    for pair in paired.pairs:
        for part in pair.lows:
            mesh = assembly.files[part.file]
            _refuse_without_uvs(mesh, mesh.object_names.index(part.name), recipe.sheet.channel)
    if recipe.basis.tangents == "file":
        tangents_for(assembly.low, recipe.sheet.channel, recipe.basis)


def _refused_empty(files: list[Mesh]) -> list[Mesh]:
    """The files, held so that their identities stay theirs. Raises InputProblem."""
    for mesh in files:
        refuse_empty(mesh)
    _refuse_out_of_range(files)
    return files


def refuse_unpaired(assembly: Assembly) -> None:
    """Raise InputProblem where no low has a high."""
    if assembly.paired.pairs:
        return
    alone = assembly.paired.alone
    lows = [a for a in alone if a.role in ("low", "self")]
    highs = [a for a in alone if a.role in ("high", "float")]
    if not lows:
        raise InputProblem("The piece", "There is no low to bake onto.", "Add the low-poly mesh.")
    if not highs:
        raise InputProblem(
            lows[0].part.file, "There is no high for it to receive from.", "Add the sculpt that belongs to this low."
        )
    raise InputProblem(
        lows[0].part.file,
        f"Nothing is paired: {lows[0].reason}.",
        "Rename the parts, pair them by hand, or let every low receive from every high (one pair).",
        lows[0].part.name,
    )


def refuse_empty(mesh: Mesh) -> None:
    """Raise InputProblem for a mesh in which no triangle has an area."""
    if len(mesh.triangles) == 0:
        raise InputProblem(mesh.name, "It holds no triangles.", "Export the mesh with its faces.")
    if zero_area(mesh) == len(mesh.triangles):
        raise InputProblem(
            mesh.name,
            f"All of its {len(mesh.triangles):,} triangles have zero area.",
            "Check the scale it was exported with.",
        )


def _refuse_out_of_range(files: list[Mesh]) -> None:
    """Raise InputProblem for what is too far from the origin, too small or too large to be computed with in 32 bits."""
    boxes = [np.array(box_in_file(mesh)) for mesh in files]
    away, size = min(map(distance_of, boxes)), max(map(size_of, boxes))
    if away > MOST_SIZES:
        raise InputProblem(
            files[0].name,
            f"It lies {away:,.0f} times its size from the origin.",
            "Take it near the origin in the step Meshes, or export it there.",
        )
    if not SMALLEST <= size <= LARGEST:
        raise InputProblem(
            files[0].name,
            f"It is {size:.2g} scene units large; {SMALLEST:.0e} to {LARGEST:.0e} can be computed with.",
            "Scale its files in the step Meshes, or export it in other units.",
        )


def zero_area(mesh: Mesh) -> int:
    """How many triangles have no area at all."""
    return int(_zero_area(mesh.positions, mesh.triangles))


@kernel(parallel=True)
def _zero_area(positions: F32, triangles: I32) -> int:
    count = 0
    for f in prange(len(triangles)):
        a, b, c = triangles[f, 0], triangles[f, 1], triangles[f, 2]
        ax, ay, az = np.float64(positions[a, 0]), np.float64(positions[a, 1]), np.float64(positions[a, 2])
        ux, uy, uz = positions[b, 0] - ax, positions[b, 1] - ay, positions[b, 2] - az
        vx, vy, vz = positions[c, 0] - ax, positions[c, 1] - ay, positions[c, 2] - az
        if uy * vz == uz * vy and uz * vx == ux * vz and ux * vy == uy * vx:
            count += 1
    return count


def _refuse_without_uvs(mesh: Mesh, part: int, channel: int) -> None:
    remedy = "Unwrap it and export it with its UVs."
    rows = mesh.objects == part
    if channel and channel >= len(mesh.uvs):
        raise InputProblem(
            mesh.name,
            f"It has no UV channel {channel} (it has {len(mesh.uvs)}, counted from 0).",
            "Choose another channel in the step Maps.",
            mesh.object_names[part],
        )
    if not mesh.uvs:
        raise InputProblem(mesh.name, "It has no UVs, so there is nowhere to bake to.", remedy)
    lacking = int((mesh.uvs[channel].corners[rows] < 0).any(axis=1).sum())
    if lacking:
        raise InputProblem(mesh.name, f"{lacking:,} triangles have no UVs.", remedy, mesh.object_names[part])


def warnings_after(assembly: Assembly, high: Mesh, casts: list[Cast], outside: int) -> list[str]:
    """Sentences about what a finished bake could not do."""
    said = []
    texels, missed = sum(c.texels for c in casts), sum(c.missed for c in casts)
    if outside:
        said.append(f"{outside:,} triangles of the low lie outside every sheet and were not baked.")
    if texels == 0:
        said.append("No triangle of the low covers a sample of the sheet; check the UVs or choose a larger sheet.")
    elif missed == texels:
        said.append(
            "No ray struck the sculpt; low and high may not share a place or a scale, or the reach is too small."
        )
    if any(c.contested for c in casts) and "normal_object" in assembly.recipe.output.maps:
        said.append(
            "Parts of the low share their place on the sheet. An object-space normal map can be right on only one of "
            "them; use the tangent-space map for mirrored parts."
        )
    left = [a for a in assembly.paired.alone if a.role != "cage"]
    if left:
        more = f", and {len(left) - 1} more" if len(left) > 1 else ""
        said.append(f"Left out: {left[0].part.name} ({left[0].reason}){more}.")
    flat = zero_area(assembly.low)
    if flat:
        said.append(f"{flat:,} triangles of the low have zero area and receive nothing.")
    flat = zero_area(high)
    if flat:
        said.append(f"{flat:,} triangles of the high have zero area; rays pass them by.")
    return said
