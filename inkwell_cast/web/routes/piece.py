"""The page of a piece: its steps, settings and meshes."""

import json
from typing import Any

from fastapi import APIRouter, Request
from pydantic import BaseModel, ValidationError
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, JSONResponse, Response

from ...core.recipe import Recipe, refusals
from ..pages import STEPS, bake_facts, render, stale, workshop

router = APIRouter(prefix="/pieces/{piece_id}")


class AddedMesh(BaseModel):
    token: str
    role: str


def context(request: Request, piece_id: int, step: str, bake_id: int | None = None) -> dict[str, Any]:
    """What the templates of a piece need. Raises 404 for one that is gone."""
    found = workshop(request).piece(piece_id)
    if found is None or step not in STEPS:
        raise HTTPException(404, "This piece is not on the shelf.")
    piece, meshes, bakes = found
    done = [b for b in bakes if b.state == "done"]
    shown = next((b for b in done if b.id == bake_id), done[0] if done else None)
    lows = [m for m in meshes if m.role == "low"]
    diagonal = max((m.diagonal for m in lows), default=0.0)
    return {
        "piece": piece, "meshes": meshes, "bakes": bakes, "done": done, "shown": shown, "step": step, "lows": lows,
        "highs": [m for m in meshes if m.role == "high"], "diagonal": diagonal, "last": bakes[0] if bakes else None,
        "reach": piece.recipe.reach.in_scene_units(diagonal), "errors": {}, "given": {},
        "stale": stale(shown, piece.recipe, meshes) if shown else "",
        "facts": bake_facts(shown, piece.recipe, meshes) if shown else None,
    }  # fmt: skip


@router.get("")
def page(request: Request, piece_id: int, step: str = "") -> Response:
    found = workshop(request).piece(piece_id)
    first = step or ("review" if found and any(b.state == "done" for b in found[2]) else "cage")
    return render(request, "piece.html", **context(request, piece_id, first))


@router.get("/panel/{step}")
def panel(request: Request, piece_id: int, step: str, bake: int | None = None) -> Response:
    return render(request, "panel.html", **context(request, piece_id, step, bake))


@router.post("/settings/{step}")
async def settings(request: Request, piece_id: int, step: str) -> Response:
    """Take the fields of a step's form; what is out of range is shown beside its field and not kept."""
    values = context(request, piece_id, step)
    form = await request.form()
    given = values["piece"].recipe.model_dump()
    for name in form:
        group, _, field = name.partition(".")
        if group in given and field in given[group]:
            raw = form.getlist(name)
            given[group][field] = (
                [v for v in raw if v] if isinstance(given[group][field], list) else _plain(str(raw[-1]))
            )
    try:
        recipe = Recipe.model_validate(given)
    except ValidationError as refused:
        values["errors"] = refusals(refused)
        values["given"] = {name: form[name] for name in form}
        return render(request, "panel.html", **values)
    workshop(request).set_recipe(piece_id, recipe)
    values = context(request, piece_id, step)
    response = render(request, "panel.html", **values)
    response.headers["HX-Trigger"] = json.dumps(
        {"settings-changed": {"reach": values["reach"], "facts": values["facts"]}}
    )
    return response


def _plain(text: str) -> Any:
    """A form's text as the number it may be; the recipe judges it."""
    for kind in (int, float):
        try:
            return kind(text.strip())
        except ValueError:
            continue
    return text.strip()


@router.get("/state")
def state(request: Request, piece_id: int) -> Response:
    """What the views draw: meshes, reach and the newest finished bake."""
    values = context(request, piece_id, "meshes")
    return JSONResponse(
        {
            "meshes": [{"id": m.id, "role": m.role, "name": m.file_name} for m in values["meshes"]],
            "reach": values["reach"],
            "facts": values["facts"],
        }
    )


@router.post("/meshes")
def add_mesh(request: Request, piece_id: int, mesh: AddedMesh) -> Response:
    context(request, piece_id, "meshes")
    workshop(request).add_mesh(piece_id, mesh.token, mesh.role)
    return JSONResponse({"added": True})


@router.post("/meshes/{mesh_id}")
async def change_mesh(request: Request, piece_id: int, mesh_id: int) -> Response:
    """Give a mesh another role, or take it out."""
    values = context(request, piece_id, "meshes")
    if mesh_id in {m.id for m in values["meshes"]}:
        role = str((await request.form()).get("role", ""))
        workshop(request).change_mesh(mesh_id, None if role == "out" else role)
    response = render(request, "panel.html", **context(request, piece_id, "meshes"))
    response.headers["HX-Trigger"] = "meshes-changed"
    return response


@router.get("/meshes/{mesh_id}/view")
def mesh_view(request: Request, piece_id: int, mesh_id: int) -> Response:
    context(request, piece_id, "meshes")
    path = workshop(request).mesh_view(mesh_id)
    if path is None or not path.is_file():
        raise HTTPException(404, "This mesh is not part of the piece.")
    return FileResponse(path, media_type="application/octet-stream")
