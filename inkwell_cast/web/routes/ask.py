"""What is here: of a place of the low what its ray struck, why it looks so, and what its mends would draw."""

import numpy as np
from fastapi import APIRouter, Depends, HTTPException, Request
from starlette.responses import Response

from ...core.base.on_demand import library
from ...core.flaws import FLAW_MARKS, Flaw
from ...core.flaws.hatched import flaw_at
from ...core.mesh.binary_message import unpack
from ...core.settings.mends_overlay import add_mend
from ...store.bakes import BakeRecord
from ..piece_page import known_piece, page_of
from ..templating import services_of
from .bakes import bake_of, picture_of

cv2 = library("cv2")

router = APIRouter(prefix="/pieces/{piece_id}/bakes/{bake_id}/ask", dependencies=[Depends(known_piece)])
MOST_MENDS = 3
PART, SIDE = 0.16, 96  # of the sheet that a small picture shows, and its pixels


@router.get("")
def ask(request: Request, piece_id: int, bake_id: int, x: int, y: int, sheet: str = "") -> Response:
    """The card of a texel."""
    row, page = bake_of(request, piece_id, bake_id), page_of(request, piece_id, "review", bake_id)
    sizes = {s.name: s for s in (row.manifest.sheets if row.manifest else [])}
    if sheet not in sizes or not (0 <= x < sizes[sheet].width and 0 <= y < sizes[sheet].height):
        raise HTTPException(404, f"Texel {x}, {y} lies outside the sheet.")
    seen = services_of(request).measures.probe(row, sheet, x, y)
    flaws = (row.manifest.flaws or []) if row.manifest else []
    drawn = picture_of(request, row, "", FLAW_MARKS) if flaws else None
    number = flaw_at(flaws, drawn, seen.place, page.diagonal) if seen and drawn else None
    flaw = flaws[number] if number is not None else None
    at = f"/pieces/{piece_id}/bakes/{bake_id}"
    return page.render(
        "asked.html",
        probe=seen,
        flaw=flaw,
        number=number,
        mends=flaw.mends[:MOST_MENDS] if flaw else [],
        at=at,
        place=f"x={x}&y={y}&sheet={sheet}",
    )


@router.get("/{number}/now.png")
def now(request: Request, piece_id: int, bake_id: int, number: int, x: int, y: int, sheet: str = "") -> Response:
    """A small picture of the map around a texel as it is."""
    return _picture(request, piece_id, bake_of(request, piece_id, bake_id), None, (x, y, sheet))


@router.get("/{number}/{choice}.png")
def tried(
    request: Request, piece_id: int, bake_id: int, number: int, choice: int, x: int, y: int, sheet: str = ""
) -> Response:
    """A small picture of the map around a texel with a mend that the flaw offers."""
    row = bake_of(request, piece_id, bake_id)
    flaws = (row.manifest.flaws or []) if row.manifest else []
    if not (0 <= number < len(flaws) and 0 <= choice < len(flaws[number].mends)):
        raise HTTPException(404, "This flaw has no such mend.")
    return _picture(request, piece_id, row, (flaws[number], choice), (x, y, sheet))


def _picture(
    request: Request, piece_id: int, row: BakeRecord, mend: tuple[Flaw, int] | None, at: tuple[int, int, str]
) -> Response:
    """The live normals around a texel, as they are or with a mend."""
    x, y, name = at
    message = services_of(request).live.glance(
        piece_id, "normal", lambda recipe: add_mend(recipe, mend[0].mends[mend[1]]) if mend else recipe
    )
    header, arrays = unpack(np.frombuffer(message, np.uint8))
    number, own = next(((n, s) for n, s in enumerate(header["sheets"]) if s["name"] == name), (None, None))
    baked = next((s for s in (row.manifest.sheets if row.manifest else []) if s.name == name), None)
    if own is None or baked is None:
        raise HTTPException(404, "The live proof has no such sheet.")
    pixels = arrays[f"sheet{number}"].reshape(own["height"], own["width"], 4)
    half = max(int(PART * max(pixels.shape[:2]) / 2), 8)
    column, line = x * own["width"] // baked.width, y * own["height"] // baked.height
    padded = cv2.copyMakeBorder(pixels[..., [2, 1, 0]], half, half, half, half, cv2.BORDER_REPLICATE)
    part = padded[line : line + 2 * half, column : column + 2 * half]
    small = cv2.resize(part, (SIDE, SIDE), interpolation=cv2.INTER_AREA)
    return Response(bytes(cv2.imencode(".png", small)[1]), media_type="image/png")
