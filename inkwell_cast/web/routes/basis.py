"""The step Basis: what a wrong green looks like, and normal maps from elsewhere."""

import pathlib
import shutil
import tempfile
from urllib.parse import quote

from fastapi import APIRouter, Depends, Request, UploadFile
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.base.on_demand import library
from ...core.handoff.mix import MIXES
from ...core.settings.basis import Basis
from ...core.tangent.swatch import sample
from ...engine.messages import Mix
from ..piece_page import known_piece, page_of
from ..services.uploads import safe_name
from ..templating import services_of
from .meshes import file_stem

cv2 = library("cv2")
router = APIRouter()
BIGGEST = 1 << 30


@router.get("/basis-sample.png")
def basis_sample(stored: str = "up", read: str = "up") -> Response:
    """A ball and a groove under a light from the upper left, stored with one green and read with another."""
    image = sample(stored, read)
    return Response(cv2.imencode(".png", image[..., ::-1])[1].tobytes(), media_type="image/png")


@router.post("/mix")
def mix(request: Request, pictures: list[UploadFile], kind: str = "detail") -> Response:
    """Pictures that were baked apart, mixed into one PNG; see `core.mix`."""
    if kind not in MIXES:
        raise InputProblem("The mix", f"“{kind}” is none.", f"Choose one of {', '.join(MIXES)}.")
    with tempfile.TemporaryDirectory() as folder:
        given = []
        for n, picture in enumerate(pictures):
            given_file = pathlib.Path(folder) / str(n) / safe_name(picture.filename or "picture.png")
            given_file.parent.mkdir()
            with given_file.open("wb") as file:
                shutil.copyfileobj(picture.file, file)
            given.append(str(given_file))
        mixed = pathlib.Path(folder) / "mixed.png"
        services_of(request).engine.submit(Mix(kind, given, str(mixed))).future.result()
        headers = {"Content-Disposition": f'attachment; filename="{kind}.png"'}
        return Response(mixed.read_bytes(), media_type="image/png", headers=headers)


@router.post("/pieces/{piece_id}/convert", dependencies=[Depends(known_piece)])
def convert(request: Request, piece_id: int, picture: UploadFile, source: str = "tangent-up") -> Response:
    """A normal map in the piece's basis; `source` is "object", "tangent-up" or "tangent-down"."""
    page = page_of(request, piece_id, "basis")
    name = picture.filename or "map.png"
    kinds = {"object": None, "tangent-up": Basis(green="up"), "tangent-down": Basis(green="down")}
    if source not in kinds:
        raise InputProblem(name, f"“{source}” is no basis.", "Choose one of the list.")
    if picture.size and picture.size > BIGGEST:
        raise InputProblem(name, "The picture is larger than 1 GB.", "Choose a smaller one.")
    converted, said = services_of(request).exports.convert(piece_id, name, picture.file.read(), kinds[source])
    stem = file_stem(f"{name.rpartition('.')[0] or name} {page.piece.recipe.basis.green}")
    headers = {"Content-Disposition": f'attachment; filename="{stem}.png"', "X-Said": quote(said)}
    return Response(converted, media_type="image/png", headers=headers)
