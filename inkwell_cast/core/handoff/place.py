"""Where a handoff goes: written beside its target, and moved there in one step."""

import errno
import json
import os
import pathlib
import shutil
import tempfile
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager

from ..errors import InputProblem

MANIFEST, REPORT = "manifest.json", "report.html"
KIND = "inkwell-cast handoff"
MOST_NUMBERS = 10_000


@contextmanager
def beside(target: pathlib.Path) -> Iterator[pathlib.Path]:
    """A temporary folder on the disk of the target; whatever is left of it at the end is removed."""
    whole = pathlib.Path(tempfile.mkdtemp(prefix=".inkwell-", dir=target.parent))
    folder = whole / (target.stem if target.suffix.lower() == ".zip" else target.name)
    folder.mkdir()
    try:
        yield folder
    finally:
        shutil.rmtree(whole, ignore_errors=True)


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
    """Raise InputProblem for a target that may not be replaced, `Taken` where it may if that is wished."""
    if not target.exists() or existing == "number":
        return
    if existing == "ask" and not (target.is_dir() and not any(target.iterdir())):
        raise Taken(
            str(target), "Something is there already.", "Choose to replace it, to number the new one, or another place."
        )
    if target.is_dir() and any(target.iterdir()) and not is_handoff(target):
        raise InputProblem(
            str(target), "This folder holds files that are no handoff, which replacing it would delete.",
            "Choose another folder, or number the new one.",
        )  # fmt: skip
    if target.suffix.lower() == ".zip" and not target.is_file():
        raise InputProblem(str(target), "This is a folder.", "Choose another name for the archive.")


def is_handoff(folder: pathlib.Path) -> bool:
    """Whether a folder is a handoff, with nothing else in it."""
    try:
        manifest = json.loads((folder / MANIFEST).read_bytes())
        known = {own["file"] for own in manifest["files"]} | {MANIFEST, REPORT}
        return bool(manifest["kind"] == KIND) and all(own.name in known for own in folder.iterdir())
    except (OSError, ValueError, KeyError, TypeError):
        return False


def put(made: pathlib.Path, target: pathlib.Path, existing: str) -> pathlib.Path:
    """Move what was made to its place; gives the place, which may have got a number."""
    for number in range(1, MOST_NUMBERS):
        place = target if number == 1 else target.with_name(f"{target.stem}_{number}{target.suffix}")
        if not place.exists() or (place.is_dir() and not any(place.iterdir())):
            if _moved(made, place):
                return place
        elif existing != "number":
            refuse_taken(place, existing)
            old = made.parent / f"old {number}"  # goes with the temporary folder
            os.rename(place, old)
            try:
                os.rename(made, place)
            except OSError:
                os.rename(old, place)
                raise
            return place
    raise InputProblem(str(target), f"There are {MOST_NUMBERS} of it already.", "Choose another folder.")


def _moved(made: pathlib.Path, place: pathlib.Path) -> bool:
    """Move to a free place; whether it was still free."""
    try:
        if made.is_dir():
            os.rename(made, place)  # fails where a folder with something in it stands
        else:
            os.link(made, place)  # fails where a file stands
            made.unlink()
    except FileExistsError:
        return False
    except OSError as error:
        if error.errno == errno.ENOTEMPTY:  # a folder that is not empty
            return False
        if made.is_dir() or error.errno not in (
            errno.EPERM,
            errno.ENOSYS,
            errno.EOPNOTSUPP,
        ):  # a disk without hard links
            raise
        os.rename(made, place)
    return True
