"""Where a handoff goes: written beside its target, and moved there in one step."""

import errno
import json
import os
import pathlib
import shutil
import tempfile
import time
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import IO

from ..bake.manifest import sha256_of
from ..base.errors import InputProblem
from ..base.system import hold_alone

MANIFEST, REPORT = "manifest.json", "report.html"
KIND = "inkwell-cast handoff"
MOST_NUMBERS = 10_000
PASSING, HELD, AN_HOUR = ".inkwell-", "held", 3600.0  # a temporary folder, the file in it that is locked, seconds


@contextmanager
def beside(target: pathlib.Path, inside: bool = False) -> Iterator[pathlib.Path]:
    """A temporary folder on the disk of the target, or inside it; whatever is left of it at the end is removed."""
    there = target if inside else target.parent
    _sweep(there)
    whole = pathlib.Path(tempfile.mkdtemp(prefix=PASSING, dir=there))
    folder = whole / (target.stem if target.suffix.lower() == ".zip" else target.name)
    folder.mkdir()
    try:
        with (whole / HELD).open("wb") as held:
            _hold(held)
            yield folder
    finally:
        shutil.rmtree(whole, ignore_errors=True)


def _hold(held: IO[bytes]) -> bool:
    """Whether a file could be locked; some shares of a network lock nothing."""
    try:
        hold_alone(held)
    except OSError:
        return False
    return True


def _sweep(there: pathlib.Path) -> None:
    """Remove temporary folders of handoffs that were killed: nobody holds them, and their hour is over."""
    for left in there.glob(f"{PASSING}*"):
        try:
            if time.time() - (left / HELD).stat().st_mtime < AN_HOUR:
                continue
            with (left / HELD).open("r+b") as held:
                over = _hold(held)
        except OSError:
            continue
        if over:
            shutil.rmtree(left, ignore_errors=True)


def archive_of(folder: pathlib.Path) -> pathlib.Path:
    """A zip of a folder, the same bytes for the same files; big pictures are compressed already."""
    path = folder.parent / f"{folder.name}.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for file in sorted(folder.iterdir()):
            entry = zipfile.ZipInfo(f"{folder.name}/{file.name}", (1980, 1, 1, 0, 0, 0))
            entry.external_attr = 0o644 << 16
            text = file.suffix in (".obj", ".json", ".html")
            entry.compress_type = zipfile.ZIP_DEFLATED if text else zipfile.ZIP_STORED
            with file.open("rb") as source, archive.open(entry, "w", force_zip64=True) as sink:
                shutil.copyfileobj(source, sink, 1 << 20)
    return path


class Taken(InputProblem):
    """Something is there, and what becomes of it must be asked."""


def refuse_taken(target: pathlib.Path, existing: str) -> None:
    """Raise InputProblem for a target that may not be replaced, `Taken` where it may if that is wished.

    Only what a handoff of this program wrote is ever replaced.
    """
    if existing == "number" or not (target.exists() or target.is_symlink()) or _is_empty(target):
        return
    zipped = target.suffix.lower() == ".zip"
    if zipped and not target.is_file():
        raise InputProblem(str(target), "This is a folder.", "Choose another name for the archive.")
    if zipped and not is_archive(target):
        raise InputProblem(str(target), "This archive is no handoff.", "Choose another name, or number the new one.")
    if not zipped and not target.is_dir():
        raise InputProblem(str(target), "This is a file, not a folder.", "Choose another place, or number the new one.")
    if not zipped and not is_handoff(target):
        raise InputProblem(
            str(target), "This folder holds files that are no handoff.", "Choose another folder, or number the new one."
        )
    if existing == "ask":
        raise Taken(
            str(target), "Something is there already.", "Choose to replace it, to number the new one, or another place."
        )


def _is_empty(target: pathlib.Path) -> bool:
    return target.is_dir() and not any(target.iterdir())


@dataclass(frozen=True, slots=True)
class Listing:
    """What a manifest says: its own file name, the piece, and its files with their bytes and SHA-256."""

    name: str
    piece: str
    files: dict[str, tuple[int, str]]


def listing_of(path: pathlib.Path) -> Listing | None:
    """What the manifest of a handoff says; None for a file that is none."""
    try:
        manifest = json.loads(path.read_bytes())
        named = {str(entry["file"]): (int(entry["bytes"]), str(entry["sha256"])) for entry in manifest["files"]}
        plain = all(pathlib.PurePath(name).name == name for name in named)
        return Listing(path.name, str(manifest["piece"]), named) if manifest["kind"] == KIND and plain else None
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def is_handoff(folder: pathlib.Path) -> bool:
    """Whether a folder is a handoff; other files may lie in it too."""
    return listing_of(folder / MANIFEST) is not None


def is_unchanged(manifest: pathlib.Path) -> bool:
    """Whether every file that a handoff's manifest names is as it was written."""
    listing = listing_of(manifest)
    if listing is None:
        return False
    try:
        return all(
            (manifest.parent / name).stat().st_size == size and sha256_of(manifest.parent / name) == digest
            for name, (size, digest) in listing.files.items()
        )
    except OSError:
        return False


def is_archive(path: pathlib.Path) -> bool:
    """Whether a file is a zip that a handoff wrote: one folder with a manifest."""
    try:
        with zipfile.ZipFile(path) as archive:
            inner = next(name for name in archive.namelist() if name.count("/") == 1 and name.endswith(f"/{MANIFEST}"))
            manifest = json.loads(archive.read(inner))
            return bool(manifest["kind"] == KIND)
    except (OSError, ValueError, KeyError, TypeError, StopIteration, zipfile.BadZipFile, RecursionError):
        return False


def numbered(target: pathlib.Path, number: int) -> pathlib.Path:
    """The place of the first, second, ... handoff that keeps what stands at a target."""
    return target if number == 1 else target.with_name(f"{target.stem}_{number}{target.suffix}")


def put(folder: pathlib.Path, target: pathlib.Path, existing: str) -> pathlib.Path:
    """Move what was made to its place; gives the place, which may have got a number.

    In a folder that is replaced, files that its manifest does not name stay.
    """
    for number in range(1, MOST_NUMBERS):
        place = numbered(target, number)
        if not (place.exists() or place.is_symlink()) or _is_empty(place):
            if _moved(folder, place):
                return place
        elif existing != "number":
            refuse_taken(place, existing)
            if place.is_dir():
                _take_along(place, folder)
            old = folder.parent / f"old {number}"  # goes with the temporary folder
            os.rename(place, old)
            try:
                os.rename(folder, place)
            except OSError:
                os.rename(old, place)
                raise
            return place
    raise InputProblem(str(target), f"There are {MOST_NUMBERS} of it already.", "Choose another folder.")


def _take_along(old: pathlib.Path, new: pathlib.Path) -> None:
    """Put what others laid into an old handoff into the new one too, before that takes its place."""
    listing = listing_of(old / MANIFEST)
    ours = {*(listing.files if listing else {}), MANIFEST, REPORT}
    for entry in sorted(old.iterdir()):
        if entry.name in ours:
            continue
        if (new / entry.name).exists():
            raise InputProblem(
                str(entry),
                "No handoff wrote this file, and the new one has a file of its name.",
                "Move it away, or choose another folder.",
            )
        if entry.is_dir() and not entry.is_symlink():
            shutil.copytree(entry, new / entry.name, symlinks=True, copy_function=twin)
        else:
            twin(entry, new / entry.name)


def twin(source: str | pathlib.Path, target: str | pathlib.Path) -> None:
    """Give a file a second name; a copy where the disk has no hard links."""
    try:
        os.link(source, target, follow_symlinks=False)
    except OSError:
        shutil.copy2(source, target, follow_symlinks=False)


def _moved(moving: pathlib.Path, place: pathlib.Path) -> bool:
    """Move to a free place; whether it was still free."""
    try:
        if moving.is_dir():
            os.rename(moving, place)  # fails where a folder with something in it stands
        else:
            os.link(moving, place)  # fails where a file stands
            moving.unlink()
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno == errno.ENOTEMPTY:  # a folder that is not empty
            return False
        if moving.is_dir() or error.errno not in (
            errno.EPERM,
            errno.ENOSYS,
            errno.EOPNOTSUPP,
        ):  # a disk without hard links
            raise
        os.rename(moving, place)
    return True
