"""What a handoff will be, told before a ray is cast: names, sizes, what becomes of its folder, memory."""

import datetime
import pathlib

from pydantic import BaseModel, Field

from ..bake.expected_time import expected, in_words
from ..bake.manifest import MapFile, SheetFacts
from ..bake.memory_estimate import need_of
from ..bake.refusals import refuse_unusable
from ..base.errors import InputProblem
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..settings.handoff import Handoff
from ..uv.layout import SheetPlan, lay_out_sheets
from .plan import Planned, coming, example, is_shared, missing, own_names, refuse_place
from .shared_folder import WORDS, Change, changes


class PreviewedFile(BaseModel):
    """A file; width and height in texels, 0 for what is no picture; becomes is a state of `shared_folder.WORDS`."""

    file: str
    label: str
    sheet: str = ""
    width: int = 0
    height: int = 0
    becomes: str = ""
    owner: str = Field(default="", description="Whose it is, where it belongs to the handoff of another piece.")


class HandoffPreview(BaseModel):
    """A handoff before its bake: its files, what stands in its way, in sentences, and the bytes that the bake takes."""

    piece: str
    place: str
    files: list[PreviewedFile] = []
    problems: list[str] = []
    memory: int = 0
    disk: int = 0
    room: str = ""
    seconds: float | None = Field(default=None, description="About, by earlier bakes here; null before any.")

    def table(self) -> str:
        """The files, what stands in the way, memory and time, in plain text."""
        rows = [
            (f.file, f"{f.width} x {f.height}" if f.width else "", WORDS.get(f.becomes, f.becomes), f.label)  # type: ignore[call-overload]
            for f in self.files
        ]
        widths = [max((len(row[n]) for row in rows), default=0) for n in range(3)]
        lines = [f"{self.piece} into {self.place}"]
        lines += ["  " + "  ".join([row[n].ljust(widths[n]) for n in range(3)] + [row[3]]) for row in rows]
        lines += [f"  memory: {self.room}"] if self.room else []
        lines += [f"  time: about {in_words(self.seconds)}, by earlier bakes here"] if self.seconds is not None else []
        return "\n".join([*lines, *(f"  cannot be: {problem}" for problem in self.problems)]) + "\n"


def preview_handoff(assembly: Assembly, piece: str, handoff: Handoff, target: pathlib.Path) -> HandoffPreview:
    """Of a piece that is put together. Nothing is raised: what cannot be is among the problems."""
    told = HandoffPreview(piece=piece, place=str(target))
    recipe, sheets = assembly.recipe, list[SheetFacts]()
    try:
        refuse_unusable(assembly, Warm())
        laid = lay_out_sheets(recipe, assembly.low).sheets
        sheets, told.seconds = [_facts(assembly, sheet) for sheet in laid], expected(assembly, laid)
    except InputProblem as problem:
        told.problems.append(str(problem))
    need = need_of(assembly)
    told.memory, told.disk, told.room = need.memory, need.disk, need.words
    maps = [MapFile(key=key, sheet=s.name, file="", sha256="") for s in sheets for key in recipe.output.maps]
    lacking = missing(handoff, maps) if maps else []
    if lacking:
        told.problems.append(f"{piece}: Its packed pictures take {', '.join(lacking)}, which it does not bake.")
    try:
        planned = example(handoff, piece, recipe, sheets, datetime.date.today())
    except InputProblem as problem:
        told.problems.append(str(problem))
        return told
    sizes = {sheet.name: (sheet.width, sheet.height) for sheet in sheets}
    for file in planned:
        width, height = sizes.get(file.sheet, (0, 0)) if not file.mesh else (0, 0)
        told.files.append(PreviewedFile(file=file.name, label=file.label, sheet=file.sheet, width=width, height=height))
    _add_what_becomes(told, planned, handoff, target)
    try:
        refuse_place(handoff, piece, target, planned)
    except InputProblem as problem:
        told.problems.append(str(problem))
    return told


def _facts(assembly: Assembly, sheet: SheetPlan) -> SheetFacts:
    on_it = dict.fromkeys(assembly.low_pair[sheet.triangles].tolist())
    pairs = [assembly.paired.pairs[n].name for n in on_it]
    return SheetFacts.unbaked(sheet.width, sheet.height, pairs, sheet.name)


def _add_what_becomes(told: HandoffPreview, planned: list[Planned], handoff: Handoff, target: pathlib.Path) -> None:
    """The report, the manifest, and what each file is in a folder that others use."""
    shared = is_shared(handoff, target)
    manifest, report = own_names(handoff, told.piece, archive=not shared)
    if handoff.report:
        told.files.append(PreviewedFile(file=report, label="Report"))
    if shared:
        names = coming(planned, handoff, told.piece, target)
        found = {change.name: change for change in changes(target, told.piece, names)}
        for file in told.files:
            change = found.pop(file.file, Change(file.file, "foreign"))
            file.becomes, file.owner = change.state, change.owner
        told.files += [
            PreviewedFile(
                file=change.name,
                label="beside it" if change.name in names else "of the last handoff",
                becomes=change.state,
                owner=change.owner,
            )
            for change in found.values()
        ]
    told.files.append(PreviewedFile(file=manifest, label="Manifest"))
