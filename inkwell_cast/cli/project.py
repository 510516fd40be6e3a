"""The commands of a project: start one, see which pieces break what it asks, bake them to where it says."""

import argparse
import json
import pathlib

from ..core.base.atomic_files import whole
from ..core.base.errors import InputProblem
from ..core.handoff.batch import Item
from ..core.handoff.file_names import plain
from ..core.handoff.project_pieces import ProjectCheck, check_against_project, items_of
from ..core.piece.scene_cache import Warm
from ..core.settings.project import NAME, Project, find_project, handoffs_of, receiver_in, recipe_in
from .bar import Bar
from .commands import BEYOND
from .run import SOME_FAILED, Batch


def init(options: argparse.Namespace) -> int:
    """Write a project with nothing but defaults, where there is none yet."""
    path = options.folder / NAME
    if path.exists():
        raise InputProblem(str(path), "There is a project already.", "Edit it, or choose another folder.")
    try:
        options.folder.mkdir(parents=True, exist_ok=True)
        with whole(path) as partial:
            partial.write_text(Project().portable(), encoding="utf-8")
    except OSError as error:
        raise InputProblem(str(path), f"It cannot be written ({error.strerror}).", "Choose another folder.") from error
    print(f"{path}: `inkwell-cast project schema` says what goes in")
    return 0


def show_schema(options: argparse.Namespace) -> int:
    """The JSON schema of a project."""
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **Project.model_json_schema()}
    print(json.dumps(schema, indent=2))
    return 0


def check(options: argparse.Namespace) -> int:
    """Say which pieces break what the project asks; exit code 3 where one does."""
    project, folder = _project_at(options.folder)
    bar, found = Bar(), list[ProjectCheck]()
    items = items_of(project, folder)
    try:
        for number, (place, item) in enumerate(items):

            def tell(stage: str, share: float, number: int = number, name: str = item.name) -> None:
                bar.show(f"{name}: {stage}", (number + share) / len(items))

            found.append(check_against_project(item, place, project, folder, tell, Warm()))
    finally:
        bar.end()
    if options.json:
        print(json.dumps([kept.model_dump() for kept in found], indent=2))
    else:
        for kept in found:
            like = "" if kept.likeness is None else f", {kept.likeness:.2f}° as seen"
            print(f"{kept.folder}/{kept.piece}: {'breaks' if kept.broken else 'keeps'} what the project asks{like}")
            print("".join(f"    {words}\n" for words in kept.broken), end="")
        print(f"{len(found)} pieces, {sum(bool(kept.broken) for kept in found)} beyond what is asked")
    return BEYOND if any(kept.broken for kept in found) else 0


def bake(options: argparse.Namespace) -> int:
    """Bake and hand off every piece of the project that is not done with its inputs as they are."""
    project, folder = _project_at(options.folder)
    batches = dict[pathlib.Path, list[Item]]()
    for place, item in items_of(project, folder):
        out = handoffs_of(project, folder, place, item.name)
        known = next((other for other in batches.get(out, []) if plain(other.name) == plain(item.name)), None)
        if known is not None:
            raise InputProblem(
                str(item.files[0]),
                f"Its handoff would go where that of {known.files[0]} goes, into {out}.",
                "Put {folder} into the project's handoffs, or rename one of them.",
            )
        batches.setdefault(out, []).append(item)
    work, worst = Batch(options, receiver_in(project, folder), recipe_in(project, folder)), 0
    try:
        for out, items in batches.items():
            summary = work.round(items, out)
            worst = SOME_FAILED if summary.failed or summary.beyond else worst
    finally:
        work.close()
    return worst


def _project_at(folder: pathlib.Path) -> tuple[Project, pathlib.Path]:
    found = find_project(folder)
    if found is None:
        raise InputProblem(
            str(folder.absolute()), f"There is no {NAME} here or above.", "Write one with: inkwell-cast project init"
        )
    return found
