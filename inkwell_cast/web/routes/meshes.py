"""The step Meshes: files, pairs, checks, and what the views draw of them."""

import contextlib
from dataclasses import replace
from typing import Annotated, Any, get_args

import numpy as np
from fastapi import APIRouter, Depends, Query, Request
from pydantic import BaseModel
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, JSONResponse, Response

from ...core.base.errors import InputProblem
from ...core.checks import Finding
from ...core.checks.apply_remedy import apply
from ...core.formats import WRITERS
from ...core.mesh.binary_message import pack
from ...core.mesh.marks import Marks
from ...core.settings import editing, taking
from ...core.settings.pairing import Pair, Part
from ...core.settings.taking import taken_from
from ...core.settings.typed_numbers import number as typed_number
from ...engine.messages import Exported
from ...engine.ticket import JobFailed
from ..piece_page import known_piece, page_of
from ..templating import SentForm, render, services_of
from .piece import change, changed, redraws

router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])
Coordinate = Annotated[float, Query(allow_inf_nan=False)]
Size = Annotated[float, Query(gt=0, allow_inf_nan=False)]


class AddedMesh(BaseModel):
    token: str


@router.get("/others")
def others(request: Request, piece_id: int) -> Response:
    """The other pieces on the shelf, by name, and the kinds of settings that can be taken from them."""
    names = sorted(services_of(request).pieces.names().items(), key=lambda known: known[1].casefold())
    rows = [(number, name) for number, name in names if number != piece_id]
    return render(request, "others.html", piece_id=piece_id, others=rows, kinds=taking.WORDS, usual=taking.USUAL)


@router.post("/settings-of")
def settings_of(request: Request, piece_id: int, form: SentForm) -> Response:
    """Take settings over from another piece, kind by kind; an undo takes that back."""
    asked = str(form.get("piece", ""))
    known = services_of(request).pieces.get(int(asked)) if asked.isdecimal() and len(asked) < 10 else None
    if known is None:
        raise InputProblem("Settings of another piece", "It is no longer on the shelf.", "Choose another.")
    other, kinds = known[0], [str(kind) for kind in form.getlist("kind")]
    before = page_of(request, piece_id, "meshes").piece.recipe
    change(request, piece_id, f"Settings of {other.name}", lambda recipe: taken_from(recipe, other.recipe, kinds))
    after = page_of(request, piece_id, "meshes").piece.recipe
    words = "Nothing differed." if after == before else f"Taken from {other.name}."
    return changed(request, piece_id, "meshes", *redraws(before, after), said=[words])


@router.post("/project")
def as_the_project_says(request: Request, piece_id: int) -> Response:
    """Set a piece as the project says that its meshes lie in."""
    services = services_of(request)
    before = services.pieces.wanted(piece_id)[0].recipe
    services.projects.take(piece_id)
    return changed(request, piece_id, "meshes", *redraws(before, services.pieces.wanted(piece_id)[0].recipe))


@router.post("/meshes")
def add_mesh(request: Request, piece_id: int, mesh: AddedMesh) -> Response:
    said = services_of(request).pieces.add_mesh(piece_id, mesh.token)
    return JSONResponse({"added": True, "said": said})


@router.post("/meshes/{mesh_id}/replace")
def replace_mesh(request: Request, piece_id: int, mesh_id: int, mesh: AddedMesh) -> Response:
    """Put a new upload in the place of a file."""
    return JSONResponse({"said": services_of(request).pieces.replace_mesh(piece_id, mesh_id, mesh.token)})


@router.post("/meshes/{mesh_id}/reload")
def reload(request: Request, piece_id: int, mesh_id: int) -> Response:
    said = services_of(request).pieces.reload(piece_id, mesh_id)
    return changed(request, piece_id, "meshes", "meshes-changed", said=said)


@router.post("/meshes/{mesh_id}/place")
def set_place(request: Request, piece_id: int, mesh_id: int, form: SentForm) -> Response:
    """Where a file lies on this machine, and whether it is watched there."""
    services_of(request).pieces.set_place(piece_id, mesh_id, str(form.get("place", "")), "watch" in form)
    return changed(request, piece_id, "meshes")


@router.get("/watch")
def watch(request: Request, piece_id: int) -> Response:
    """Asked now and then by a page with watched files: 204, or the panel after a file was read again."""
    said = services_of(request).pieces.reload_watched(piece_id)
    return changed(request, piece_id, "meshes", "meshes-changed", said=said) if said else Response(status_code=204)


@router.post("/meshes/{mesh_id}/out")
def take_out(request: Request, piece_id: int, mesh_id: int) -> Response:
    services_of(request).pieces.take_out(piece_id, mesh_id)
    return changed(request, piece_id, "meshes", "meshes-changed")


@router.post("/files")
def set_file(request: Request, piece_id: int, name: str, form: SentForm) -> Response:
    """Role and axes of a file."""
    values = {k: str(form[k]) for k in ("role", "turn", "colors") if k in form}
    change(request, piece_id, f"{name}: {', '.join(values)}", lambda r: editing.set_file(r, name, **values))
    return changed(request, piece_id, "meshes", "meshes-changed")


@router.post("/files/unfix")
def unfix(request: Request, piece_id: int, name: str, key: str) -> Response:
    change(request, piece_id, "Take back a fix", lambda r: editing.without_fix(r, name, key))
    return changed(request, piece_id, "meshes", "meshes-changed")


@router.post("/files/unplace")
def unalign(request: Request, piece_id: int, name: str) -> Response:
    edit = {"scale": 1.0, "move": (0.0, 0.0, 0.0)}
    change(request, piece_id, "Take back an alignment", lambda r: editing.set_file(r, name, **edit))
    return changed(request, piece_id, "meshes", "meshes-changed")


@router.post("/parts")
def place_part(request: Request, piece_id: int, form: SentForm) -> Response:
    """Put an object into a pair or under a role, by drag or by menu; "auto" lets its name decide again."""
    key, pair, role = (str(form.get(k, "")) for k in ("key", "pair", "role"))
    if role == "auto" or pair == "auto":
        change(request, piece_id, f"{key} by name", lambda r: editing.unplace_part(r, key))
    else:
        roles = role or _role_of(request, piece_id, key)
        change(request, piece_id, f"Move {key}", lambda r: editing.place_part(r, key, pair, roles))
    return changed(request, piece_id, "meshes", "meshes-changed")


def _role_of(request: Request, piece_id: int, key: str) -> str:
    """The role a part has now, or a high where it has none: what is dragged into a pair is to take part in it."""
    paired = page_of(request, piece_id, "meshes").paired
    members: list[tuple[str, Part]] = [m for pair in paired.pairs for m in pair.members]
    members += [(a.role, a.part) for a in paired.alone]
    return next((role for role, part in members if part.key == key and role), "high")


def _pair(request: Request, piece_id: int, name: str) -> tuple[Any, Pair]:
    paired = page_of(request, piece_id, "meshes").paired
    pair = next((p for p in paired.pairs if p.name == name), None)
    if pair is None:
        raise InputProblem(name, "There is no pair of that name any more.", "Reload the page.")
    return paired, pair


@router.post("/pairs/rename")
def rename_pair(request: Request, piece_id: int, name: str, form: SentForm) -> Response:
    to = str(form.get("to", "")).strip()
    _, pair = _pair(request, piece_id, name)
    if to and to != name:
        change(request, piece_id, f"Rename {name}", lambda r: editing.rename_pair(r, pair, to))
    return changed(request, piece_id, "meshes", "low-changed")


@router.post("/pairs/split")
def split_pair(request: Request, piece_id: int, name: str, form: SentForm) -> Response:
    """Put the ticked parts of a pair into one of their own."""
    keys = [str(k) for k in form.getlist("key")]
    paired, pair = _pair(request, piece_id, name)
    change(request, piece_id, f"Split {name}", lambda r: editing.split_pair(r, paired, pair, keys))
    return changed(request, piece_id, "meshes", "meshes-changed")


# checks


@router.get("/checks")
def checks(request: Request, piece_id: int) -> Response:
    """The findings as a list; the rail around it learns of blocking ones."""
    stopped = False
    try:
        services_of(request).measures.check(piece_id, request.headers.get("X-Tab", ""))
    except JobFailed as failed:
        if failed.kind != "cancelled":
            raise
        stopped = True
    return page_of(request, piece_id, "meshes").render("checks.html", oob=True, stopped=stopped)


def _finding(request: Request, piece_id: int, number: int) -> Finding:
    findings = services_of(request).measures.check(piece_id)
    if not 0 <= number < len(findings):
        raise HTTPException(404, "This finding is no longer there.")
    return findings[number]


@router.post("/left")
def left(request: Request, piece_id: int, tab: str) -> Response:
    """A page was left: what it alone waited for ends."""
    services_of(request).measures.left(tab)
    return Response(status_code=204)


@router.get("/checks/{number}/marks")
def marks(request: Request, piece_id: int, number: int) -> Response:
    """The triangles of a finding, for both views."""
    finding = _finding(request, piece_id, number)
    return marked(finding.marks, finding.title)


def marked(shown: Marks, title: str) -> Response:
    """Triangles to hatch in both views, as a message."""
    header = {"place": shown.place, "low": shown.on_low, "title": title}
    arrays = {"corners": shown.corners.astype(np.float32), "uvs": shown.uvs.astype(np.float32)}
    return Response(b"".join(pack(header, arrays)), media_type="application/octet-stream")


@router.post("/checks/{number}/fix")
def fix(request: Request, piece_id: int, number: int, form: SentForm, choice: int = 0) -> Response:
    """Do what a finding offers, the best or another; what treats as smooth takes the angle of the form, degrees."""
    finding = _finding(request, piece_id, number)
    if not 0 <= choice < len(finding.remedies):
        raise InputProblem(finding.title, "There is no fix for this here.", finding.remedy)
    remedy = finding.remedies[choice]
    remedy = replace(remedy, angle=_angle(str(form["angle"]))) if "angle" in form else remedy
    change(request, piece_id, remedy.words, lambda r: apply(r, remedy))
    return changed(request, piece_id, "meshes", "meshes-changed")


def _angle(typed: str) -> float:
    with contextlib.suppress(ValueError):
        if 0 <= (angle := typed_number(typed)) <= 180:
            return angle
    raise InputProblem("Hard beyond", f"“{typed}” is no angle.", "Give degrees from 0 to 180, such as 60.")


# what the views draw, and files that leave


@router.get("/views/near")
def near(
    request: Request, piece_id: int, mesh: int, x: Coordinate, y: Coordinate, z: Coordinate, radius: Size
) -> Response:
    """What a stand-in hides of one file's sculpts within a ball, scene units."""
    data = services_of(request).drawings.near(piece_id, mesh, (x, y, z), radius)
    return Response(data, media_type="application/octet-stream")


@router.get("/views/{what}")
def view(request: Request, piece_id: int, what: str, mesh: int = 0) -> Response:
    if what not in ("low", "cage", "sculpt"):
        raise HTTPException(404, "There is no such view.")
    path = services_of(request).drawings.view(piece_id, what, mesh)  # type: ignore[arg-type]
    return FileResponse(path, media_type="application/octet-stream")


@router.get("/sheets")
def sheets(request: Request, piece_id: int) -> Response:
    """The fields of the sheets' sizes, for a piece with several."""
    sheets = services_of(request).drawings.sheets(piece_id)
    return page_of(request, piece_id, "maps").render("sheets.html", sheets=sheets)


@router.get("/export/{file}")
def export(request: Request, piece_id: int, file: str) -> Response:
    """ "low.glb", "sculpt.ply", "cage.obj" and the like."""
    what, dot, kind = file.partition(".")
    suffix = dot + kind
    page = page_of(request, piece_id, "meshes")
    if what not in get_args(Exported) or suffix not in WRITERS:
        raise HTTPException(404, "There is no such file.")
    data = services_of(request).exports.export(piece_id, what, suffix)  # type: ignore[arg-type]
    name = f"{file_stem(page.piece.name)}_{what}{suffix}"
    return Response(
        data, media_type="application/octet-stream", headers={"Content-Disposition": f'attachment; filename="{name}"'}
    )


def file_stem(name: str) -> str:
    """A piece's name as a file name."""
    plain = "".join(c if c.isascii() and (c.isalnum() or c in "-_") else "_" for c in name.replace("’", ""))
    return plain.strip("_") or "piece"
