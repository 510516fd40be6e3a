"""Small assets with planted mistakes, and healthy ones: what the list of flaws finds of them, and what Mend all cures.

`make planted` writes docs/planted.md. Every asset is made here; a mistake counts as found where a flaw of one of its
causes is told, any other flaw as a false alarm.
"""

import pathlib
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from inkwell_cast.core.bake.pipeline import bake
from inkwell_cast.core.mending.mend_all import mend_all
from inkwell_cast.core.mesh.mesh import Mesh, merge, values_at_corners
from inkwell_cast.core.mesh.normals import face_normals, with_normals
from inkwell_cast.core.piece.piece import BakeMeshes
from inkwell_cast.core.settings.maps import Occlusion
from inkwell_cast.core.settings.output import Output
from inkwell_cast.core.settings.reach import Reach
from inkwell_cast.core.settings.recipe import Recipe
from inkwell_cast.core.settings.sheet import Sheet

DOCS = pathlib.Path(__file__).parent.parent / "docs"
sys.path.insert(0, str(DOCS.parent))
from tests.core.bakes import moved, upside_down  # noqa: E402
from tests.shapes import around_cube, cube, grid_mesh, plane, ribbed, rounded_box, torus  # noqa: E402

CURED = 0.3  # of what is to mend may be left; nothing to mend is nothing cured
HARM = 0.002  # degrees by which the mean as seen may grow


@dataclass(frozen=True, slots=True)
class Asset:
    """Meshes with a reach in scene units; each of `mistakes` is the causes that would tell it, none for healthy."""

    name: str
    low: Mesh
    high: Mesh
    reach: tuple[float, float]
    mistakes: tuple[frozenset[str], ...] = ()
    mendable: bool = False
    maps: tuple[str, ...] = ("normal",)
    apart: bool = False  # low and high are paired by their names

    def recipe(self) -> Recipe:
        outward, inward = self.reach
        return Recipe(
            reach=Reach(unit="scene", outward=outward, inward=inward),
            sheet=Sheet(width=256, height=256, samples=4),
            output=Output(maps=list(self.maps), depth=16),
            occlusion=Occlusion(rays=16, occluders="piece" if "occlusion" in self.maps else "pair"),
        )

    def meshes(self) -> BakeMeshes:
        return BakeMeshes([], [], [self.low, self.high]) if self.apart else BakeMeshes([self.low], [self.high])


def told_by(*causes: str) -> tuple[frozenset[str], ...]:
    return (frozenset(causes),)


def bare(mesh: Mesh) -> Mesh:
    """Without UVs, as sculpts are."""
    return replace(mesh, uvs=())


def laid(mesh: Mesh, size: float, at: tuple[float, float]) -> Mesh:
    """The mesh with its UVs shrunk and moved on the sheet."""
    return replace(mesh, uvs=(values_at_corners(mesh.uvs[0].at_corners() * np.float32(size) + np.float32(at)),))


def tube(around: int, down: int, radius: Callable[[np.ndarray], np.ndarray], name: str) -> Mesh:  # type: ignore[type-arg]
    """An open tube about z, one high, whose radius follows its height."""

    def point(u: np.ndarray, v: np.ndarray) -> tuple[np.ndarray, ...]:  # type: ignore[type-arg]
        a = np.where(u == 1, 0, u) * 2 * np.pi
        return radius(v) * np.cos(a), radius(v) * np.sin(a), v

    return with_normals(replace(grid_mesh(around, down, point, name), normals=None))


def soft(mesh: Mesh) -> Mesh:
    return with_normals(replace(mesh, normals=None))


def low_box(segments: int) -> Mesh:
    """A box with chamfered edges and soft normals, its sides laid out beside each other."""
    sides = []
    for n, turn in enumerate(
        np.roll(np.eye(3), axis, axis=1) @ np.diag(way) for axis in range(3) for way in ((1, 1, 1), (-1, 1, -1))
    ):

        def point(u: np.ndarray, v: np.ndarray, turn: np.ndarray = turn) -> np.ndarray:  # type: ignore[type-arg]
            steps = np.array([-0.5, -0.45, 0.45, 0.5])
            x, y = (np.interp(w, np.linspace(0, 1, 4), steps) for w in (u, v))
            outer = np.einsum("ij,juv->iuv", turn, np.stack([x, y, 0 * u + 0.5]))
            inner = np.clip(outer, -0.45, 0.45)
            away = outer - inner
            return np.asarray(inner + 0.05 * away / np.linalg.norm(away, axis=0))

        sides.append(laid(grid_mesh(segments, segments, point), 0.3, (0.33 * (n % 3), 0.5 * (n // 3))))
    return soft(merge(sides, "low"))


def assets() -> Iterator[Asset]:
    """The healthy ones first."""
    yield from healthy()
    yield from leaning()
    yield from on_planes()
    yield from parts()
    yield from mirrored()
    yield from more()


def healthy() -> Iterator[Asset]:
    yield Asset("ribbed plate", plane(2), ribbed("high", 0.002), (0.02, 0.02))
    yield Asset(
        "plate with deep ribs",
        plane(4),
        bare(grid_mesh(200, 200, lambda u, v: (u, v, 0.01 * np.sin(20 * np.pi * u)), "high")),
        (0.03, 0.03),
    )
    yield Asset("box with rounded edges", with_normals(cube()), rounded_box(0.05), (0.05, 0.1))
    yield Asset("box with round edges", with_normals(cube()), rounded_box(0.1), (0.05, 0.2))
    yield Asset("chamfered box", low_box(3), rounded_box(0.06), (0.05, 0.1))
    yield Asset("ring", torus(48, 24), bare(torus(200, 100, name="high")), (0.1, 0.1))
    yield Asset("thick ring", torus(48, 24), bare(torus(200, 100, small=0.72, name="high")), (0.1, 0.1))
    yield Asset(
        "tube of 48 sides",
        tube(48, 2, lambda v: 1 + 0 * v, "low"),
        bare(tube(300, 8, lambda v: 1 + 0 * v, "high")),
        (0.05, 0.05),
    )
    yield Asset(
        "grooved tube",
        tube(48, 8, lambda v: 1 + 0 * v, "low"),
        bare(tube(200, 200, lambda v: 1 + 0.01 * np.sin(30 * v), "high")),
        (0.05, 0.05),
    )


def leaning() -> Iterator[Asset]:
    for off in (0.03, 0.02):
        lean = told_by("leaning")
        yield Asset(f"skew on a hard box, {off}", with_normals(cube()), around_cube(off), (0.1, 0.05), lean, True)
        yield Asset(f"skew on a soft box, {off}", soft(cube()), around_cube(off), (0.1, 0.05), lean, True)
        yield Asset(f"skew on a chamfered box, {off}", low_box(3), around_cube(off), (0.1, 0.05), lean, True)


def on_planes() -> Iterator[Asset]:
    floor = ribbed("floor", 0.002, across=1)
    for width in (0.3, 0.15):
        size = (width, width, 1)
        plate = moved(ribbed("plate", 0.03), (0.3, 0.4, 0), size)
        lost = merge([floor, plate], "high")  # on this flat low a small one looks best where it is not drawn
        yield Asset(f"floater past the reach, {width}", plane(2), lost, (0.01, 0.01), told_by("outside"), width > 0.2)
        lid = moved(ribbed("lid", 0.2), (0.3, 0.4, 0), size)
        low = merge(
            [
                laid(plane(2, name="floor"), 0.6, (0, 0)),
                laid(moved(plane(2, name="lid"), (0.3, 0.4, 0.2), size), 0.3, (0.65, 0.65)),
            ],
            "low",
        )
        near = merge([floor, lid], "high")
        yield Asset(f"neighbour above, {width}", low, near, (0.3, 0.05), told_by("other", "farther"), True)
        middle = floor.positions[floor.triangles].mean(axis=1)
        inner = (np.abs(middle[:, :2] - 0.5) < width / 2).all(axis=1)
        pierced = replace(floor, triangles=floor.triangles[~inner])
        pierced = replace(pierced, normals=replace(floor.normals, corners=floor.normals.corners[~inner]))
        yield Asset(f"hole, {width}", plane(2), pierced, (0.02, 0.02), told_by("missed"))
        raised = merge([pierced, moved(ribbed("island", 0.05), (0.5 - width / 2, 0.5 - width / 2, 0), size)], "high")
        yield Asset(f"part out of reach, {width}", plane(2), raised, (0.02, 0.02), told_by("outside", "missed"), True)
    waves = bare(grid_mesh(80, 80, lambda u, v: (u, v, 0.004 * np.sin(20 * np.pi * u)), "high"))
    yield Asset("wound inside out", plane(2), upside_down(waves), (0.02, 0.02), told_by("back"), True)
    yield Asset(
        "reach far too large",
        plane(2),
        merge([floor, ribbed("lid", 0.25)], "high"),
        (0.4, 0.1),
        told_by("other", "farther"),
        True,
    )
    twice = merge(
        [laid(plane(2, name="one"), 0.6, (0, 0)), laid(moved(plane(2, name="two"), (1.2, 0, 0)), 0.6, (0.2, 0.2))],
        "low",
    )
    both = merge([floor, moved(ribbed("other"), (1.2, 0, 0))], "high")
    yield Asset("overlapping islands", twice, both, (0.02, 0.02), told_by("overlap"))


def parts() -> Iterator[Asset]:
    yield Asset(
        "tube of 8 sides",
        tube(8, 2, lambda v: 1 + 0 * v, "low"),
        bare(tube(300, 8, lambda v: 1 + 0 * v, "high")),
        (0.12, 0.05),
        told_by("wavy"),
    )
    yield Asset(
        "tube of 6 sides",
        tube(6, 2, lambda v: 1 + 0 * v, "low"),
        bare(tube(300, 8, lambda v: 1 + 0 * v, "high")),
        (0.2, 0.05),
        told_by("wavy"),
    )
    flat = bare(torus(60, 30, name="high"))
    faces = face_normals(flat.positions, flat.triangles)[:, None].repeat(3, axis=1).astype(np.float32)
    yield Asset(
        "faceted ring",
        torus(48, 24),
        replace(flat, normals=values_at_corners(faces)),
        (0.1, 0.1),
        told_by("faceted"),
        True,
    )
    for name, wrong in (("knob", "knbo"), ("lever", "levr")):
        low = merge(
            [
                laid(replace(plane(2), object_names=("base_low",)), 0.5, (0, 0)),
                laid(moved(replace(plane(2), object_names=(f"{name}_low",)), (1.2, 0, 0)), 0.45, (0.5, 0.5)),
            ],
            "all.ply",
        )
        high = merge(
            [
                replace(ribbed("a"), object_names=("base_high",)),
                replace(moved(ribbed("b"), (1.2, 0, 0)), object_names=(f"{wrong}_high",)),
            ],
            "sculpt.ply",
        )
        yield Asset(f"{wrong} for {name}", low, high, (0.02, 0.02), told_by("alone"), True, apart=True)
    yield shading_wall()


def shading_wall() -> Asset:
    wall = plane(2)
    at = wall.positions
    stands = replace(wall, positions=np.stack([0 * at[:, 0], at[:, 0], at[:, 1] + 0.02], axis=1).astype(np.float32))
    named = [(laid(plane(2), 0.5, (0, 0)), "floor"), (laid(stands, 0.45, (0.5, 0.5)), "wall")]
    low = merge([replace(mesh, object_names=(f"{name}_low",)) for mesh, name in named], "all.ply")
    high = merge([bare(replace(mesh, object_names=(f"{name}_high",))) for mesh, name in named], "sculpt.ply")
    return Asset(
        "a wall that shades the floor",
        low,
        high,
        (0.01, 0.01),
        told_by("neighbour"),
        True,
        ("normal", "occlusion"),
        True,
    )


def mirrored() -> Iterator[Asset]:
    floor = ribbed("floor", 0.002, across=1)
    turned = np.diag([-1.0, 1.0, 1.0]).astype(np.float32)
    other = laid(plane(2, name="left"), 0.9, (0, 0))
    halves = merge(
        [
            laid(plane(2, name="right"), 0.9, (0, 0)),
            upside_down_low(replace(other, positions=other.positions @ turned)),
        ],
        "low",
    )
    other_half = replace(floor, positions=floor.positions @ turned, triangles=floor.triangles[:, ::-1].copy())
    values = (other_half.normals.values @ turned).astype(np.float32)
    corners = other_half.normals.corners[:, ::-1].copy()
    other_half = replace(other_half, normals=replace(other_half.normals, values=values, corners=corners))
    yield Asset("mirrored halves that share a sheet", halves, merge([floor, other_half], "high"), (0.02, 0.02))
    yield Asset(
        "one half inside out",
        merge(
            [
                laid(plane(2, name="right"), 0.45, (0, 0)),
                laid(replace(other, positions=other.positions @ turned), 0.45, (0.5, 0.5)),
            ],
            "low",
        ),
        merge([floor, other_half], "high"),
        (0.02, 0.02),
        told_by("back"),
        True,
    )


def more() -> Iterator[Asset]:
    floor = ribbed("floor", 0.002, across=1)
    yield Asset("walls of a slot", *slot(0.1, 0.04), (0.3, 0.02), told_by("other", "farther"), True)
    yield Asset("walls of a narrow slot", *slot(0.05, 0.02), (0.15, 0.01), told_by("other", "farther"), True)
    yield Asset("low that strays", moved(plane(2), (0, 0, 0.1)), floor, (0.02, 0.02), told_by("outside"), True)
    grooved = bare(tube(200, 200, lambda v: 1 + 0.01 * np.sin(30 * v), "high"))
    yield Asset(
        "grooved tube of 7 sides", tube(7, 2, lambda v: 1 + 0 * v, "low"), grooved, (0.15, 0.05), told_by("wavy")
    )
    lid = moved(ribbed("lid", 0.2), (0.35, 0.35, 0), (0.3, 0.3, 1))
    below = merge(
        [laid(plane(2, name="one"), 0.45, (0, 0)), laid(moved(plane(2, name="two"), (1.2, 0, 0)), 0.45, (0.5, 0))],
        "low",
    )
    other = replace(floor, name="other", object_names=("other",))
    turned_over = replace(moved(other, (1.2, 0, 0)), triangles=floor.triangles[:, ::-1].copy(), normals=None)
    yield Asset(
        "a neighbour and a part inside out",
        below,
        merge([floor, lid, turned_over], "high"),
        (0.3, 0.05),
        (frozenset({"other", "farther"}), frozenset({"back"})),
        True,
    )


def upside_down_low(mesh: Mesh) -> Mesh:
    """The low with its faces turned over, its UVs with them."""
    uvs = tuple(replace(channel, corners=channel.corners[:, ::-1].copy()) for channel in mesh.uvs)
    return replace(mesh, triangles=mesh.triangles[:, ::-1].copy(), normals=None, uvs=uvs)


def slot(apart: float, thick: float) -> tuple[Mesh, Mesh]:
    """Two walls that face each other: low and sculpt."""
    turns = [
        (np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0]]), 0.0),
        (np.array([[0, 0, -1], [0, 1, 0], [1, 0, 0]]), apart),
        (np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0]]), apart + thick),
        (np.array([[0, 0, -1], [0, 1, 0], [1, 0, 0]]), -thick),
    ]

    def stood(mesh: Mesh, turn: np.ndarray, x: float, name: str) -> Mesh:  # type: ignore[type-arg]
        positions = mesh.positions @ turn.T.astype(np.float32) + np.array([x, 0, 0], np.float32)
        values = mesh.normals.values @ turn.T.astype(np.float32) if mesh.normals else None
        normals = replace(mesh.normals, values=values) if values is not None else None
        return replace(mesh, name=name, object_names=(name,), positions=positions.astype(np.float32), normals=normals)

    lows, highs = [], []
    for n, (turn, x) in enumerate(turns):
        lows.append(stood(laid(plane(2), 0.45, (0.5 * (n % 2), 0.5 * (n // 2))), turn, x, f"wall_{n}"))
        highs.append(stood(ribbed("wall", 0.002, across=n in (1, 2)), turn, x, f"wall_{n}"))
    return merge(lows, "low"), merge(highs, "high")


def row(asset: Asset) -> tuple[str, int, int, int, int]:
    """A line of the table; mistakes, those found, flaws told, and false ones."""
    made = bake(asset.recipe(), asset.meshes())
    judged = made.judgement()
    told = made.flaws(judged).flaws
    found = sum(any(flaw.cause in causes for flaw in told) for causes in asset.mistakes)
    false = [flaw for flaw in told if not any(flaw.cause in causes for causes in asset.mistakes)]
    cells = [
        asset.name,
        ", ".join("/".join(sorted(causes)) for causes in asset.mistakes) or "healthy",
        ", ".join(f"{flaw.cause} {flaw.share:.3f}°" for flaw in told) or "–",
        *_mended(asset),
    ]
    return f"| {' | '.join(cells)} |", len(asset.mistakes), found, len(told), len(false)


def _mended(asset: Asset) -> tuple[str, str]:
    """What Mend all did, in degrees to mend and as seen, and whether that cured it."""
    report = mend_all(asset.recipe(), asset.meshes()).report
    seen = report.seen or (0.0, 0.0)
    did = f"{report.weight[0]:.2f}° → {report.weight[1]:.2f}°, seen {seen[0]:.2f}° → {seen[1]:.2f}°"
    if seen[1] > seen[0] + HARM and report.weight[1] > report.weight[0]:
        return did, "**worse**"
    if not asset.mendable:
        return did, "–"
    return did, "cured" if report.weight[1] < CURED * report.weight[0] else "**not cured**"


INTRODUCTION = """# Planted mistakes

`make planted` bakes small assets of our own at 256², healthy ones and ones with a planted mistake, and lists the flaws
that are told, with what each adds to the mean as seen, and what *Mend all* makes of them.

| asset | planted | told | Mend all: to mend, mean as seen | |
| --- | --- | --- | --- | --- |
"""


def main() -> None:
    rows, planted, found, told, false = [], 0, 0, 0, 0
    for asset in assets():
        line, *counts = row(asset)
        rows.append(line)
        print(line, flush=True)
        planted, found, told, false = (a + b for a, b in zip((planted, found, told, false), counts, strict=True))
    cured = sum("| cured |" in line for line in rows)
    mendable = cured + sum("not cured" in line for line in rows)
    total = (
        f"\nOf {planted} mistakes {found} are found (recall {found / planted:.2f}); of {told} flaws told {false} are "
        f"false (precision {1 - false / max(told, 1):.2f}). Of {mendable} that settings can cure *Mend all* cured "
        f"{cured}; {sum('worse' in line for line in rows)} assets came out worse.\n"
    )
    print(total)
    (DOCS / "planted.md").write_text(INTRODUCTION + "\n".join(rows) + "\n" + total)


if __name__ == "__main__":
    main()
