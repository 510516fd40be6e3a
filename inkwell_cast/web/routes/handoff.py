"""The step Handoff: receivers, names, packing, and the folder or archive that leaves."""

import datetime
import json
import pathlib
from collections.abc import Callable
from functools import lru_cache
from typing import Any

import numpy as np
from fastapi import APIRouter, Depends, Request
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, JSONResponse, Response

from ...core.bake.manifest import SheetFacts
from ...core.base.errors import InputProblem
from ...core.base.on_demand import library
from ...core.handoff.channel_packing import packed
from ...core.handoff.file_names import TOKENS
from ...core.handoff.plan import example, missing, own_names, plan
from ...core.handoff.shared_folder import WORDS, Change, counted, refuse_foreign
from ...core.handoff.whole_or_nothing import Taken
from ...core.images import png
from ...core.settings import editing
from ...core.settings.handoff import CHANNELS, Pack
from ...core.settings.item_keys import find_item
from ...core.settings.receivers import READY, Receiver, read_receiver, schema
from ...core.settings.recipe import Recipe
from ...engine.ticket import JobFailed
from ..piece_page import PiecePage, extend, known_piece, page_of
from ..templating import SentForm, SmallBody, render, services_of
from .meshes import file_stem
from .piece import change, changed

cv2 = library("cv2")
router = APIRouter()
of_piece = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])


@extend("handoff")
def handoff_context(request: Request, page: PiecePage) -> dict[str, Any]:
    """What the template of the step needs: receivers, the names that files will have, earlier handoffs."""
    services, piece, shown = services_of(request), page.piece, page.shown
    recipe: Recipe = piece.recipe
    names, problem = [], ""
    try:
        day = datetime.date.today()
        manifest = shown.manifest if shown else None
        if shown and manifest:
            names = plan(recipe.handoff, piece.name, shown.recipe, manifest.sheets, manifest.maps, day)
        else:
            sheet = SheetFacts.unbaked(
                recipe.sheet.width, recipe.sheet.height, [pair.name for pair in page.paired.pairs]
            )
            names = example(recipe.handoff, piece.name, recipe, [sheet], day)
    except InputProblem as refused:
        problem = f"{refused.what} {refused.remedy}"
    fits = services.receivers.of(recipe)
    return {
        "ready_receivers": READY,
        "own_receivers": services.receivers.own(),
        "receiver": fits,
        "names": names,
        "name_problem": problem,
        "tokens": TOKENS,
        "channels": CHANNELS,
        "past": services.handoffs.past(piece.id),
        "does": {receiver.name: receiver.does for receiver in services.receivers.all()},
        "own_names": own_names(recipe.handoff, piece.name),
        "project_place": services.projects.handoff_place(piece, page.meshes),
        "lacking": missing(recipe.handoff, shown.manifest.maps) if shown and shown.manifest else [],
    }


# receivers


def _change(request: Request, piece_id: int, words: str, edit: Callable[[Recipe], Recipe], said: str = "") -> Response:
    change(request, piece_id, words, edit)
    return changed(request, piece_id, "handoff", said=[said] if said else [])


@of_piece.post("/receiver")
def use_receiver(request: Request, piece_id: int, form: SentForm) -> Response:
    """Lay a receiver over a piece's settings."""
    receiver = services_of(request).receivers.find(str(form.get("receiver", "")))
    before = page_of(request, piece_id, "handoff").piece.recipe
    change(request, piece_id, f"Receiver {receiver.name}", receiver.laid_over)
    after = page_of(request, piece_id, "handoff").piece.recipe
    same = before.output.maps == after.output.maps and before.sheet == after.sheet
    said = [] if same else [f"The settings are now those of “{receiver.name}”; maps or sizes changed, so bake again."]
    return changed(request, piece_id, "handoff", *(["low-changed"] if before.sheet != after.sheet else []), said=said)


@of_piece.post("/receiver/keep")
def keep_receiver(request: Request, piece_id: int, form: SentForm) -> Response:
    """Make a receiver of what the piece is set to."""
    recipe = page_of(request, piece_id, "handoff").piece.recipe
    name, does = str(form.get("name", "")).strip(), str(form.get("does", "")).strip()
    services_of(request).receivers.keep(Receiver.of(recipe, name, does, "sizes" in form))
    return changed(request, piece_id, "handoff")


@of_piece.post("/receiver/out")
def forget_receiver(request: Request, piece_id: int, form: SentForm) -> Response:
    services_of(request).receivers.forget(str(form.get("receiver", "")))
    return changed(request, piece_id, "handoff")


@router.put("/receivers")
def take_receiver(request: Request, name: str, body: SmallBody) -> Response:
    """Keep a receiver from a JSON file, which is the request's body."""
    receiver = read_receiver(body, name)
    services_of(request).receivers.keep(receiver)
    return JSONResponse({"name": receiver.name})


@router.get("/receivers/schema.json")
def receiver_schema() -> Response:
    return JSONResponse(schema())


@router.get("/receivers/{name}.json")
def save_receiver(request: Request, name: str) -> Response:
    receiver = services_of(request).receivers.find(name)
    headers = {"Content-Disposition": f'attachment; filename="{file_stem(receiver.name)}.json"'}
    return Response(receiver.portable(), media_type="application/json", headers=headers)


# names and packing


@of_piece.post("/words")
def set_word(request: Request, piece_id: int, form: SentForm) -> Response:
    key, word = str(form.get("key", "")), str(form.get("word", "")).strip()
    return _change(
        request, piece_id, "Names", lambda recipe: editing.set_word(recipe, key, "" if word == key else word)
    )


@of_piece.post("/packs")
def add_pack(request: Request, piece_id: int) -> Response:
    return _change(request, piece_id, "Add a packed picture", editing.add_pack)


def _pack(request: Request, piece_id: int, key: str) -> Pack:
    packs = page_of(request, piece_id, "handoff").piece.recipe.handoff.packs
    return packs[find_item(packs, key, editing.PACK)]


@of_piece.post("/packs/{key}")
def set_pack(request: Request, piece_id: int, key: str, form: SentForm) -> Response:
    """Name, space and form of a packed picture; form is FORMAT-DEPTH."""
    values: dict[str, Any] = {k: str(form[k]) for k in ("name", "space") if k in form}
    if "form" in form:
        kind, _, depth = str(form["form"]).partition("-")
        values |= {"format": kind, "depth": int(depth) if depth.isdigit() else depth}
    return _change(request, piece_id, "Packing", lambda recipe: editing.set_pack(recipe, key, values))


@of_piece.post("/packs/{key}/out")
def drop_pack(request: Request, piece_id: int, key: str) -> Response:
    return _change(request, piece_id, "Packing", lambda recipe: editing.without_pack(recipe, key))


@of_piece.post("/packs/{key}/{channel}")
def set_well(request: Request, piece_id: int, key: str, channel: str, form: SentForm) -> Response:
    """What a channel holds: `take` is MAP.CHANNEL, "" for one value, or "none" for no alpha."""
    if channel not in CHANNELS:
        raise HTTPException(404, "A picture has no such channel.")
    if form.get("take") == "none":
        return _change(request, piece_id, "Packing", lambda recipe: editing.set_pack(recipe, key, {channel: None}))
    values: dict[str, Any] = {}
    if "take" in form:
        map_key, _, source = str(form["take"]).partition(".")
        values |= {"map": map_key, "channel": source or "red"}
    if "inverts" in form:
        values["invert"] = "invert" in form
    if "value" in form:
        values["value"] = str(form["value"]).strip()
    return _change(request, piece_id, "Packing", lambda recipe: editing.set_well(recipe, key, channel, values))


@of_piece.get("/packs/{key}.png")
def pack_picture(request: Request, piece_id: int, key: str, bake: int, sheet: str = "", channel: str = "") -> Response:
    """A small picture of what a pack gives with a bake, or of one of its channels; 204 where a map is missing."""
    pack, services = _pack(request, piece_id, key), services_of(request)
    row = services.bakes.get(bake)
    if row is None or row.piece_id != piece_id or row.manifest is None:
        raise HTTPException(404, "This bake does not belong to the piece.")
    paths = tuple((own, str(services.bakes.picture(bake, sheet, own) or "")) for own in pack.maps)
    if not all(path for _, path in paths):
        return Response(status_code=204)
    return Response(_pack_png(pack.model_dump_json(), paths, channel), media_type="image/png")


@lru_cache(maxsize=200)
def _pack_png(given: str, paths: tuple[tuple[str, str], ...], channel: str) -> bytes:
    pack = Pack.model_validate_json(given).model_copy(update={"format": "png", "depth": 8})
    places = {key: pathlib.Path(path) for key, path in paths}
    first = next(iter(places.values()), None)
    height, width = png.read(first).shape[:2] if first else (64, 64)
    picture = packed(pack, (width, height), places.get)
    if channel in pack.wells:
        picture = picture[..., [list(pack.wells).index(channel)] * 3]
    scale = 128 / max(width, height)
    small = cv2.resize(
        picture[..., :3], (max(1, round(width * scale)), max(1, round(height * scale))), interpolation=cv2.INTER_AREA
    )
    return bytes(cv2.imencode(".png", np.ascontiguousarray(small[..., ::-1]))[1])


# handing off


@of_piece.post("/handoff")
def hand_off(request: Request, piece_id: int, form: SentForm) -> Response:
    """Write a handoff to a place of this machine; a place that is taken is asked about in the panel."""
    place, existing = str(form.get("place", "")), str(form.get("existing", ""))
    bake = str(form.get("bake", ""))
    handoffs, page = services_of(request).handoffs, page_of(request, piece_id, "handoff")
    try:
        done = handoffs.hand_off(piece_id, int(bake) if bake.isdigit() else 0, place, existing)
    except Taken as taken:
        return page.render("panel.html", taken=str(taken), place=place)
    except JobFailed as failed:
        if failed.kind != "cancelled":
            raise
        return page.render("panel.html", said=["The handoff was cancelled; nothing was written."], place=place)
    said = f"{len(done.manifest.files) + 1} files are in {done.path}{': ' if done.words else ''}{done.words}."
    response = page_of(request, piece_id, "handoff").render("panel.html", handed=said, place=place)
    response.headers["HX-Trigger"] = json.dumps({"handed-off": {}})
    return response


@of_piece.get("/handoff/coming")
def coming(request: Request, piece_id: int, bake: int, place: str = "") -> Response:
    """What a handoff would do to the files of a shared folder."""
    found, problem = list[Change](), ""
    try:
        if place.strip():
            found = services_of(request).handoffs.coming(piece_id, bake, place)
            refuse_foreign(pathlib.Path(place), found, replace=True)
    except InputProblem as refused:
        problem = str(refused)
    return render(request, "coming.html", coming=found, problem=problem, words=WORDS, counts=counted(found))


@of_piece.post("/handoff/cancel")
def cancel(request: Request, piece_id: int) -> Response:
    services_of(request).handoffs.cancel(piece_id)
    return Response(status_code=204)


@of_piece.post("/handoff/archive")
def archive(request: Request, piece_id: int, bake: int) -> Response:
    """Make an archive to fetch; its address."""
    token = services_of(request).handoffs.archive(piece_id, bake)
    return JSONResponse({"address": f"/pieces/{piece_id}/handoff/{token}.zip"})


@of_piece.get("/handoff/{token}.zip")
def fetch(request: Request, piece_id: int, token: str) -> Response:
    path = services_of(request).handoffs.archived(token)
    if path is None:
        raise HTTPException(404, "This archive is no longer kept. Make it again.")
    return FileResponse(path, media_type="application/zip", filename=path.name)


router.include_router(of_piece)
