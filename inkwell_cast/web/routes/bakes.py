"""Starting, watching, cancelling and showing bakes, and their files."""

import json
import pathlib
from functools import lru_cache
from typing import Any

import numpy as np
from fastapi import APIRouter, Depends, Request
from starlette.exceptions import HTTPException
from starlette.responses import FileResponse, JSONResponse, Response, StreamingResponse

from ...core.bake.manifest import MapFile
from ...core.base.array_types import AnyArray
from ...core.base.on_demand import library
from ...core.images import png
from ...core.review.likeness import MISSED, OFF, degrees, difference, heat
from ...store.bakes import BakeRecord, BakeRow
from ..cache_keys import DIFFERENCE, LIKENESS, PARALLAX, SIDES
from ..piece_page import facts_of, known_piece, page_of
from ..streamed_zip import zipped
from ..templating import services_of
from .meshes import file_stem

cv2 = library("cv2")
router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])


@router.post("/bake")
def start(request: Request, piece_id: int, proof: bool = False) -> Response:
    services_of(request).bakes.start(piece_id, proof)
    return page_of(request, piece_id, "meshes").render("bake_box.html")


@router.post("/bakes/{bake_id}/cancel")
def cancel(request: Request, piece_id: int, bake_id: int) -> Response:
    services_of(request).bakes.cancel(bake_of(request, piece_id, bake_id).id)
    return page_of(request, piece_id, "meshes").render("bake_box.html")


@router.get("/progress")
def progress(request: Request, piece_id: int) -> Response:
    """The bake buttons, or the running bake in their place; tells the page when one has ended."""
    page = page_of(request, piece_id, "meshes")
    response = page.render("bake_box.html")
    last = page.last
    if last and last.state == "judging":
        response.headers["HX-Trigger"] = json.dumps({"maps-there": {"facts": page.facts}})
    elif last is None or not last.open:
        done = last is not None and last.state == "done"
        facts = page.facts if done else None
        response.headers["HX-Trigger"] = json.dumps(
            {"bake-ended": {"facts": facts, "state": last.state if last else ""}}
        )
    return response


@router.get("/drawer")
def drawer(request: Request, piece_id: int, all: bool = False) -> Response:
    """The newest bakes, or all of them."""
    page = page_of(request, piece_id, "meshes")
    if all:
        known = services_of(request).pieces.get(piece_id, -1)
        page.bakes = known[2] if known else []
    return page.render("drawer.html")


@router.get("/bakes/{bake_id}/show")
def show(request: Request, piece_id: int, bake_id: int) -> Response:
    """Look at an earlier bake: its figures in the panel, its pictures in the views."""
    row = bake_of(request, piece_id, bake_id)
    page = page_of(request, piece_id, "review", bake_id)
    response = page.render("panel.html")
    facts = facts_of(request, row, page.piece, page.meshes)
    response.headers["HX-Trigger"] = json.dumps({"show-bake": {"facts": facts}})
    return response


@router.get("/bakes/{bake_id}/facts")
def facts(request: Request, piece_id: int, bake_id: int) -> Response:
    """What the views need to know of a bake, to show it beside another."""
    row, page = bake_of(request, piece_id, bake_id), page_of(request, piece_id, "review")
    if not row.has_maps:
        raise HTTPException(404, "This bake has no result.")
    return JSONResponse(facts_of(request, row, page.piece, page.meshes))


@router.get("/bakes/{bake_id}/peek.png")
def peek(request: Request, piece_id: int, bake_id: int) -> Response:
    """The map that a running bake is at, as far as it is; 204 when there is none."""
    picture = services_of(request).bakes.peek(bake_of(request, piece_id, bake_id).id)
    return Response(picture, media_type="image/png") if picture else Response(status_code=204)


@router.get("/bakes/{bake_id}/{key}.png")
def picture(
    request: Request,
    piece_id: int,
    bake_id: int,
    key: str,
    sheet: str = "",
    thumb: int = 0,
    most: int = 0,
    save: bool = False,
) -> Response:
    """A map as it was written.

    `thumb` gives a small copy of that many pixels, `most` a smaller copy of one with more on a side; `save` is a
    download with a name.
    """
    page, row = page_of(request, piece_id, "meshes"), bake_of(request, piece_id, bake_id)
    if key == DIFFERENCE:
        before = services_of(request).bakes.before(row)
        if before is None:
            raise HTTPException(404, "There is no bake of its kind before this one.")
        both = picture_of(request, before, sheet, LIKENESS), picture_of(request, row, sheet, LIKENESS)
        return Response(_difference(*both, thumb or most or 1 << 20), media_type="image/png")
    path = picture_of(request, row, sheet, key)
    if key in (LIKENESS, PARALLAX):
        return Response(_heat(path, thumb or most or 1 << 20), media_type="image/png")
    if key.startswith(SIDES):
        return FileResponse(path, media_type="image/png")
    if thumb:
        return Response(_thumbnail(path, min(max(thumb, 16), 1024)), media_type="image/png")
    size = _size_of(request, piece_id, bake_id, sheet)
    if most and max(size) > most:
        return Response(_smaller(path, min(max(most, 1024), 8192)), media_type="image/png")
    stem = "_".join(file_stem(part) for part in (page.piece.name, sheet, key) if part)
    return FileResponse(path, media_type="image/png", filename=f"{stem}.png" if save else None)


@router.get("/bakes/{bake_id}/{key}.file")
def file(request: Request, piece_id: int, bake_id: int, key: str, sheet: str = "") -> Response:
    """A map in the format that the recipe asked for, as a download."""
    page, row = page_of(request, piece_id, "meshes"), bake_of(request, piece_id, bake_id)
    entry = next((m for m in (row.manifest.maps if row.manifest else []) if (m.sheet, m.key) == (sheet, key)), None)
    if entry is None:
        raise HTTPException(404, "This bake has no such map.")
    stem = "_".join(file_stem(part) for part in (page.piece.name, sheet, key) if part)
    return FileResponse(_file(request, row, entry), filename=stem + pathlib.Path(entry.file).suffix)


@router.get("/bakes/{bake_id}/manifest.json")
def manifest(request: Request, piece_id: int, bake_id: int) -> Response:
    return Response(_manifest(bake_of(request, piece_id, bake_id)), media_type="application/json")


@router.get("/bakes/{bake_id}/all.zip")
def everything(request: Request, piece_id: int, bake_id: int) -> Response:
    """Every picture of a bake and its manifest in one archive."""
    page = page_of(request, piece_id, "meshes")
    row = bake_of(request, piece_id, bake_id)
    stem = file_stem(page.piece.name)
    files: list[tuple[str, pathlib.Path | bytes]] = [
        (pathlib.PurePath(entry.file).name, _file(request, row, entry))
        for entry in (row.manifest.maps if row.manifest else [])
    ]
    files.append(("manifest.json", _manifest(row).encode()))
    headers = {"Content-Disposition": f'attachment; filename="{stem}.zip"'}
    return StreamingResponse(zipped(files), media_type="application/zip", headers=headers)


@router.get("/bakes/{bake_id}/texel")
def texel(request: Request, piece_id: int, bake_id: int, x: int, y: int, sheet: str = "") -> Response:
    """What one texel sees and holds; an empty object off the low."""
    row = bake_of(request, piece_id, bake_id)
    sizes = {s.name: s for s in (row.manifest.sheets if row.manifest else [])}
    if sheet not in sizes or not (0 <= x < sizes[sheet].width and 0 <= y < sizes[sheet].height):
        raise HTTPException(404, f"Texel {x}, {y} lies outside the sheet.")
    seen = services_of(request).measures.probe(row, sheet, x, y)
    told: dict[str, Any] = {"texel": [x, y], "maps": {}}
    for entry in row.manifest.maps if row.manifest else []:
        if entry.sheet == sheet and entry.key in row.recipe.output.maps:
            told["maps"][entry.key] = _value(_pixels(picture_of(request, row, sheet, entry.key))[y, x], entry)
    angle = services_of(request).bakes.picture(row.id, sheet, LIKENESS)
    if angle is not None and angle.is_file():
        pixels = _pixels(angle)  # which may be smaller than the sheet
        steps = pixels[y * pixels.shape[0] // sizes[sheet].height, x * pixels.shape[1] // sizes[sheet].width, 0]
        if steps != OFF:
            told["maps"][LIKENESS] = "not seen" if steps == MISSED else f"{degrees(steps):.2f}°"
    return JSONResponse(told | ({"probe": seen.model_dump()} if seen else {}))


def _value(steps: AnyArray, entry: MapFile) -> str:
    """A texel in words: a name of the legend, the value that a range says, or the shares of its channels."""
    top = 255 if steps.dtype.itemsize == 1 else 65535
    legend = entry.facts.get("legend")
    if legend:
        color = "#{:02x}{:02x}{:02x}".format(*(round(v * 255 / top) for v in steps.tolist()))
        return next((name for name, rgb in legend.items() if rgb == color), "none")
    black, white = entry.facts.get("black"), entry.facts.get("white")
    if isinstance(black, float) and isinstance(white, float):
        unit = "" if entry.facts["unit"] == "scene units" else " 1/unit"
        return f"{black + (white - black) * steps[0] / top:.3g}{unit}"
    grey = len(set(steps.tolist())) == 1
    return " ".join(f"{v / top:.2f}" for v in steps[: 1 if grey else 3].tolist())


def bake_of(request: Request, piece_id: int, bake_id: int) -> BakeRecord:
    row = services_of(request).bakes.get(bake_id)
    if row is None or row.piece_id != piece_id:
        raise HTTPException(404, "This bake does not belong to the piece.")
    return row


def _manifest(row: BakeRecord) -> str:
    if row.manifest is None:
        raise HTTPException(404, "This bake has no result.")
    return row.manifest.model_dump_json(indent=2) + "\n"


def picture_of(request: Request, row: BakeRow, sheet: str, key: str) -> pathlib.Path:
    path = services_of(request).bakes.picture(row.id, sheet, key)
    if path is None or not path.is_file():
        raise HTTPException(404, "This bake has no such map.")
    return path


def _file(request: Request, row: BakeRecord, entry: MapFile) -> pathlib.Path:
    return picture_of(request, row, entry.sheet, f"{entry.key}.file" if entry.preview else entry.key)


@lru_cache(maxsize=3)
def _pixels(path: pathlib.Path) -> AnyArray:
    return png.read(path)


def _size_of(request: Request, piece_id: int, bake_id: int, sheet: str) -> tuple[int, int]:
    row = bake_of(request, piece_id, bake_id)
    return next(((s.width, s.height) for s in (row.manifest.sheets if row.manifest else []) if s.name == sheet), (0, 0))


@lru_cache(maxsize=4)
def _heat(path: pathlib.Path, most: int) -> bytes:
    """The angles to the sculpt in colours, with every so many texels left out as bring its sides to `most`."""
    steps = _pixels(path)[..., 0]
    apart = -(-max(steps.shape) // max(most, 16))
    colors = heat(np.ascontiguousarray(steps[::apart, ::apart]).astype(np.uint16))
    return bytes(cv2.imencode(".png", colors[..., ::-1])[1])


@lru_cache(maxsize=2)
def _difference(before: pathlib.Path, now: pathlib.Path, most: int) -> bytes:
    """Where a bake is seen better and worse than another, in colours; as small as `_heat`."""
    was, steps = _pixels(before)[..., 0], _pixels(now)[..., 0]
    rows, columns = (np.arange(new) * old // new for new, old in zip(steps.shape, was.shape, strict=True))
    was = was[rows[:, None], columns]
    apart = -(-max(steps.shape) // max(most, 16))
    colors = difference(*(np.ascontiguousarray(each[::apart, ::apart]) for each in (was, steps)))
    return bytes(cv2.imencode(".png", colors[..., ::-1])[1])


@lru_cache(maxsize=200)
def _thumbnail(path: pathlib.Path, side: int) -> bytes:
    return _smaller(path, side)


def _smaller(path: pathlib.Path, side: int) -> bytes:
    image = cv2.imread(str(path), cv2.IMREAD_COLOR)
    if image is None:
        raise HTTPException(404, "This picture cannot be read.")
    scale = side / max(image.shape[:2])
    size = max(1, round(image.shape[1] * scale)), max(1, round(image.shape[0] * scale))
    return bytes(cv2.imencode(".png", cv2.resize(image, size, interpolation=cv2.INTER_AREA))[1])
