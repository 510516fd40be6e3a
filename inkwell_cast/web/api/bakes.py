"""Bakes with their progress, pictures, flaws and mends, and what leaves."""

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Any

from fastapi import APIRouter, Request
from starlette.responses import FileResponse, Response, StreamingResponse

from ...core.bake.manifest import Manifest
from ...core.base.errors import InputProblem
from ...core.flaws import Flaw
from ...core.settings.mends_overlay import add_mend
from ...store.bakes import BakeRecord
from ..templating import services_of
from .models import Bake, Handed, Id, Kept, NewBake, NewHandoff, SettingsState

router = APIRouter(tags=["bakes"])
Answers = dict[int | str, dict[str, Any]]
LOOK_EVERY = 0.2  # seconds
PICTURE: Answers = {200: {"content": {"application/octet-stream": {}}, "description": "The file as it was written."}}
EVENTS: Answers = {200: {"content": {"text/event-stream": {}}, "description": "A bake as JSON in each event."}}


@router.post("/pieces/{piece_id}/bakes", status_code=202)
def start(request: Request, piece_id: Id, bake: NewBake) -> Bake:
    """Start a bake of a piece as it is now; one that is at work is left and given."""
    bakes = services_of(request).bakes
    return _told(request, _wanted(request, bakes.start(piece_id, bake.proof, mend=bake.mend)))


@router.get("/bakes/{bake_id}")
def one(request: Request, bake_id: Id) -> Bake:
    return _told(request, _wanted(request, bake_id))


@router.get("/bakes/{bake_id}/events", responses=EVENTS, response_class=StreamingResponse)
def events(request: Request, bake_id: Id) -> StreamingResponse:
    """The bake as server-sent events whenever it got on, until it has ended."""
    first = _wanted(request, bake_id)

    async def told() -> AsyncIterator[str]:
        row, before = first, ""
        while True:
            now = _told(request, row).model_dump_json(exclude={"seconds_left"})
            if now != before or not row.open:
                yield f"data: {json.dumps(json.loads(_told(request, row).model_dump_json()))}\n\n"
            if not row.open or await request.is_disconnected():
                return
            before = now
            await asyncio.sleep(LOOK_EVERY)
            row = services_of(request).bakes.get(bake_id) or first

    return StreamingResponse(told(), media_type="text/event-stream")


@router.delete("/bakes/{bake_id}", status_code=204)
def stop(request: Request, bake_id: Id) -> Response:
    """Stop a bake that is at work; put one aside that has ended."""
    bakes, row = services_of(request).bakes, _wanted(request, bake_id)
    if row.open:
        bakes.cancel(row.id)
    else:
        bakes.delete(row)
    return Response(status_code=204)


@router.get("/bakes/{bake_id}/manifest")
def manifest(request: Request, bake_id: Id) -> Manifest:
    """All that is known of a bake that is done."""
    return _manifest(_wanted(request, bake_id))


@router.get("/bakes/{bake_id}/maps/{key}", responses=PICTURE, response_class=FileResponse)
def map_of(request: Request, bake_id: Id, key: str, sheet: str = "") -> FileResponse:
    """A map of a bake as it was written; of several sheets the one of this name."""
    row = _wanted(request, bake_id)
    entry = next((entry for entry in _manifest(row).maps if (entry.key, entry.sheet) == (key, sheet)), None)
    path = services_of(request).bakes.picture(row.id, sheet, key) if entry else None
    if entry is None or path is None:
        raise InputProblem(key, "This bake has no such map.", "Choose one of its maps and sheets.")
    return FileResponse(path, filename=entry.file)


@router.get("/bakes/{bake_id}/flaws")
def flaws(request: Request, bake_id: Id) -> list[Flaw]:
    """What looks wrong, what shows most first, each with the mends that it offers."""
    return _manifest(_wanted(request, bake_id)).flaws or []


@router.post("/bakes/{bake_id}/mends")
def mend(request: Request, bake_id: Id, kept: Kept) -> SettingsState:
    """Keep a mend that a flaw offers among the settings of its piece; bake again to see what it does."""
    row, services = _wanted(request, bake_id), services_of(request)
    listed = _manifest(row).flaws or []
    if kept.flaw >= len(listed) or kept.choice >= len(listed[kept.flaw].mends):
        raise InputProblem("The mend", "This bake has no such flaw, or that offers no such mend.", "List its flaws.")
    wanted = listed[kept.flaw].mends[kept.choice]
    said = services.settings.change(row.piece_id, wanted.words, lambda recipe: add_mend(recipe, wanted))
    piece = services.pieces.wanted(row.piece_id)[0]
    return SettingsState(step=piece.step, settings=piece.recipe, said=said)


@router.post("/bakes/{bake_id}/handoffs", status_code=201)
def hand_off(request: Request, bake_id: Id, handoff: NewHandoff) -> Handed:
    """Write a handoff as the settings of the piece say."""
    row = _wanted(request, bake_id)
    _manifest(row)
    handed = services_of(request).handoffs.hand_off(row.piece_id, row.id, handoff.place, handoff.existing)
    return Handed(place=str(handed.path), files=[file.file for file in handed.manifest.files], words=handed.words)


def _wanted(request: Request, bake_id: int) -> BakeRecord:
    row = services_of(request).bakes.get(bake_id)
    if row is None:
        raise InputProblem("The bake", "There is no such bake.", "List the pieces and their bakes.")
    return row


def _manifest(row: BakeRecord) -> Manifest:
    if row.manifest is None:
        raise InputProblem("The bake", "It is not done.", "Wait until its state is done, or start another.")
    return row.manifest


def _told(request: Request, row: BakeRecord) -> Bake:
    return Bake.of(row, services_of(request).bakes.seconds_left(row.id))
