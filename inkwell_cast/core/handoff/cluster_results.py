"""A piece of a batch that another machine bakes: its files on the way there, and its handoff on the way back."""

import json
import os
import pathlib

from ..bake.manifest import sha256_of
from ..base.errors import InputProblem
from ..settings.handoff import Handoff
from .batch import Item, Outcome, in_batch
from .shared_folder import put_into
from .whole_or_nothing import beside, put


def packed_up(item: Item) -> dict[str, tuple[pathlib.Path, str]]:
    """Path and SHA-256 of each file of a piece, under its name from the folder that holds them all.

    The meshes come first, then what they name beside them. Raises InputProblem for a file that cannot be read.
    """
    files = [path.absolute() for path in item.with_companions()]
    root = pathlib.Path(os.path.commonpath([path.parent for path in files]))
    try:
        return {path.relative_to(root).as_posix(): (path, sha256_of(path)) for path in files}
    except OSError as error:
        raise InputProblem(item.name, f"A file cannot be read ({error}).", "Check its rights.") from error


def put_results(outcome: Outcome, made: dict[str, bytes], out: pathlib.Path) -> Outcome:
    """Put the files of a handoff that was made elsewhere where a batch into `out` would have put them.

    Gives the outcome as it is here. Raises InputProblem for what stands in the way, or cannot be written.
    """
    told = json.loads(made[pathlib.PurePosixPath(outcome.manifest).name])
    handoff, target = in_batch(Handoff.model_validate(told["handoff"]), outcome.piece, out)
    try:
        (target if handoff.shared else out).mkdir(parents=True, exist_ok=True)
        with beside(target, inside=handoff.shared) as folder:
            for name, content in made.items():
                (folder / name).write_bytes(content)
            if handoff.shared:
                put_into(folder, target, outcome.piece, handoff.existing == "replace")
            else:
                put(folder, target, "replace")
    except OSError as error:
        raise InputProblem(
            str(target),
            f"The handoff cannot be written ({error.strerror or error}).",
            "Free some space or choose another folder.",
        ) from error
    return outcome.model_copy(update={"folder": "" if handoff.shared else target.name})
