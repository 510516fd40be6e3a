"""The material library of a piece."""

from collections.abc import Callable
from typing import Any

import numpy as np
from fastapi import APIRouter, Depends, Request
from starlette.responses import JSONResponse, Response

from ...core.base.errors import InputProblem
from ...core.maps.ids import colors_of
from ...core.mesh.binary_message import read_packed
from ...core.settings import material_library
from ...core.settings.material_library import Library, read_library
from ...core.settings.recipe import Recipe
from ...store import map_sets
from ..piece_page import PiecePage, extend, known_piece, page_of
from ..templating import SentForm, SmallBody, services_of
from .meshes import file_stem
from .piece import change, changed

router = APIRouter(prefix="/pieces/{piece_id}/library", dependencies=[Depends(known_piece)])
GREY = "#808080"


@extend("maps")
def library_context(request: Request, page: PiecePage) -> dict[str, Any]:
    """What can be given a material: materials and objects of the sculpt, parts of the last bake, what has one.

    And the sets of maps that are kept.
    """
    sculpts = {(part.file, part.name) for pair in page.paired.pairs for part in pair.giving}
    names = [
        ("material", m)
        for row in page.meshes
        if any(f == row.file_name for f, _ in sculpts)
        for m in row.facts.materials
    ]
    names += [
        ("object", part.name)
        for row in page.meshes
        for part in row.facts.parts
        if (row.file_name, part.name) in sculpts
    ]
    newest = services_of(request).bakes.newest(page.piece.id)[0]
    row = services_of(request).bakes.get(newest.id) if newest else None
    if row is not None:
        for entry in row.manifest.maps if row.manifest else []:
            if entry.key == "ids" and entry.facts.get("by") == "part":
                names += [("part", name) for name in entry.facts["legend"]]
    names += [(assignment.kind, assignment.name) for assignment in page.piece.recipe.library.assigned]
    library = page.piece.recipe.library
    shown = colors_of(tuple(material.name for material in library.materials), library.id_colors())
    with services_of(request).store.reading() as db:
        kept = map_sets.all_of(db)
    return {"sculpt_names": list(dict.fromkeys(names)), "id_colors": shown, "kept_sets": kept}


def _found(names: list[tuple[Any, str]], colors: dict[str, str]) -> list[tuple[Any, str, str]]:
    """The sculpt's own materials, or its objects where it has one material or none, with their colours."""
    materials = [(kind, name, colors.get(name, GREY)) for kind, name in names if kind == "material"]
    return materials if len(materials) > 1 else [(kind, name, GREY) for kind, name in names if kind == "object"]


@router.post("/found")
def found(request: Request, piece_id: int) -> Response:
    """Make a library of what the sculpt has."""
    page, services = page_of(request, piece_id, "maps"), services_of(request)
    colors = dict[str, str]()
    for row in page.meshes:
        mesh = read_packed(services.store.files.path(row.copy))
        steps = np.rint(np.clip(mesh.material_colors, 0, 1) * 255).astype(int).tolist()
        for name, color in zip(mesh.material_names, steps, strict=False):
            colors[name] = "#{:02x}{:02x}{:02x}".format(*color[:3])
    return _edit(
        request,
        piece_id,
        "Library of the sculpt",
        lambda current: material_library.with_found(current, _found(page.more["sculpt_names"], colors)),
    )


def _edit(request: Request, piece_id: int, words: str, edit: Callable[[Library], Library]) -> Response:
    def with_library(recipe: Recipe) -> Recipe:
        return recipe.model_copy(update={"library": Library.model_validate(edit(recipe.library).model_dump())})

    change(request, piece_id, words, with_library)
    return changed(request, piece_id, "maps")


@router.post("/materials")
def add(request: Request, piece_id: int, form: SentForm) -> Response:
    name = str(form.get("name", "")).strip()
    return _edit(request, piece_id, f"Material {name}", lambda current: material_library.with_material(current, name))


@router.post("/change")
def change_material(request: Request, piece_id: int, form: SentForm) -> Response:
    """One value of a material: its name (`to`), its ID colour, or its colour in a channel."""
    sent = {key: str(value) for key, value in form.items()}
    name = sent.get("name", "")

    def edit(current: Library) -> Library:
        if "to" in sent:
            return material_library.changed(current, name, name=sent["to"].strip())
        if "id_color" in sent:
            return material_library.changed(current, name, id_color=sent["id_color"])
        material = current.find(name)
        colors = dict(material.colors) if material else {}
        return material_library.changed(current, name, colors=colors | {sent.get("channel", ""): sent.get("color", "")})

    return _edit(request, piece_id, f"Material {name}", edit)


@router.post("/out")
def out(request: Request, piece_id: int, form: SentForm) -> Response:
    name = str(form.get("name", ""))
    return _edit(request, piece_id, f"Material {name} out", lambda current: material_library.without(current, name))


@router.post("/channels")
def channels(request: Request, piece_id: int, form: SentForm) -> Response:
    """The channels, with commas between."""
    given = [part.strip() for part in str(form.get("channels", "")).split(",") if part.strip()]
    if not given:
        raise InputProblem("Channels", "None is named.", "Name at least one, such as Colour.")
    return _edit(request, piece_id, "Channels", lambda current: material_library.with_channels(current, given))


@router.post("/assign")
def assign(request: Request, piece_id: int, form: SentForm) -> Response:
    kind, name, material = (str(form.get(key, "")) for key in ("kind", "name", "material"))
    return _edit(
        request,
        piece_id,
        f"{name}: {material or 'none'}",
        lambda current: material_library.assign(current, kind, name, material),
    )


@router.put("")
def take(request: Request, piece_id: int, name: str, body: SmallBody) -> Response:
    """Lay a library from a JSON file, the request's body, into that of the piece."""
    more = read_library(body, name)
    _edit(request, piece_id, f"Library {name}", lambda current: material_library.join(current, more))
    return JSONResponse({"materials": len(more.materials)})


@router.get(".json")
def save(request: Request, piece_id: int) -> Response:
    piece = page_of(request, piece_id, "maps").piece
    headers = {"Content-Disposition": f'attachment; filename="{file_stem(piece.name)}_materials.json"'}
    return Response(piece.recipe.library.portable(), media_type="application/json", headers=headers)
