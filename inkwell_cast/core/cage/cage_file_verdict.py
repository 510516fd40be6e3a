"""A cage mesh from a file, judged by the rays that it makes: a cage that cannot be meant is told before it is believed.

A ray that starts on the inner side of its face, farther off than half the low's diagonal, or nowhere on a cage that
should limit it, comes from a cage that was scaled, moved or exported for another mesh.
"""

from dataclasses import dataclass

import numpy as np

from ..mesh.mesh import corner_positions
from ..mesh.surface_samples import few_over
from ..piece.piece import Assembly
from ..rays.ray import reach_at
from .cage import Cage, rays_of

TRIED = 20_000  # rays of a pair
FAR = 0.5  # of the low's diagonal
WRONG = 0.02  # share of a pair's rays from which on its cage is told of
HOPELESS = 0.5  # and from which on it blocks a bake


@dataclass(frozen=True, slots=True)
class CageVerdict:
    """Of the rays of a pair with a cage mesh, the shares (0 to 1) that start behind the low, or far off.

    idle is the share of the rays that a cage which only limits the length does not meet.
    """

    pair: str
    behind: float
    far: float
    idle: float

    @property
    def wrong(self) -> bool:
        return max(self.behind, self.far) > WRONG or self.idle > 1 - WRONG

    @property
    def hopeless(self) -> bool:
        return max(self.behind, self.far) > HOPELESS or self.idle > 1 - WRONG

    @property
    def words(self) -> str:
        """What is wrong, for a user; "" for nothing."""
        said = []
        if self.behind > WRONG:
            said.append(
                f"{self.behind:.0%} of its rays start behind the low’s surface: the cage lies inside the low there"
            )
        if self.far > WRONG:
            said.append(f"{self.far:.0%} start farther off than half the low’s diagonal")
        if self.idle > 1 - WRONG:
            said.append("no ray of the low meets it")
        return f"{'; '.join(said)}. It may be moved, scaled, or made for another mesh." if said else ""


def cage_verdicts(assembly: Assembly, cage: Cage) -> list[CageVerdict]:
    """A verdict for every pair with a cage mesh, in their order."""
    if not cage.forms:
        return []
    low, rays = assembly.low, rays_of(assembly, cage)
    points = corner_positions(low).astype(np.float64)
    normal = np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    names = [pair.name for pair in assembly.paired.pairs]
    verdicts = []
    for form in cage.forms:
        rows = np.flatnonzero(assembly.low_pair == names.index(form.pair))
        owner, b = few_over(points[rows], TRIED)
        if not len(owner):
            continue
        out = reach_at(rays, rows[owner], b).astype(np.float64)
        length = np.linalg.norm(out, axis=1)
        behind = np.einsum("nc,nc->n", out, normal[rows[owner]]) < -0.05 * length
        idle = 0.0
        if form.form == "length":  # a ray that does not meet the cage starts at the reach
            even = np.linalg.norm(np.einsum("nk,nkc->nc", b, cage.offsets[rows[owner]].astype(np.float64)), axis=1)
            idle = float((np.abs(length - even) < 1e-6 * np.maximum(even, 1e-30)).mean())
        verdicts.append(CageVerdict(form.pair, float(behind.mean()), float((length > FAR * low.diagonal).mean()), idle))
    return verdicts
