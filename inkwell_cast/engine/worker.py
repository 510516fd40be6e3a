"""The baking process: reads, bakes and keeps what the next job will want again."""

import contextlib
import pathlib
import time
import traceback
from collections import OrderedDict
from dataclasses import replace
from multiprocessing.connection import Connection
from multiprocessing.synchronize import Event

from ..core.bake.cast_cache import laid_out
from ..core.bake.expected_time import share_of_baking
from ..core.bake.live_proof import LiveProof
from ..core.bake.manifest import Manifest
from ..core.bake.measured_reach import measure, try_fit
from ..core.bake.refusals import refuse_empty, refuse_unpaired, refuse_unusable
from ..core.base.array_types import U8, U16, AnyArray
from ..core.base.errors import Cancelled, InputProblem, RayLibraryMissing
from ..core.base.progress import part_of
from ..core.base.system import end_with_parent, yield_to_others
from ..core.cage.cage import lows_of
from ..core.cage.coverage import Coverage, coverage
from ..core.cage.fit import cage_of
from ..core.cage.inverse_rays import located_of
from ..core.cage.patch_rims import rims_of
from ..core.checks import Finding, check
from ..core.formats import read_mesh, write_mesh
from ..core.handoff.batch import Outcome, run_item
from ..core.handoff.convert_normals import convert_file
from ..core.handoff.export_meshes import EXPORTS
from ..core.handoff.hand_off import Handed, hand_off
from ..core.handoff.judge_map import THE_MAP, bring_in
from ..core.handoff.mix import mix_files
from ..core.images import read_picture, write_picture
from ..core.maps.displacement import displaced
from ..core.mending.bake_with_mends import make
from ..core.mesh.binary_message import read_foreign, read_packed, write_blocks, write_packed
from ..core.mesh.mesh import Mesh
from ..core.piece.assembly import assemble
from ..core.piece.piece import Assembly, BakeMeshes
from ..core.piece.scene_cache import Slot, Warm
from ..core.review import display_meshes
from ..core.review.lit_pictures import lit_sculpt
from ..core.review.probe import Probe, probe
from ..core.review.section import Section, section
from ..core.settings.recipe import Recipe
from .cluster import ClusterAt
from .compile_kernels import warm_up
from .memory_watch import MemoryWatch, limit_single_requests
from .mesh_facts import facts_of, mesh_files
from .messages import (
    OUT_OF_MEMORY,
    PEEK,
    BakeInto,
    BringIn,
    CheckPiece,
    ConvertMap,
    Cover,
    Draw,
    DrawNear,
    Export,
    HandOff,
    Job,
    JudgeProof,
    Load,
    Loaded,
    LoadPacked,
    MeasureReach,
    Mix,
    ProbeAt,
    Result,
    RimsOf,
    RunItem,
    SectionAt,
    ShowProof,
    Source,
    TryFit,
)
from .priority import Extent
from .told import Asked, Done, Failed, Partly, Told

KEPT_MESHES = 12
TELL_EVERY = 0.05
ASSEMBLY = Slot[Assembly]()


def run(pipe: Connection, cancel: Event, niceness: int = 0, cluster: str = "", extent: Extent = "all") -> None:
    """Serve jobs until the pipe closes. Runs in a process of its own, which leaves others what `niceness` says.

    Full bakes are traced by the workers of the `cluster` at an address, if there is one. `extent` says what is compiled
    before the first job, see `compile_kernels.warm_up`.
    """
    end_with_parent()
    yield_to_others(niceness)
    limit_single_requests()
    watch = MemoryWatch()
    watch.start()
    worker = _Worker(pipe, cancel, watch, ClusterAt(cluster))
    with contextlib.suppress(RayLibraryMissing):  # said again, to the user, by the first job that needs it
        warm_up(lambda share: pipe.send(Told(0, "compiling", share)), extent)
    pipe.send(Told(0, "", 1.0))
    while True:
        try:
            asked: Asked = pipe.recv()
        except (EOFError, OSError):
            return
        watch.begin()
        try:
            worker.serve(asked)
        except (EOFError, OSError):
            return


class _Worker:
    def __init__(self, pipe: Connection, cancel: Event, watch: MemoryWatch, cluster: "ClusterAt") -> None:
        self._pipe, self._cancel, self._watch, self._cluster = pipe, cancel, watch, cluster
        self._number, self._depth = 0, 0
        self._meshes: OrderedDict[tuple[str, str], Mesh] = OrderedDict()
        self._warm = Warm(self._stopped, self._to_end)
        self._live = LiveProof(self._warm)
        self._told = 0.0

    def serve(self, asked: Asked) -> None:
        """Answer a job. Raises OSError where nobody listens any more."""
        outer, self._depth = self._number, self._depth + 1
        try:
            self._pipe.send(self._answer(asked))
        except (EOFError, OSError):
            raise
        except Exception as error:  # a result that cannot be sent
            self._pipe.send(Failed(asked.number, "fault", f"The result could not be handed over ({error})."))
        finally:
            self._number, self._depth = outer, self._depth - 1

    def _answer(self, asked: Asked) -> Done | Failed:
        number = self._number = asked.number
        try:
            return Done(number, self._do(asked.job))
        except (InputProblem, RayLibraryMissing) as problem:
            return Failed(number, "input", str(problem))
        except Cancelled:
            return Failed(number, "cancelled", "Cancelled.")
        except MemoryError:
            self._warm.forget()
            return Failed(number, "memory", OUT_OF_MEMORY)
        except Exception as error:
            words = f"Something went wrong inside the program ({error})."
            return Failed(number, "fault", words, traceback.format_exc())

    def _stopped(self) -> bool:
        """Whether the job at work is to end; what follows the pointer is answered on the way.

        Raises MemoryError where the machine has none left for it.
        """
        while self._depth == 1 and self._pipe.poll():  # one in the midst of another, never more
            self.serve(self._pipe.recv())
        return self._to_end()

    def _to_end(self) -> bool:
        """`_stopped`, for callers in whose midst nothing can be computed."""
        if self._watch.short:
            raise MemoryError
        return self._depth == 1 and self._cancel.is_set()

    def _do(self, job: Job) -> Result:
        match job:
            case Load():
                return self._load(job)
            case ProbeAt():
                return self._probe(job)
            case Draw():
                self._draw(job)
                return None
            case DrawNear():
                return b"".join(display_meshes.view_near(self._file(job), job.names, job.centre, job.radius))
            case Cover():
                return self._cover(job)
            case MeasureReach():
                return measure(job.recipe, self._read(job.sources), job.scope, self._trying, self._stopped, self._warm)
            case TryFit():
                return try_fit(job.recipe, self._read(job.sources), self._trying, self._stopped, self._warm)
            case SectionAt():
                return self._section(job)
            case RimsOf():
                low = self._put_together(job.recipe, job.sources).low
                return rims_of(self._warm.ground(low), job.patches, job.to, job.together)
            case CheckPiece():
                return self._check(job)
            case Export():
                self._export(job)
                return None
            case ConvertMap():
                return self._convert(job)
            case Mix():
                mix_files(job.kind, [pathlib.Path(path) for path in job.given], pathlib.Path(job.made))
                return None
            case BakeInto():
                return self._bake(job)
            case ShowProof():
                meshes = self._read(job.sources)
                return self._live.show(job.recipe, meshes, job.key, job.draft, self._stopped).packed()
            case JudgeProof():
                return self._live.judge(job.recipe, self._read(job.sources), job.key, self._stopped).packed()
            case BringIn():
                return self._bring_in(job)
            case HandOff():
                return self._hand_off(job)
            case LoadPacked():
                return facts_of(read_foreign(pathlib.Path(job.path).read_bytes(), job.name))
            case RunItem():
                return self._run_item(job)

    def _tell(self, stage: str, share: float, at_once: bool = False) -> None:
        now = time.monotonic()
        if at_once or now - self._told > TELL_EVERY:
            self._told = now
            self._pipe.send(Told(self._number, stage, share))

    def _load(self, job: Load) -> Loaded:
        self._tell("reading", 0.1)
        mesh = read_mesh(job.path, job.name, self._stopped)
        refuse_empty(mesh)
        if self._stopped():
            raise Cancelled
        self._tell("keeping", 0.6)
        write_packed(pathlib.Path(job.copy), mesh)
        return facts_of(mesh)

    def _convert(self, job: ConvertMap) -> str:
        low, channel = self._assembled(job.recipe, job.sources).low, job.recipe.sheet.channel
        return convert_file(pathlib.Path(job.given), pathlib.Path(job.made), low, job.source, job.target, channel)

    def _run_item(self, job: RunItem) -> Outcome:
        return run_item(
            job.item,
            job.recipe,
            job.receiver,
            pathlib.Path(job.out),
            job.mend,
            self._tell,
            self._stopped,
            self._warm,
            job.held,
        )

    def _hand_off(self, job: HandOff) -> Handed:
        self._tell("handing off", 0.0, True)
        assembly = displaced(self._assembled(job.recipe, job.sources), self._warm, self._fitting)
        return hand_off(
            job.finished,
            assembly,
            self._warm,
            job.handoff,
            job.target,
            job.receiver,
            None,
            self._tell,
            self._stopped,
        )

    def _bake(self, job: BakeInto) -> Manifest:
        meshes = self._read(job.sources)
        folder = pathlib.Path(job.folder)

        def peek(key: str, sheet: str, image: U8 | U16) -> None:
            """Show the map at work as far as it is; the file appears whole."""
            part = folder / f"{PEEK}.part"
            write_picture(part, "png", image)
            part.replace(folder / PEEK)

        remote = None if job.proof else self._cluster.connected()
        share = share_of_baking(assemble(job.recipe, meshes, self._warm))
        baking, saving = part_of(self._tell, 0.0, share), part_of(self._tell, share, 1 - share)
        try:
            made = make(job.recipe, meshes, job.mend, baking, self._stopped, self._warm, peek, remote)
        finally:
            (folder / PEEK).unlink(missing_ok=True)
        files = mesh_files(job.sources, meshes, made.bake.assembly)
        judged = self._live.judgement_of(job.recipe, meshes)

        def written(manifest: Manifest) -> None:
            if not (job.proof or job.mend):
                self._pipe.send(Partly(self._number, manifest))

        return made.save(job.folder, files, job.folder, judged, saving, written)

    def _bring_in(self, job: BringIn) -> Manifest:
        meshes, images = self._read(job.sources), list[AnyArray]()
        for path, name in job.given:
            try:
                images.append(read_picture(pathlib.Path(path)))
            except InputProblem as problem:
                problem.where = name
                raise
        try:
            brought = bring_in(job.recipe, meshes, images, job.reading, self._tell, self._stopped, self._warm)
        except InputProblem as problem:
            problem.where = job.given[0][1] if problem.where == THE_MAP else problem.where
            raise
        self._tell("writing", 0.95)
        return brought.save(job.folder, mesh_files(job.sources, meshes, brought.bake.assembly))

    def _probe(self, job: ProbeAt) -> Probe | None:
        assembly = self._put_together(job.recipe, job.sources)
        refuse_unusable(assembly, self._warm)
        laid = laid_out(assembly, self._read(job.sources), self._warm)
        for sheet in laid.sheets:
            if sheet.name == job.sheet:
                return probe(sheet.low, sheet.rays, self._warm.sculpt(assembly), job.x, job.y)
        return None

    def _draw(self, job: Draw) -> None:
        self._tell("drawing", 0.1)
        if job.what == "lit":
            assembly = self._assembled(job.recipe, job.sources)
            refuse_unpaired(assembly)
            picture = lit_sculpt(assembly, self._warm.sculpt(assembly), self._warm)
            write_picture(pathlib.Path(job.path), "png", picture)
            return
        if job.what == "sculpt":
            blocks = display_meshes.view_of_sculpt(
                self._file(job), job.names, lambda share: self._tell("drawing", share, True)
            )
        else:
            assembly = self._assembled(job.recipe, job.sources)
            blocks = (
                display_meshes.view_of_low(displaced(assembly, self._warm, self._fitting))
                if job.what == "low"
                else display_meshes.view_of_cage(assembly, self._warm, self._fitting)
            )
        write_blocks(pathlib.Path(job.path), blocks)

    def _file(self, job: Draw | DrawNear) -> Mesh:
        """The mesh of a file as it is set."""
        return self._warm.treated({m.name: m for m in self._read(job.sources).named}, job.recipe)[job.name]

    def _check(self, job: CheckPiece) -> list[Finding]:
        self._tell("checking", 0.1)
        return check(job.recipe, self._read(job.sources), self._warm, self._stopped)

    def _cover(self, job: Cover) -> Coverage:
        self._tell("measuring", 0.1)
        assembly = self._assembled(job.recipe, job.sources)
        refuse_unpaired(assembly)
        sculpt, located = self._warm.sculpt(assembly), located_of(assembly, self._warm)
        cage = cage_of(assembly, self._warm, self._fitting)
        return coverage(assembly, sculpt, cage, located, lows_of(assembly, job.scope), self._stopped)

    def _trying(self, share: float) -> None:
        self._tell("trying", share, True)

    def _fitting(self, share: float) -> None:
        if self._stopped():
            raise Cancelled
        self._tell("fitting", share)

    def _section(self, job: SectionAt) -> Section | None:
        assembly = self._put_together(job.recipe, job.sources)
        refuse_unpaired(assembly)
        if not 0 <= job.triangle < len(assembly.low.triangles):
            return None  # a low without a partner
        sculpt, cage = self._warm.sculpt(assembly), cage_of(assembly, self._warm)
        return section(assembly, sculpt, cage, job.triangle, job.place, job.turned, job.zoom, job.along, job.view)

    def _put_together(self, recipe: Recipe, sources: list[Source]) -> Assembly:
        """The assembly that maps show, of the last section or probe if nothing changed since."""
        return self._warm.once(
            ASSEMBLY, _key(recipe, sources), lambda: displaced(self._assembled(recipe, sources), self._warm)
        )

    def _export(self, job: Export) -> None:
        self._tell("writing", 0.1)
        write_mesh(job.path, EXPORTS[job.what](self._assembled(job.recipe, job.sources), self._warm))

    def _assembled(self, recipe: Recipe, sources: list[Source]) -> Assembly:
        return assemble(recipe, self._read(sources), self._warm)

    def _read(self, sources: list[Source]) -> BakeMeshes:
        named = []
        for source in sources:
            key = source.path, source.name
            if key not in self._meshes:
                self._tell("reading", 0.0)
                self._meshes[key] = replace(read_packed(pathlib.Path(source.path)), name=source.name)
            self._meshes.move_to_end(key)
            named.append(self._meshes[key])
        while len(self._meshes) > max(KEPT_MESHES, len(sources)):
            self._meshes.popitem(last=False)
        return BakeMeshes([], [], named)


def _key(recipe: Recipe, sources: list[Source]) -> str:
    return recipe.model_dump_json() + "".join(s.path + s.name for s in sources)
