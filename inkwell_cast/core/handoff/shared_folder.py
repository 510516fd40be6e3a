"""A handoff into a folder that others use, file by file.

Each piece has a manifest of its own there, and nothing but what that names is ever replaced or removed; what would be
the same is not touched, so that nobody who watches the folder takes it for new. What fails puts back what was there.
"""

import os
import pathlib
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from ..bake.manifest import sha256_of
from ..base.errors import InputProblem
from .file_names import plain
from .whole_or_nothing import MANIFEST, REPORT, Listing, Taken, listing_of, twin

State = Literal["new", "changed", "own", "same", "edited", "foreign", "gone", "left"]
WORDS: dict[State, str] = {
    "new": "new",
    "changed": "changed",
    "own": "perhaps changed",
    "same": "the same",
    "edited": "edited since",
    "foreign": "of others",
    "gone": "no longer made, removed",
    "left": "no longer made, but edited, left",
}
REPLACED: tuple[State, ...] = ("changed", "edited")


@dataclass(frozen=True, slots=True)
class Change:
    """What becomes of a file; owner is the piece whose handoff wrote a foreign one, empty for nobody known."""

    name: str
    state: State
    owner: str = ""


def counted(made: Iterable[Change]) -> str:
    """How many of each state, in words such as "2 changed, 9 the same"."""
    counts = Counter(change.state for change in made)
    return ", ".join(f"{counts[state]} {words}" for state, words in WORDS.items() if counts[state])


def manifest_of(piece: str) -> str:
    """The file name of a piece's manifest in a shared folder."""
    return f"{plain(piece)}.{MANIFEST}"


def report_of(piece: str) -> str:
    """The file name of a piece's report there."""
    return f"{plain(piece)}.{REPORT}"


def changes(target: pathlib.Path, piece: str, made: Mapping[str, str]) -> list[Change]:
    """What a handoff would do to a folder, by name.

    made are the files that it writes but its manifest, with their SHA-256, which is empty as long as it is not known.
    """
    earlier = _listings(target)
    own = {name: digest for listing in earlier if listing.piece == piece for name, (_, digest) in listing.files.items()}
    owners = {name: listing.piece for listing in earlier if listing.piece != piece for name in listing.files}
    there = _names(target)
    alike = {name.casefold(): name for name in there}  # which some systems take for the same
    found = []
    for name, digest in made.items():
        now = name if name in there else alike.get(name.casefold())
        if now is None:
            found.append(Change(name, "new"))
        elif now not in own:
            found.append(Change(now, "foreign", owners.get(now, "")))
        else:
            known = sha256_of(target / now)
            as_left: State = "new" if now != name else "changed" if digest else "own"
            as_left = "same" if known == digest and now == name else as_left
            found.append(Change(name, as_left if known in (digest, own[now]) else "edited"))
    for name, digest in own.items():
        if name not in made and name in there:
            found.append(Change(name, "gone" if sha256_of(target / name) == digest else "left"))
    return found


def refuse_foreign(target: pathlib.Path, planned: list[Change], replace: bool) -> None:
    """Raise InputProblem for files of others under names that are needed, `Taken` for own ones edited since."""
    if target.exists() and not target.is_dir():
        raise InputProblem(str(target), "This is a file, not a folder.", "Choose a folder.")
    for change in planned:
        if change.state == "foreign":
            whose = f"It belongs to the handoff of {change.owner}." if change.owner else "No handoff wrote this file."
            raise InputProblem(
                str(target / change.name), whose, "Add {piece} to the names, move it away, or choose another folder."
            )
    edited = [change.name for change in planned if change.state == "edited"]
    if edited and not replace:
        names = f"{', '.join(edited[:3])}{' and others' if len(edited) > 3 else ''}"
        raise Taken(
            str(target),
            f"{names} changed there since the last handoff.",
            "Choose to replace, or move what was changed away.",
        )


def put_into(folder: pathlib.Path, target: pathlib.Path, piece: str, replace: bool) -> list[Change]:
    """Move the files of a handoff, its manifest among them, from a folder on the same disk into a shared one.

    Gives what became of each but the manifest. Raises InputProblem as `refuse_foreign` does, and OSError; all is as it
    was then.
    """
    manifest = manifest_of(piece)
    made = {file.name: sha256_of(file) for file in sorted(folder.iterdir()) if file.name != manifest}
    planned = changes(target, piece, made)
    refuse_foreign(target, planned, replace)
    old = folder.parent / "old"
    old.mkdir()
    undo = list[Callable[[], None]]()
    try:
        for change in sorted(planned, key=lambda one: one.state != "gone"):  # a new name may differ by case alone
            if change.state in ("new", *REPLACED):
                undo.append(_exchanged(folder / change.name, target / change.name, old))
            elif change.state == "gone":
                undo.append(_exchanged(None, target / change.name, old))
        for listing in _listings(target):
            if listing.piece == piece and listing.name != manifest:
                undo.append(_exchanged(None, target / listing.name, old))  # of a handoff that had the folder to itself
        _exchanged(folder / manifest, target / manifest, old)
    except BaseException:
        for back in reversed(undo):
            back()
        raise
    return planned


def _exchanged(new: pathlib.Path | None, place: pathlib.Path, old: pathlib.Path) -> Callable[[], None]:
    """Put a file in the place of another, or of none, or take it away; gives what puts back what was there."""
    kept = old / place.name
    there = place.exists()
    if there:
        twin(place, kept)
    if new is None:
        place.unlink()
    else:
        os.replace(new, place)
    return (lambda: os.replace(kept, place)) if there else place.unlink


def _names(target: pathlib.Path) -> list[str]:
    """Names of what lies in a folder."""
    return sorted(entry.name for entry in target.iterdir()) if target.is_dir() else []


def _manifests(target: pathlib.Path) -> list[pathlib.Path]:
    """The files of a folder that may be manifests by their names."""
    return [target / name for name in _names(target) if name == MANIFEST or name.endswith(f".{MANIFEST}")]


def manifests_of(target: pathlib.Path) -> list[bytes]:
    """The manifests of handoffs in a folder, as they lie there."""
    return [path.read_bytes() for path in _manifests(target) if listing_of(path) is not None]


def _listings(target: pathlib.Path) -> list[Listing]:
    """What the manifests of a folder name."""
    return [listing for path in _manifests(target) if (listing := listing_of(path)) is not None]
