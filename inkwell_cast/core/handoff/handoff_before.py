"""What a handoff changes against the one before it of the same piece."""

import pathlib
import zipfile
from dataclasses import dataclass

from ..bake.manifest import Manifest
from ..settings.changes_in_words import every_change
from .handed_manifest import HandedManifest
from .shared_folder import manifests_of
from .whole_or_nothing import MANIFEST, MOST_NUMBERS, numbered


@dataclass(frozen=True, slots=True)
class Compared:
    """Against which day's handoff; figures as (what, before, now, which way: "better", "worse" or ""); files as
    (state in words, names), and settings in words."""

    day: str
    figures: list[tuple[str, str, str, str]]
    files: list[tuple[str, list[str]]]
    settings: list[str]


def handoff_before(target: pathlib.Path, piece: str, shared: bool) -> HandedManifest | None:
    """The newest handoff of a piece at a target, before another is put there; None where there is none.

    What stands there under a number counts; so does an archive. A manifest that cannot be read counts as none.
    """
    for text in manifests_of(target) if shared else _numbered_there(target):
        manifest = _read(text)
        if manifest and manifest.piece == piece:
            return manifest
    return None


def _numbered_there(target: pathlib.Path) -> list[bytes]:
    """The manifests of a target and its numbered neighbours, the newest first."""
    found = list[bytes]()
    for number in range(1, MOST_NUMBERS):
        place = numbered(target, number)
        if not place.exists():
            break
        try:
            found.append(_in_archive(place) if place.is_file() else (place / MANIFEST).read_bytes())
        except (OSError, KeyError, StopIteration, zipfile.BadZipFile):
            continue
    return found[::-1]


def _in_archive(path: pathlib.Path) -> bytes:
    with zipfile.ZipFile(path) as archive:
        return archive.read(next(name for name in archive.namelist() if name.endswith(f"/{MANIFEST}")))


def _read(text: bytes) -> HandedManifest | None:
    try:
        return HandedManifest.model_validate_json(text)
    except ValueError:
        return None


def compared(before: HandedManifest, now: HandedManifest) -> Compared | None:
    """What differs, files by their SHA-256; None where all is the same."""
    old, new = ({file.file: file.sha256 for file in one.files if file.label != "Report"} for one in (before, now))
    states = {
        "new": [name for name in new if name not in old],
        "changed": [name for name in new if name in old and new[name] != old[name]],
        "the same": [name for name in new if new[name] == old.get(name)],
        "no longer made": [name for name in old if name not in new],
    }
    figures = [row for row in _figures(before.bake, now.bake) if row[1] != row[2]]
    if before.bake.program != now.bake.program:
        figures.append(("Made by", before.bake.program or "an older version", now.bake.program, ""))
    files = [(state, names) for state, names in states.items() if names]
    settings = every_change(before.bake.recipe, now.bake.recipe)
    differs = figures or settings or any(state != "the same" for state, _ in files)
    return Compared(before.day, figures, files, settings) if differs else None


def _figures(before: Manifest, now: Manifest) -> list[tuple[str, str, str, str]]:
    rows = list[tuple[str, str, str, str]]()

    def row(what: str, one: float | None, two: float | None, form: str) -> None:
        if one is None or two is None:
            return
        said = form.format(one), form.format(two)
        rows.append((what, *said, "" if said[0] == said[1] else "better" if two < one else "worse"))

    if before.seen and now.seen:
        row("As seen, in the mean", before.seen.bake.mean, now.seen.bake.mean, "{:.2f}°")
        row("95 % within", before.seen.bake.p95, now.seen.bake.p95, "{:.2f}°")
        row("Above the best on this low", before.seen.excess, now.seen.excess, "{:.2f}°")
    row("Texels whose rays missed", before.missed_texels, now.missed_texels, "{:,}")
    row("Flaws", before.flaws_found, now.flaws_found, "{:d}")
    row("Seconds", sum(before.seconds.values()), sum(now.seconds.values()), "{:.1f}")
    return rows
