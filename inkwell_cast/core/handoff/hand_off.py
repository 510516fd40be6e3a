"""Handing off: a folder or an archive with all that a receiver needs, which appears whole or not at all.

Everything is written to a temporary folder beside the target, under names of the pattern; the folder, or a zip of it,
then takes the target's place in one step. So what fails leaves nothing, and two at once do not mix.
"""

import datetime
import errno
import pathlib
import shutil
from dataclasses import dataclass, field

from ..bake.manifest import sha256_of
from ..base.errors import Cancelled, InputProblem
from ..base.progress import Cancel, Progress
from ..formats import glb_writer, write_mesh
from ..images import write_picture
from ..piece.assembly import undivided
from ..piece.piece import Assembly
from ..piece.scene_cache import Warm
from ..settings.handoff import Handoff
from ..uv.layout import lay_out_sheets
from .bake_on_disk import Finished
from .channel_packing import packed
from .export_meshes import cage_mesh, low_mesh
from .file_names import plain
from .handed_manifest import HandedFile, HandedManifest
from .handoff_before import handoff_before
from .plan import VERTICES, Planned, is_shared, own_names, plan, refuse_place
from .report import report
from .shared_folder import Change, counted, put_into
from .textured_glb import by_sheet, worn
from .vertex_bake import worn_by_vertices
from .whole_or_nothing import archive_of, beside, put

__all__ = ["Finished", "Handed", "HandedFile", "hand_off", "plain"]


@dataclass(frozen=True, slots=True)
class Handed:
    """Where a handoff lies, and what is in it."""

    path: pathlib.Path
    manifest: HandedManifest
    changes: list[Change] = field(default_factory=list)

    @property
    def words(self) -> str:
        """What became of files among those of others, such as "2 changed, 9 the same"; else empty."""
        return counted(self.changes)


def hand_off(
    finished: Finished,
    assembly: Assembly,
    warm: Warm,
    handoff: Handoff,
    target: str | pathlib.Path,
    receiver: str = "",
    day: datetime.date | None = None,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
) -> Handed:
    """Write a handoff of a bake: a folder, files in one that others use, or an archive where `target` ends with .zip.

    `assembly` is the piece as that bake put it together (with its low displaced, if it was), `handoff` what to write.
    Raises InputProblem for names that clash, maps that a packed picture misses, a target that is taken or cannot be
    written, and a full disk; Cancelled; nothing is left then.
    """
    target, day = pathlib.Path(target), day or datetime.date.today()
    planned = plan(
        handoff, finished.piece, finished.manifest.recipe, finished.manifest.sheets, finished.manifest.maps, day
    )
    refuse_place(handoff, finished.piece, target, planned)
    shared = is_shared(handoff, target)
    try:
        (target if shared else target.parent).mkdir(parents=True, exist_ok=True)
        with beside(target, inside=shared) as folder:
            files = list[HandedFile]()
            for n, file in enumerate(planned):
                if cancel():
                    raise Cancelled
                progress(f"handing off {file.label}", 0.05 + 0.85 * n / max(len(planned), 1))
                _write(folder / file.name, file, finished, assembly, warm)
                files += _written(folder, file, finished)
            manifest = _manifest(finished, handoff, receiver, day, files)
            manifest = _told(folder, finished, manifest, shared, handoff_before(target, finished.piece, shared))
            progress("handing off", 0.95)
            if cancel():
                raise Cancelled
            if shared:
                done = put_into(folder, target, finished.piece, handoff.existing == "replace")
                return Handed(target, manifest, done)
            if target.suffix.lower() == ".zip":
                folder = archive_of(folder)
            return Handed(put(folder, target, handoff.existing), manifest)
    except OSError as error:
        raise InputProblem(
            str(target),
            f"The handoff cannot be written ({error.strerror or error}).",
            "Free some space or choose another folder." if error.errno == errno.ENOSPC else "Choose another folder.",
        ) from error


def _told(
    folder: pathlib.Path, finished: Finished, manifest: HandedManifest, shared: bool, before: HandedManifest | None
) -> HandedManifest:
    """Write the report, if there is to be one, and the manifest, which then names it."""
    own, page = own_names(manifest.handoff, finished.piece, archive=not shared)
    if manifest.handoff.report:
        (folder / page).write_text(report(finished, manifest, before), encoding="utf-8")
        files = [*manifest.files, _described(folder / page, Planned(page, "Report"), finished)]
        manifest = manifest.model_copy(update={"files": files})
    (folder / own).write_text(manifest.model_dump_json(indent=2) + "\n", encoding="utf-8")
    return manifest


def _written(folder: pathlib.Path, file: Planned, finished: Finished) -> list[HandedFile]:
    """What a planned file became: itself, and the materials beside a mesh."""
    path = folder / file.name
    materials, described = path.with_suffix(".mtl"), [_described(path, file, finished)]
    if file.mesh and materials.is_file():
        described.append(_described(materials, Planned(materials.name, f"Materials of {file.name}"), finished))
    return described


def _write(path: pathlib.Path, planned: Planned, finished: Finished, assembly: Assembly, warm: Warm) -> None:
    if planned.key:
        shutil.copyfile(finished.files[planned.sheet, planned.key], path)
    elif planned.pack:
        sheet = finished.sheet(planned.sheet)
        picture = packed(
            planned.pack,
            (sheet.width, sheet.height),
            lambda key: finished.picture(planned.sheet, key),
            lambda key: finished.files.get((planned.sheet, key)),
        )
        write_picture(path, planned.pack.format, picture)
    elif planned.mesh == "glb":
        low, sheets = low_mesh(assembly, warm), lay_out_sheets(assembly.recipe, assembly.low).sheets
        glb_writer.write(path, by_sheet(low, sheets), [worn(finished, low, sheet) for sheet in sheets])
    elif planned.mesh == VERTICES:
        low, sheets = low_mesh(assembly, warm), lay_out_sheets(assembly.recipe, assembly.low).sheets
        write_mesh(path, worn_by_vertices(finished, low, sheets, planned.takes))
    else:
        plain_low = undivided(assembly) if assembly.relief else assembly  # a receiver displaces the low by itself
        write_mesh(path, cage_mesh(plain_low, warm) if planned.mesh == "cage" else low_mesh(plain_low, warm))


def _described(path: pathlib.Path, planned: Planned, finished: Finished) -> HandedFile:
    entry = finished.map(planned.sheet, planned.key) if planned.key else None
    space = entry.space if entry else planned.pack.space if planned.pack else ""
    return HandedFile(
        file=path.name,
        label=planned.label,
        sheet=planned.sheet,
        map=planned.key,
        space=space,
        pack=planned.pack,
        bytes=path.stat().st_size,
        sha256=sha256_of(path),
    )


def _manifest(
    finished: Finished, handoff: Handoff, receiver: str, day: datetime.date, files: list[HandedFile]
) -> HandedManifest:
    names = {(file.sheet, file.map): file for file in files if file.map}
    maps = []
    for entry in finished.manifest.maps:
        file = names.get((entry.sheet, entry.key))
        maps.append(entry.model_copy(update={"file": file.file if file else "", "preview": ""}))
    bake = finished.manifest.model_copy(update={"maps": maps, "sides": {}})  # its pictures are in the report
    return HandedManifest(
        piece=finished.piece, receiver=receiver, day=day.isoformat(), handoff=handoff, files=files, bake=bake
    )
