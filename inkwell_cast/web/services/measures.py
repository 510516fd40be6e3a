"""What is measured of a piece: its checks, the coverage of its cage, the section, what a texel sees."""

from typing import TYPE_CHECKING

from ...core.bake.measured_reach import FitTried, Measured
from ...core.cage.coverage import Coverage
from ...core.cage.patch_rims import Laid, PatchRims
from ...core.checks import Finding
from ...core.rays.along_surface import Place
from ...core.review.probe import Probe
from ...core.review.section import Along, Section
from ...core.settings.editing import with_reach
from ...core.settings.staleness import CHECKS, COVERAGE
from ...engine.messages import CheckPiece, Cover, MeasureReach, ProbeAt, RimsOf, SectionAt, TryFit
from ...engine.ticket import Ticket
from ...store.bakes import BakeRecord
from ...store.meshes import MeshRow
from ...store.pieces import StoredPiece
from ..cache_keys import meshes_key, result_key

if TYPE_CHECKING:
    from .services import Services

KEPT_CHECKS = 20


class Measures:
    """What the engine measured, kept for the states of pieces that were looked at last."""

    def __init__(self, services: "Services") -> None:
        self.services, self.engine = services, services.engine
        self._checks: dict[str, list[Finding]] = {}
        self._covered: dict[str, Coverage] = {}
        self._asking: dict[int, tuple[str, Ticket]] = {}  # by job, the page that waits for checks

    def check(self, piece_id: int, page: str = "") -> list[Finding]:
        """What is wrong with a piece; found once for each state of it, for a `page` that may be left meanwhile."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        key = result_key(piece.recipe, rows, CHECKS)
        if key not in self._checks:
            job = CheckPiece(piece.recipe, self.services.pieces.sources(rows))
            ticket = self.engine.submit(job, piece_id=piece_id)
            self._asking[ticket.number] = page, ticket
            try:
                self._checks[key] = ticket.future.result()
            finally:
                self._asking.pop(ticket.number, None)
            while len(self._checks) > KEPT_CHECKS:
                self._checks.pop(next(iter(self._checks)))
        return self._checks[key]

    def left(self, page: str) -> None:
        """Stop the checks that a page waited for, which was left: they would keep others waiting for nobody."""
        for asking, ticket in list(self._asking.values()):
            if asking == page:
                ticket.stop(patient=True)

    def checked(self, piece: StoredPiece, rows: list[MeshRow]) -> list[Finding] | None:
        """The findings for a piece as it is, if they are known."""
        return self._checks.get(result_key(piece.recipe, rows, CHECKS))

    def cover(self, piece_id: int, scope: str, reach: dict[str, float]) -> Coverage:
        """How well the cage holds the sculpt of a scope, with the piece's reach or one that is being tried."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        recipe = with_reach(piece.recipe, scope, reach)
        key = result_key(recipe, rows, COVERAGE) + scope
        if key not in self._covered:
            ticket = self.services.follow(piece_id, Cover(recipe, self.services.pieces.sources(rows), scope))
            self._covered[key] = ticket.future.result()
            while len(self._covered) > KEPT_CHECKS:
                self._covered.pop(next(iter(self._covered)))
        return self._covered[key]

    def measure(self, piece_id: int, scope: str) -> Measured:
        """The reach of a scope that looks best."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        ticket = self.services.follow(piece_id, MeasureReach(piece.recipe, self.services.pieces.sources(rows), scope))
        found: Measured = ticket.future.result()
        return found

    def try_fit(self, piece_id: int) -> FitTried:
        """How a fitted cage looks beside the even reach in force."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        ticket = self.services.follow(piece_id, TryFit(piece.recipe, self.services.pieces.sources(rows)))
        found: FitTried = ticket.future.result()
        return found

    def section(
        self,
        piece_id: int,
        triangle: int,
        place: tuple[float, float, float],
        turned: float,
        zoom: float,
        along: Along,
        view: tuple[float, float, float],
    ) -> Section | None:
        """The slice at a place of the low; None off the paired lows."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        job = SectionAt(piece.recipe, self.services.pieces.sources(rows), triangle, place, turned, zoom, along, view)
        cut: Section | None = self.engine.submit(job).future.result()
        return cut

    def rims(
        self, piece_id: int, patches: list[Laid], to: Place | None = None, together: bool = False
    ) -> list[PatchRims]:
        """How patches of centre, radius in scene units and soft share lie on the low; see `patch_rims.rims_of`."""
        piece, rows, _ = self.services.pieces.wanted(piece_id)
        found: list[PatchRims] = self.engine.submit(
            RimsOf(piece.recipe, self.services.pieces.sources(rows), patches, to, together)
        ).future.result()
        return found

    def probe(self, row: BakeRecord, sheet: str, x: int, y: int) -> Probe | None:
        """What a texel of a bake sees; None off the low, or when the meshes have changed."""
        known = self.services.pieces.get(row.piece_id)
        if known is None or meshes_key(known[1]) != row.meshes:
            return None
        ticket = self.engine.submit(ProbeAt(row.recipe, self.services.pieces.sources(known[1]), sheet, x, y))
        result: Probe | None = ticket.future.result()
        return result
