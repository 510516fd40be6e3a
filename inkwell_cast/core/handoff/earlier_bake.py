"""An earlier bake to hand off: in the folder that it was written to, or in a piece file. Nothing is baked again."""

import json
import pathlib

import numpy as np
from pydantic import ValidationError

from ..bake.manifest import Manifest, MeshFile, sha256_of
from ..base.array_types import AnyArray
from ..base.errors import InputProblem
from ..images import read_picture, write_picture
from .bake_on_disk import Finished
from .piece_file import PieceFile
from .whole_or_nothing import MANIFEST

AGAIN = "Bake again."


def in_folder(folder: pathlib.Path, piece: str, sources: list[MeshFile], scratch: pathlib.Path) -> Finished:
    """The bake that a folder holds, of meshes from `sources`; pictures to show go into `scratch`.

    Raises InputProblem where there is none, files of it changed, or the meshes are not those that it was made of.
    """
    try:
        manifest = Manifest.model_validate(json.loads((folder / MANIFEST).read_bytes()))
    except (OSError, ValueError, ValidationError, RecursionError):
        raise InputProblem(str(folder), "It holds no bake.", "Name a folder that `inkwell-cast bake` wrote.") from None
    _refuse_other_meshes(folder, manifest, sources)
    for entry in manifest.maps:
        path = folder / entry.file
        if not path.is_file():
            raise InputProblem(str(path), "This map of the bake is gone.", AGAIN)
        if sha256_of(path) != entry.sha256:
            raise InputProblem(str(path), "This map changed since the bake.", AGAIN)
        entry.preview = entry.preview if path.suffix.lower() == ".png" else _shown(path, scratch)
    return Finished.of_folder(piece, manifest.model_copy(update={"sides": {}}), folder, scratch)


def _refuse_other_meshes(folder: pathlib.Path, manifest: Manifest, sources: list[MeshFile]) -> None:
    theirs, ours = ({source.file: source.sha256 for source in each} for each in (manifest.meshes, sources))
    for name in theirs | ours:
        if name not in ours:
            raise InputProblem(name, f"The bake in {folder} was made of this mesh too.", "Name it with the others.")
        if name not in theirs:
            raise InputProblem(name, f"The bake in {folder} was not made of this mesh.", f"Leave it out. {AGAIN}")
        if theirs[name] != ours[name]:
            raise InputProblem(name, f"It changed since the bake in {folder}.", AGAIN)


def _shown(path: pathlib.Path, scratch: pathlib.Path) -> str:
    """A PNG of a map in another format, for what leaves beside it; its name in `scratch`."""
    image: AnyArray = read_picture(path)
    if image.dtype.kind == "f":
        raise InputProblem(
            path.name,
            "It holds floats, of which the bake kept no picture to show and pack.",
            "Hand off with the bake: inkwell-cast handoff without --baked.",
        )
    write_picture(scratch / f"{path.name}.png", "png", np.ascontiguousarray(image))
    return f"{path.name}.png"


def in_piece(piece: PieceFile, folder: pathlib.Path, name: str = "") -> Finished:
    """A bake of a piece whose files were unpacked into a folder: the newest full one, or the one of a name.

    Raises InputProblem where there is none of its meshes as they are.
    """
    there = [bake for bake in piece.bakes if bake.current and not bake.manifest.brought]
    named = [bake for bake in there if bake.name == name] if name else [b for b in there if not b.proof] or there
    if not named:
        names = ", ".join(f"“{bake.name}”" for bake in there if bake.name)
        raise InputProblem(
            piece.name,
            f"It holds no bake {f'called “{name}” ' if name else ''}of its meshes as they are.",
            f"Choose one of {names}." if name and names else "Bake it, or leave --baked out.",
        )
    bake = max(named, key=lambda each: each.created)
    pictures = {(entry.sheet, entry.key): folder / entry.sha256 for entry in bake.pictures}
    return Finished.of_pictures(piece.name, bake.manifest, lambda sheet, key: pictures.get((sheet, key)))
