"""What the pages do, one service for each kind of thing: they join the store and the engine."""

from ...engine.lanes import Lanes
from ...engine.messages import Job
from ...engine.ticket import Ticket
from ...store import Store, bakes
from .api_tokens import ApiTokens
from .at_work import Work
from .bakes import Bakes
from .batches import Batches
from .disk import Disk
from .drawings import Drawings
from .exports import Exports
from .folders import Folders
from .handoffs import Handoffs
from .live import Live
from .lods import Lods
from .measures import Measures
from .piece_files import PieceFiles
from .pieces import Pieces
from .projects import Projects
from .receivers import Receivers
from .settings import Settings
from .uploads import MAX_UPLOAD, Uploads

DELETED_DAYS = 7  # on which the program was open, after which what was deleted is removed for good


class Services:
    """All that routes call. Methods that wait for the engine are coroutines."""

    def __init__(self, store: Store, engine: Lanes, max_upload: int = MAX_UPLOAD) -> None:
        self.store, self.engine = store, engine
        self._following: dict[int, list[Ticket]] = {}  # jobs that are of no use once their piece's settings change
        self.uploads = Uploads(store, engine, max_upload)
        self.pieces, self.settings = Pieces(self), Settings(self)
        self.drawings, self.measures, self.exports = Drawings(self), Measures(self), Exports(self)
        self.bakes, self.batches, self.disk = Bakes(self), Batches(self), Disk(self)
        self.live, self.work, self.folders = Live(self), Work(self), Folders(self)
        self.receivers, self.handoffs, self.piece_files = Receivers(self), Handoffs(self), PieceFiles(self)
        self.api_tokens, self.projects, self.lods = ApiTokens(self), Projects(self), Lods(self)
        store.remove_old(DELETED_DAYS)
        store.tidy()
        with store.writing() as db:
            bakes.mark_interrupted(db)

    def follow(self, piece_id: int, job: Job) -> Ticket:
        """Hand in a job that is given up when the settings of its piece change."""
        ticket = self.engine.submit(job, piece_id=piece_id)
        tickets = self._following.setdefault(piece_id, [])
        tickets[:] = [*(t for t in tickets if not t.future.done()), ticket]
        return ticket

    def give_up(self, piece_id: int, kinds: tuple[type, ...] = (object,)) -> None:
        """Give up what follows the settings of a piece, since they changed, or jobs of some kinds among it."""
        for ticket in self._following.get(piece_id, []):
            if isinstance(ticket.job, kinds):
                ticket.stop(patient=True)
