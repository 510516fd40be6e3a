"""What a handoff will hold, before anything is written: every file with its name."""

import datetime
import pathlib
from dataclasses import dataclass, replace

from ..bake.manifest import MapFile, SheetFacts
from ..base.errors import InputProblem
from ..images import SUFFIXES
from ..maps import REGISTRY
from ..settings.handoff import Handoff, Pack
from ..settings.recipe import Recipe
from .channel_packing import needed
from .file_names import Named, check_pattern, named_all
from .shared_folder import changes, manifest_of, refuse_foreign, report_of
from .vertex_bake import refuse_tangent_basis
from .whole_or_nothing import MANIFEST, REPORT, refuse_taken

MESHES = {"glb": ("low", ".glb"), "obj": ("low", ".obj"), "cage": ("cage", ".obj")}
VERTICES = "vertices"  # the mesh of a map that vertices carry


@dataclass(frozen=True, slots=True)
class Planned:
    """A file to be: its name, and the map or the pack that it holds, on which sheet; else a mesh ("glb" …).

    takes is the map that its vertices carry.
    """

    name: str
    label: str
    sheet: str = ""
    key: str = ""
    pack: Pack | None = None
    mesh: str = ""
    takes: str = ""


def plan(
    handoff: Handoff, piece: str, recipe: Recipe, sheets: list[SheetFacts], maps: list[MapFile], day: datetime.date
) -> list[Planned]:
    """Every file of a handoff but its manifest and report.

    `recipe` and `maps` are those of the bake. Raises InputProblem for names that clash or are too long, and for a
    pattern that is none.
    """
    planned, named = list[Planned](), list[Named]()
    hidden = set() if handoff.loose else handoff.packed_maps()
    by_tile = recipe.sheet.split == "tile"

    def add(label: str, sheet: SheetFacts | None, word: str, depth: str, suffix: str, **what: object) -> None:
        of = f" of {sheet.name}" if sheet and sheet.name else ""
        pair = sheet.pairs[0] if sheet and len(sheet.pairs) == 1 else ""
        name, width, height = (sheet.name, sheet.width, sheet.height) if sheet else ("", 0, 0)
        tile = (name if by_tile else "1001") if sheet else ""
        named.append(Named(f"{label}{of}", pair, name, tile, word, width, height, depth, suffix))
        planned.append(Planned("", label, sheet.name if sheet else "", **what))  # type: ignore[arg-type]

    for sheet in sheets:
        for entry in [m for m in maps if m.sheet == sheet.name and m.key not in hidden]:
            kind, _, mask = entry.key.partition(":")
            word = next((each for key, each in handoff.words.items() if key == entry.key), entry.key)
            if kind == "mask":
                word = f"mask_{mask}"
            form = recipe.output.form_of(entry.key)
            depth, suffix = form.words, SUFFIXES[form.format]
            if entry.key.startswith("layers."):
                word, depth, suffix = "layers", "8", entry.key.removeprefix("layers")
            add(entry.label or REGISTRY[entry.key].LABEL, sheet, word, depth, suffix, key=entry.key)
        for pack in handoff.packs:
            add(f"Packed picture {pack.name}", sheet, pack.name, pack.words, SUFFIXES[pack.format], pack=pack)
    for what, (word, suffix) in MESHES.items():
        if getattr(handoff, what):
            label = {"glb": "Low with its maps", "obj": "Low", "cage": "Cage"}[what]
            add(label, None, word, "", suffix, mesh=what)
    if handoff.vertex_map != "none":
        label = f"Low with {REGISTRY[handoff.vertex_map].LABEL.lower()} at its vertices"
        for suffix in (".ply", ".glb"):
            add(label, None, f"{handoff.vertex_map}_{VERTICES}", "", suffix, mesh=VERTICES, takes=handoff.vertex_map)
    names = named_all(handoff.pattern, piece, named, day)
    return [replace(each, name=name) for name, each in zip(names, planned, strict=True)]


def example(
    handoff: Handoff, piece: str, recipe: Recipe, sheets: list[SheetFacts], day: datetime.date
) -> list[Planned]:
    """Every file of a handoff of a piece that has not been baked yet, as far as its settings tell."""
    maps = [MapFile(key=key, sheet=s.name, file="", sha256="") for s in sheets for key in recipe.output.maps]
    return plan(handoff, piece, recipe, sheets, maps, day)


def is_shared(handoff: Handoff, target: pathlib.Path) -> bool:
    """Whether a handoff goes among the files of others; an archive never does."""
    return handoff.shared and target.suffix.lower() != ".zip"


def refuse_place(handoff: Handoff, piece: str, target: pathlib.Path, planned: list[Planned]) -> None:
    """Raise InputProblem for a place where a handoff may not go, `Taken` where it may if that is wished."""
    if not is_shared(handoff, target):
        refuse_taken(target, handoff.existing)
        return
    found = changes(target, piece, coming(planned, handoff, piece, target))
    refuse_foreign(target, found, handoff.existing == "replace")


def own_names(handoff: Handoff, piece: str, archive: bool = False) -> tuple[str, str]:
    """What manifest and report are called: after the piece among the files of others."""
    return (manifest_of(piece), report_of(piece)) if handoff.shared and not archive else (MANIFEST, REPORT)


def coming(planned: list[Planned], handoff: Handoff, piece: str, target: pathlib.Path) -> dict[str, str]:
    """The names that files of a handoff take in a shared folder, for `changes`, their hashes not known.

    Materials are written beside an OBJ where the low has some: those that are there count.
    """
    names = [file.name for file in planned]
    beside = [pathlib.PurePath(file.name).with_suffix(".mtl").name for file in planned if file.mesh in ("obj", "cage")]
    names += [name for name in beside if (target / name).exists()]
    return dict.fromkeys(names + [report_of(piece)] * handoff.report, "")


def refuse_unready(handoff: Handoff, piece: str, recipe: Recipe, target: pathlib.Path, existing: str) -> None:
    """Raise InputProblem before a bake for what its handoff would refuse after it.

    A target that is taken, a pattern that is none or names two files alike, packed pictures of maps that are not baked,
    vertices of a map in the tangent basis.
    """
    refuse_tangent_basis(piece, handoff.vertex_map)
    asked = handoff.model_copy(update={"existing": existing})
    refuse_place(asked, piece, target, [])
    sheet = SheetFacts.unbaked(recipe.sheet.width, recipe.sheet.height, [])
    several = recipe.sheet.split != "one"  # then their names tell sheets apart, which are not known yet
    check_pattern(handoff.pattern)
    if not several:
        refuse_place(asked, piece, target, example(handoff, piece, recipe, [sheet], datetime.date.today()))
    lacking = _lacking(handoff, list(recipe.output.maps))
    if lacking:
        raise InputProblem(
            piece,
            f"Its packed pictures or vertices take {', '.join(lacking)}, which it does not bake.",
            "Add those maps, or change what takes them.",
        )


def missing(handoff: Handoff, maps: list[MapFile]) -> list[str]:
    """Maps, by name, that packed pictures and vertices take from and a bake has not."""
    return _lacking(handoff, [entry.key for entry in maps])


def _lacking(handoff: Handoff, made: list[str]) -> list[str]:
    lacking, own = needed(handoff.packs, made), handoff.vertex_map
    if own != "none" and own not in made and REGISTRY[own].LABEL not in lacking:
        lacking.append(REGISTRY[own].LABEL)
    return lacking
