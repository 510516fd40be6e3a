"""Many pieces, one after the other: what there is to bake in some folders, and what became of it."""

import hashlib
import json
import pathlib
import tempfile
import time
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel, ValidationError

from ... import __version__
from ..bake.manifest import MeshFile, sha256_of
from ..base.atomic_files import whole
from ..base.errors import InputProblem
from ..base.progress import Cancel, Progress
from ..formats import REGISTRY, read_mesh
from ..formats.files_beside import companions_of
from ..mending.bake_with_mends import make
from ..piece.assembly import assemble
from ..piece.guessed_roles import as_given
from ..piece.piece import BakeMeshes
from ..piece.scene_cache import Warm
from ..settings.handoff import Handoff
from ..settings.limits import AS_THEY_ARE, HeldTo
from ..settings.mends_overlay import mended
from ..settings.pairing import Pairing, read_name
from ..settings.receivers import Receiver
from ..settings.recipe import Recipe
from . import piece_file
from .bake_on_disk import Finished
from .batch_index import INDEX, index, thumbnail
from .file_names import plain
from .hand_off import Handed, hand_off
from .handoff_preview import HandoffPreview, preview_handoff
from .plan import refuse_unready
from .shared_folder import manifest_of, report_of
from .whole_or_nothing import MANIFEST, REPORT, is_handoff, is_unchanged

SUMMARY, TABLE = "summary.json", "summary.txt"


@dataclass(frozen=True, slots=True)
class Item:
    """A piece to bake: mesh files, or one piece file."""

    name: str
    files: tuple[pathlib.Path, ...]

    def with_companions(self) -> list[pathlib.Path]:
        """Its files, and those that they name beside them: materials, buffers, textures."""
        together = dict.fromkeys(self.files)
        for file in self.files:
            together |= dict.fromkeys(companions_of(file))
        return list(together)

    @property
    def is_piece(self) -> bool:
        return len(self.files) == 1 and self.files[0].suffix.lower() == piece_file.SUFFIX


class Outcome(BaseModel):
    """What became of a piece; likeness in degrees as seen, inputs a hash of all that the result follows.

    beyond says which limits it passes, where some were given; folder is empty where its files lie among others. excess
    is likeness above the best on the low, report the page of its handoff from the batch's folder, picture a WebP of it
    in base64.
    """

    piece: str
    state: Literal["done", "failed", "waiting"]
    message: str = ""
    folder: str = ""
    seconds: float = 0.0
    likeness: float | None = None
    excess: float | None = None
    texels: int = 0
    missed_texels: int = 0
    flaws: int | None = None
    beyond: list[str] = []
    inputs: str = ""
    report: str = ""
    picture: str = ""

    @property
    def manifest(self) -> str:
        """Where the manifest of its handoff lies, from the folder of the batch."""
        return f"{self.folder}/{MANIFEST}" if self.folder else manifest_of(self.piece)

    @classmethod
    def of(cls, piece: str, seconds: float, finished: Finished, handed: Handed, out: pathlib.Path) -> "Outcome":
        """Of a piece that was baked and handed off into a folder of the batch's folder `out`, or into that itself."""
        manifest, place = finished.manifest, handed.path
        folder = "" if place == out else place.name
        page = REPORT if folder else report_of(piece)
        named = any(file.file == page for file in handed.manifest.files)
        return cls(
            piece=piece,
            state="done",
            folder=folder,
            seconds=round(seconds, 2),
            texels=manifest.texels,
            missed_texels=manifest.missed_texels,
            likeness=manifest.seen.bake.mean if manifest.seen else None,
            excess=manifest.seen.excess if manifest.seen else None,
            report=str(pathlib.PurePosixPath(folder, page)) if named else "",
            picture=thumbnail(finished),
            flaws=None if manifest.flaws is None else manifest.number_of_flaws,
            beyond=manifest.beyond,
        )


class Summary(BaseModel):
    """summary.json of a batch."""

    kind: Literal["inkwell-cast batch"] = "inkwell-cast batch"
    version: Literal[1] = 1
    receiver: str = ""
    outcomes: list[Outcome] = []

    @property
    def failed(self) -> int:
        return sum(outcome.state == "failed" for outcome in self.outcomes)

    @property
    def beyond(self) -> int:
        """Pieces that are done, but beyond a limit."""
        return sum(bool(outcome.beyond) for outcome in self.outcomes)

    def of(self, piece: str) -> Outcome | None:
        return next((outcome for outcome in self.outcomes if outcome.piece == piece), None)

    def with_outcome(self, outcome: Outcome) -> "Summary":
        others = [other for other in self.outcomes if other.piece != outcome.piece]
        ordered = sorted([*others, outcome], key=lambda other: other.piece.casefold())
        return self.model_copy(update={"outcomes": ordered})

    def table(self) -> str:
        """The outcomes as a table in plain text."""
        rows = [("piece", "state", "likeness", "missed", "flaws", "seconds", "")]
        for outcome in self.outcomes:
            like = "" if outcome.likeness is None else f"{outcome.likeness:.2f}°"
            flaws = "" if outcome.flaws is None else str(outcome.flaws)
            said = "; ".join(outcome.beyond) or outcome.message
            missed = f"{outcome.missed_texels:,}" if outcome.state == "done" else ""
            rows.append((outcome.piece, outcome.state, like, missed, flaws, f"{outcome.seconds:.1f}", said))
        widths = [max(len(row[n]) for row in rows) for n in range(6)]
        lines = [
            "  ".join(
                [row[0].ljust(widths[0]), row[1].ljust(widths[1])]
                + [row[n].rjust(widths[n]) for n in range(2, 6)]
                + [row[6]]
            ).rstrip()
            for row in rows
        ]
        return "\n".join(lines) + "\n"


def find_items(paths: Iterable[pathlib.Path]) -> list[Item]:
    """Every piece in some folders and files, by name.

    A piece file is one piece. In a folder, mesh files whose names have the same stem before `_low`, `_high` and so on
    are one piece, and so are all the mesh files of each folder in it. Raises InputProblem for a path that is not there
    and for two pieces of one name.
    """
    items = list[Item]()
    for path in paths:
        if path.is_dir():
            items += _in_folder(path)
        elif path.is_file() and path.suffix.lower() == piece_file.SUFFIX:
            items.append(Item(path.stem, (path,)))
        else:
            raise InputProblem(str(path), "There is no such folder or piece file.", "Check its path.")
    if not items:
        raise InputProblem(", ".join(map(str, paths)), "Nothing to bake is in there.", "Name a folder with meshes.")
    seen: dict[str, Item] = {}
    for item in items:
        other = seen.setdefault(plain(item.name).casefold(), item)
        if other is not item:
            raise InputProblem(
                str(item.files[0]),
                f"Another piece is called {item.name} too ({other.files[0]}).",
                "Rename one of them, or run them apart.",
            )
    return sorted(items, key=lambda item: item.name.casefold())


def _in_folder(folder: pathlib.Path) -> list[Item]:
    try:
        there = sorted(entry for entry in folder.iterdir() if not entry.name.startswith("."))
    except OSError as error:
        raise InputProblem(str(folder), f"It cannot be read ({error.strerror}).", "Check its rights.") from error
    items = list[Item]()
    for entry in there:
        if entry.is_dir() and not is_handoff(entry):
            meshes = tuple(file for file in sorted(entry.iterdir()) if file.suffix.lower() in REGISTRY)
            items += [Item(entry.name, meshes)] if meshes else []
    return items + grouped([entry for entry in there if entry.is_file()], Pairing())


def grouped(files: list[pathlib.Path], pairing: Pairing) -> list[Item]:
    """The pieces among some files: a piece file each, and mesh files of one stem by the names of a pairing.

    Files that say nothing but their role (low.obj, high.obj, cage.obj) are one piece, named after their folder.
    """
    items, groups = list[Item](), dict[str, list[tuple[str, pathlib.Path]]]()
    meshes = [file for file in files if file.suffix.lower() in REGISTRY]
    readings = {file: read_name(file.stem, pairing) for file in meshes}
    sure = {read[0].stem.casefold() for read in readings.values() if read and not read[0].by_word}
    for file in files:
        if file.suffix.lower() == piece_file.SUFFIX:
            items.append(Item(file.stem, (file,)))
        elif file in readings:
            stems = [read.stem for read in readings[file]] or [file.stem]
            stem = next((stem for stem in stems if stem.casefold() in sure), stems[0]) or file.parent.name
            groups.setdefault(stem.casefold(), []).append((stem, file))
    return items + [Item(members[0][0], tuple(file for _, file in members)) for members in groups.values()]


def inputs_of(item: Item, recipe: Recipe, receiver: Receiver | None, mend: bool, held: HeldTo = AS_THEY_ARE) -> str:
    """A hash of all that the result of a piece follows, this program's version among it.

    Raises InputProblem for a file that cannot be read.
    """
    try:
        files = [(file.name, sha256_of(file)) for file in item.with_companions()]
    except OSError as error:
        raise InputProblem(item.name, f"A file cannot be read ({error}).", "Check its rights.") from error
    told = [
        __version__,
        item.name,
        files,
        recipe.model_dump_json(),
        receiver.model_dump_json() if receiver else "",
        mend,
        held.words if held.judge is None else [held.words, held.judge],
    ]
    return hashlib.sha256(json.dumps(told).encode()).hexdigest()


def loaded(item: Item, recipe: Recipe) -> tuple[str, Recipe, BakeMeshes, list[MeshFile]]:
    """A piece's name, settings (its own, where it has some) and meshes. Raises InputProblem."""
    if item.is_piece:
        piece, meshes = piece_file.read_piece(item.files[0])
        sources = [
            MeshFile(role="by name", file=entry.file, sha256=entry.sha256, triangles=len(mesh.triangles))
            for entry, mesh in zip(piece.meshes, meshes, strict=True)
        ]
        return piece.name, piece.recipe, BakeMeshes([], [], meshes), sources
    meshes = [read_mesh(file) for file in item.files]
    sources = [
        MeshFile(role="by name", file=file.name, sha256=sha256_of(file), triangles=len(mesh.triangles))
        for file, mesh in zip(item.files, meshes, strict=True)
    ]
    named = BakeMeshes([], [], meshes)
    return item.name, as_given(recipe, named), named, sources


def run_item(
    item: Item,
    recipe: Recipe,
    receiver: Receiver | None,
    out: pathlib.Path,
    mend: bool = False,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    held: HeldTo = AS_THEY_ARE,
) -> Outcome:
    """Bake a piece and hand it off into a folder of its name in `out`, in place of an earlier handoff.

    `held` takes the place of the piece's own limits: one beyond them is done, and said to be so.

    Raises InputProblem and Cancelled.
    """
    started = time.monotonic()
    progress("reading", 0.0)
    name, settings, meshes, sources = loaded(item, recipe)
    wanted = receiver.laid_over(settings) if receiver else settings
    wanted = wanted.held_to(held)
    handoff, target = in_batch(wanted.handoff, item.name, out)
    refuse_unready(handoff, name, mended(wanted), target, handoff.existing)

    def tell(stage: str, share: float) -> None:
        progress(stage, 0.9 * share)

    made = make(wanted, meshes, mend, tell, cancel, warm)
    with tempfile.TemporaryDirectory(dir=_made(out), prefix=".baked-") as folder:
        place = pathlib.Path(folder)
        manifest = made.save(place, sources, place)
        finished = Finished.of_folder(item.name if handoff.shared else name, manifest, place, place)
        handed = hand_off(
            finished,
            made.bake.assembly,
            made.bake.warm,
            handoff,
            target,
            receiver.name if receiver else "",
            progress=lambda stage, share: progress(stage, 0.9 + 0.1 * share),
            cancel=cancel,
        )
        return Outcome.of(item.name, time.monotonic() - started, finished, handed, out)


def plan_of(item: Item, recipe: Recipe, receiver: Receiver | None, out: pathlib.Path) -> HandoffPreview:
    """What `run_item` would hand off, told before anything is baked."""
    try:
        _, settings, meshes, _ = loaded(item, recipe)
        assembly = assemble(receiver.laid_over(settings) if receiver else settings, meshes)
        return preview_handoff(assembly, item.name, *in_batch(assembly.recipe.handoff, item.name, out))
    except InputProblem as problem:
        return HandoffPreview(piece=item.name, place=str(out), problems=[str(problem)])


def in_batch(handoff: Handoff, piece: str, out: pathlib.Path) -> tuple[Handoff, pathlib.Path]:
    """How and where a piece is handed off by a batch into `out`: in a folder of its own an earlier one gives way."""
    if handoff.shared:
        return handoff, out
    return handoff.model_copy(update={"existing": "replace"}), out / plain(piece)


def _made(folder: pathlib.Path) -> pathlib.Path:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputProblem(
            str(folder), f"The folder cannot be made ({error.strerror}).", "Choose another with --out."
        ) from error
    return folder


def read_summary(out: pathlib.Path) -> Summary:
    """The summary of an earlier run into a folder; an empty one where there is none that can be read."""
    try:
        return Summary.model_validate_json((out / SUMMARY).read_bytes())
    except (OSError, ValidationError):
        return Summary()


def write_summary(out: pathlib.Path, summary: Summary) -> None:
    """Write summary.json, summary.txt and index.html, each whole. Raises InputProblem."""
    try:
        with whole(_made(out) / SUMMARY) as partial:
            partial.write_text(summary.model_dump_json(indent=2) + "\n", encoding="utf-8")
        with whole(out / TABLE) as partial:
            partial.write_text(summary.table(), encoding="utf-8")
        with whole(out / INDEX) as partial:
            partial.write_text(index(summary), encoding="utf-8")
    except OSError as error:
        raise InputProblem(
            str(out), f"The summary cannot be written ({error.strerror}).", "Free some space or choose another folder."
        ) from error


def still_good(outcome: Outcome | None, inputs: str, out: pathlib.Path) -> bool:
    """Whether an earlier outcome holds: the same inputs, done, and every file still there as it was written."""
    return (
        outcome is not None
        and outcome.state == "done"
        and outcome.inputs == inputs
        and is_unchanged(out / outcome.manifest)
    )


def resumed(items: list[Item], summary: Summary, receiver: str) -> Summary:
    """The summary of the pieces at hand, those that were not looked at yet waiting."""
    outcomes = [summary.of(item.name) or Outcome(piece=item.name, state="waiting") for item in items]
    return Summary(receiver=receiver, outcomes=outcomes)
