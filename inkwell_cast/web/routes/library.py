"""The material library of a piece."""

import asyncio
from collections.abc import Callable
from typing import Any

import numpy as np
from fastapi import APIRouter, Request
from starlette.responses import JSONResponse, Response

from ...core.base.errors import InputProblem
from ...core.maps.ids import colors_of
from ...core.mesh.binary_message import read_packed
from ...core.settings import material_library
from ...core.settings.material_library import Library, read_library
from ...core.settings.recipe import Recipe
from ..templating import services_of, small_body
from .meshes import file_stem
from .piece import change, changed, context, extend

router = APIRouter(prefix="/pieces/{piece_id}/library")
GREY = "#808080"


@extend("maps")
def library_context(request: Request, values: dict[str, Any]) -> dict[str, Any]:
    """What can be given a material: materials and objects of the sculpt, parts of the last bake, what has one."""
    sculpts = {(part.file, part.name) for pair in values["paired"].pairs for part in pair.giving}
    names = [
        ("material", m)
        for row in values["meshes"]
        if any(f == row.file_name for f, _ in sculpts)
        for m in row.facts.materials
    ]
    names += [
        ("object", part.name)
        for row in values["meshes"]
        for part in row.facts.parts
        if (row.file_name, part.name) in sculpts
    ]
    newest = services_of(request).bakes.newest(values["piece"].id)[0]
    row = services_of(request).bakes.get(newest.id) if newest else None
    if row is not None:
        for entry in row.manifest.maps if row.manifest else []:
            if entry.key == "ids" and entry.facts.get("by") == "part":
                names += [("part", name) for name in entry.facts["legend"]]
    names += [(assignment.kind, assignment.name) for assignment in values["piece"].recipe.library.assigned]
    library = values["piece"].recipe.library
    shown = colors_of(tuple(material.name for material in library.materials), library.id_colors())
    return {"sculpt_names": list(dict.fromkeys(names)), "id_colors": shown}


def _found(values: dict[str, Any], colors: dict[str, str]) -> list[tuple[Any, str, str]]:
    """The sculpt's own materials, or its objects where it has one material or none, with their colours."""
    names = values["sculpt_names"]
    materials = [(kind, name, colors.get(name, GREY)) for kind, name in names if kind == "material"]
    return materials if len(materials) > 1 else [(kind, name, GREY) for kind, name in names if kind == "object"]


@router.post("/found")
async def found(request: Request, piece_id: int) -> Response:
    """Make a library of what the sculpt has."""
    values, services = context(request, piece_id, "maps"), services_of(request)
    colors = dict[str, str]()
    for row in values["meshes"]:
        mesh = await asyncio.to_thread(read_packed, services.store.files.path(row.copy))
        steps = np.rint(np.clip(mesh.material_colors, 0, 1) * 255).astype(int).tolist()
        for name, color in zip(mesh.material_names, steps, strict=False):
            colors[name] = "#{:02x}{:02x}{:02x}".format(*color[:3])
    return _edit(
        request,
        piece_id,
        "Library of the sculpt",
        lambda current: material_library.with_found(current, _found(values, colors)),
    )


def _edit(request: Request, piece_id: int, words: str, edit: Callable[[Library], Library]) -> Response:
    def with_library(recipe: Recipe) -> Recipe:
        return recipe.model_copy(update={"library": Library.model_validate(edit(recipe.library).model_dump())})

    change(request, piece_id, words, with_library)
    return changed(request, piece_id, "maps")


@router.post("/materials")
async def add(request: Request, piece_id: int) -> Response:
    name = str((await request.form()).get("name", "")).strip()
    return _edit(request, piece_id, f"Material {name}", lambda current: material_library.with_material(current, name))


@router.post("/change")
async def change_material(request: Request, piece_id: int) -> Response:
    """One value of a material: its name (`to`), its ID colour, or its colour in a channel."""
    form = {key: str(value) for key, value in (await request.form()).items()}
    name = form.get("name", "")

    def edit(current: Library) -> Library:
        if "to" in form:
            return material_library.changed(current, name, name=form["to"].strip())
        if "id_color" in form:
            return material_library.changed(current, name, id_color=form["id_color"])
        material = current.find(name)
        colors = dict(material.colors) if material else {}
        return material_library.changed(current, name, colors=colors | {form.get("channel", ""): form.get("color", "")})

    return _edit(request, piece_id, f"Material {name}", edit)


@router.post("/out")
async def out(request: Request, piece_id: int) -> Response:
    name = str((await request.form()).get("name", ""))
    return _edit(request, piece_id, f"Material {name} out", lambda current: material_library.without(current, name))


@router.post("/channels")
async def channels(request: Request, piece_id: int) -> Response:
    """The channels, with commas between."""
    given = [part.strip() for part in str((await request.form()).get("channels", "")).split(",") if part.strip()]
    if not given:
        raise InputProblem("Channels", "None is named.", "Name at least one, such as Colour.")
    return _edit(request, piece_id, "Channels", lambda current: material_library.with_channels(current, given))


@router.post("/assign")
async def assign(request: Request, piece_id: int) -> Response:
    form = {key: str(value) for key, value in (await request.form()).items()}
    kind, name, material = (form.get(key, "") for key in ("kind", "name", "material"))
    return _edit(
        request,
        piece_id,
        f"{name}: {material or 'none'}",
        lambda current: material_library.assign(current, kind, name, material),
    )


@router.put("")
async def take(request: Request, piece_id: int, name: str) -> Response:
    """Lay a library from a JSON file, the request's body, into that of the piece."""
    more = read_library(await small_body(request, name, "a library’s file"), name)
    _edit(request, piece_id, f"Library {name}", lambda current: material_library.join(current, more))
    return JSONResponse({"materials": len(more.materials)})


@router.get(".json")
def save(request: Request, piece_id: int) -> Response:
    piece = context(request, piece_id, "maps")["piece"]
    headers = {"Content-Disposition": f'attachment; filename="{file_stem(piece.name)}_materials.json"'}
    return Response(piece.recipe.library.portable(), media_type="application/json", headers=headers)
