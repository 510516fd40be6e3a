"""Patches of the low as the views draw them: a rim that is dragged, and a second one where they begin to fade."""

from math import dist
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Request
from pydantic import BaseModel, Field
from starlette.responses import Response

from ...core.base.array_types import F32
from ...core.base.errors import InputProblem
from ...core.mesh.binary_message import pack
from ...core.settings.typed_numbers import length
from ..piece_page import PiecePage, known_piece, page_of
from ..templating import services_of, units

router = APIRouter(prefix="/pieces/{piece_id}/rims", dependencies=[Depends(known_piece)])
MOST = 400
Place = tuple[float, float, float]


class DrawnPatch(BaseModel):
    """A patch around a place of the low; its radius in scene units, or in words such as "3 mm"."""

    centre: Place
    radius: float | str
    rim: Annotated[float, Field(ge=0, le=1)] = 0.0


class DrawnPatches(BaseModel):
    """Some patches, the first of them as it reaches to a place of the low; or all together as one."""

    patches: Annotated[list[DrawnPatch], Field(max_length=MOST)]
    to: Place | None = None
    together: bool = False


def _apart(straight: float, along: float, page: PiecePage) -> str:
    """How far two places are apart, straight and along the surface, in scene units and of the low."""
    words = f"{units(straight)} units straight, {100 * straight / page.diagonal:.2g} % of the low"
    longer = along > straight * (1 + 1e-4)
    return f"{words}; {units(along)} units along the surface" if longer else words


@router.post("")
def rims(request: Request, piece_id: int, drawn: DrawnPatches) -> Response:
    """Lines of each, as a message of `binary_message`: `rimN` and `softN`; in the header middle and radius of each."""
    page = page_of(request, piece_id, "cage")
    given = []
    for patch in drawn.patches:
        try:
            radius = length(str(patch.radius), "scene", page.diagonal, page.recipe.world.unit)
        except ValueError:
            radius = 0.0
        if not 0 < radius <= 1e9:
            raise InputProblem("The size", f"“{patch.radius}” is none.", "Give a length above 0, such as 1.5 or 3 mm.")
        given.append((patch.centre, radius, patch.rim))
    found = services_of(request).measures.rims(piece_id, given, drawn.to, drawn.together)
    arrays: dict[str, F32] = {}
    for n, one in enumerate(found):
        arrays |= {f"rim{n}": one.rim, f"soft{n}": one.soft}
    header: dict[str, Any] = {"patches": [{"middle": one.middle, "radius": one.radius} for one in found]}
    if drawn.to and found:
        header["words"] = _apart(dist(drawn.patches[0].centre, drawn.to), found[0].radius, page)
    return Response(b"".join(pack(header, arrays)), media_type="application/octet-stream")
