"""Flaws and what mends them, and the history of bakes: named, restored, thrown away."""

import json
from collections.abc import Callable
from functools import reduce
from typing import Annotated

from fastapi import APIRouter, Depends, Form, Request
from starlette.exceptions import HTTPException
from starlette.responses import Response

from ...core.base.errors import InputProblem
from ...core.base.figures import figure
from ...core.flaws import COARSE_MARKS, FLAW_MARKS, Flaw
from ...core.flaws.hatched import marks_in
from ...core.settings.item_keys import find_item
from ...core.settings.mends import Mend
from ...core.settings.mends_overlay import add_mend, switched, without_mend
from ...core.settings.recipe import Recipe
from ...core.settings.regions import Accepted, Crease, Directions, Heal, Omission, Patch, Pocket
from ...core.settings.typed_numbers import length
from ...store.bakes import BakeRecord
from ..piece_page import PiecePage, known_piece, page_of
from ..templating import called, services_of
from .bakes import bake_of, picture_of
from .meshes import marked
from .piece import change, changed, redraws

router = APIRouter(prefix="/pieces/{piece_id}", dependencies=[Depends(known_piece)])


def _change(request: Request, piece_id: int, words: str, edit: Callable[[Recipe], Recipe], said: str = "") -> Response:
    """Change the settings, and tell the page what to draw anew."""
    services = services_of(request)
    before = services.pieces.wanted(piece_id)[0].recipe
    change(request, piece_id, words, edit)
    events = redraws(before, services.pieces.wanted(piece_id)[0].recipe)
    return changed(request, piece_id, "review", *events, said=[said] if said else [])


@router.get("/bakes/{bake_id}/flaws/{number}/marks")
def flaw_marks(request: Request, piece_id: int, bake_id: int, number: int) -> Response:
    """The texels or triangles of a flaw, for both views."""
    row = bake_of(request, piece_id, bake_id)
    try:
        shown = marks_in(picture_of(request, row, "", FLAW_MARKS), number)
    except IndexError:
        raise HTTPException(404, "This bake has no such flaw.") from None
    return marked(shown, _flaw(row, number).title)


@router.get("/bakes/{bake_id}/coarse/{number}/marks")
def coarse_marks(request: Request, piece_id: int, bake_id: int, number: int) -> Response:
    """The faces of a place where the low needs triangles, for both views."""
    row = bake_of(request, piece_id, bake_id)
    try:
        shown = marks_in(picture_of(request, row, "", COARSE_MARKS), number)
    except IndexError:
        raise HTTPException(404, "This bake has no such place.") from None
    return marked(shown, "Needs triangles")


@router.post("/bakes/{bake_id}/flaws/{number}/mend")
def mend(request: Request, piece_id: int, bake_id: int, number: int, choice: int = 0) -> Response:
    """Keep a mend that a flaw offers; it is a setting like any other, and can be undone."""
    flaw, wanted = _mend(bake_of(request, piece_id, bake_id), number, choice)
    words = f"{wanted.words}, for {flaw.part.rpartition('/')[2]}: kept among the mends. The next proof shows it."
    return _change(request, piece_id, wanted.words, lambda recipe: add_mend(recipe, wanted), words)


@router.post("/bakes/{bake_id}/flaws/{number}/mend-kind")
def mend_kind(request: Request, piece_id: int, bake_id: int, number: int) -> Response:
    """Keep the first mend of every flaw of one kind, as one change of the settings."""
    row = bake_of(request, piece_id, bake_id)
    flaw = _flaw(row, number)
    flaws = row.manifest.flaws or [] if row.manifest else []
    first = [one.mends[0] for one in flaws if one.kind == flaw.kind and one.mends]
    taken = list({mend.changes: mend for mend in first}.values())  # one for a whole part is offered at each place
    words = f"Mend {len(taken)} of the kind {flaw.title}"
    said = f"{words}: kept among the mends. The next proof shows it."
    return _change(request, piece_id, words, lambda recipe: reduce(add_mend, taken, recipe), said)


@router.post("/bakes/{bake_id}/flaws/{number}/accept")
def accept(request: Request, piece_id: int, bake_id: int, number: int) -> Response:
    """Say that a flaw is as it should be; it is not told again."""
    flaw = _flaw(bake_of(request, piece_id, bake_id), number)
    place = Accepted(cause=flaw.cause, centre=flaw.spot or flaw.middle, radius=max(flaw.radius, 1e-9))
    said = "Nothing is wrong there: it is not told again from the next proof on."
    return _change(
        request,
        piece_id,
        f"Nothing wrong: {flaw.title}",
        lambda recipe: Recipe.model_validate(recipe.model_dump() | {"accepted": [*recipe.accepted, place]}),
        said,
    )


@router.post("/accepted/out")
def tell_again(request: Request, piece_id: int) -> Response:
    """Tell all flaws again that were said to be as they should be."""
    words = "Tell accepted flaws again"
    return _change(request, piece_id, words, lambda recipe: recipe.model_copy(update={"accepted": []}))


@router.post("/bakes/{bake_id}/flaws/{number}/try")
def try_out(request: Request, piece_id: int, bake_id: int, number: int, choice: int = 0) -> Response:
    """Bake with a mend that a flaw offers, of the size of this bake, and change no setting."""
    row = bake_of(request, piece_id, bake_id)
    services_of(request).bakes.start(piece_id, row.proof, _mend(row, number, choice)[1])
    return page_of(request, piece_id, "meshes").render("bake_box.html")


@router.post("/bakes/{bake_id}/keep")
def keep(request: Request, piece_id: int, bake_id: int) -> Response:
    """Make what this bake tried out a setting."""
    row = bake_of(request, piece_id, bake_id)
    tried = services_of(request).bakes.kept_trial(row)
    return _change(request, piece_id, tried.words, lambda recipe: add_mend(recipe, tried))


@router.post("/mend-all")
def mend_all(request: Request, piece_id: int, proof: bool = True) -> Response:
    """Try the best mend of every flaw and keep those that do good; shown and cancelled like a bake."""
    services_of(request).bakes.start(piece_id, proof, mend=True)
    return page_of(request, piece_id, "meshes").render("bake_box.html")


@router.post("/mends/{key}/switch")
def switch(request: Request, piece_id: int, key: str, on: bool = False) -> Response:
    """Switch a mend on or off."""
    mend = _own(request, piece_id, key)
    words = f"{mend.words} {'on' if on else 'off'}"
    return _change(request, piece_id, words, lambda recipe: switched(recipe, key, on))


@router.post("/mends/{key}/out")
def take_out(request: Request, piece_id: int, key: str) -> Response:
    """Remove a mend."""
    mend = _own(request, piece_id, key)
    return _change(request, piece_id, f"Remove: {mend.words}", lambda recipe: without_mend(recipe, key))


@router.post("/mends/place")
def place(
    request: Request,
    piece_id: int,
    kind: Annotated[str, Form()],
    radius: Annotated[str, Form()],
    x: Annotated[float, Form()],
    y: Annotated[float, Form()],
    z: Annotated[float, Form()],
    outward: Annotated[str, Form()] = "0",
    inward: Annotated[str, Form()] = "0",
) -> Response:
    """Mend a ball on the low: "pocket", "nearest", "heal", "averaged", "split", "edges-averaged", "edges-split".

    Or "without-FILE/OBJECT" for a high that is left out, or "bake-N" for the rays of another bake.
    """
    page = page_of(request, piece_id, "review")
    size = _length(page, "The size", radius)
    reach = (_length(page, "Out", outward), _length(page, "In", inward)) if kind == "pocket" else (0.0, 0.0)
    mend = _by_hand(request, page, kind, (x, y, z), size, reach)
    said = f"{mend.words}: kept among the mends. The next proof shows it."
    return _change(request, piece_id, mend.words, lambda recipe: add_mend(recipe, mend), said)


def _length(page: PiecePage, what: str, text: str) -> float:
    """A length above 0, scene units. Raises InputProblem for what is none."""
    try:
        given = length(text, "scene", page.diagonal, page.piece.recipe.world.unit)
    except ValueError:
        given = 0.0
    if not 0 < given <= 1e9:
        raise InputProblem(what, f"“{text}” is none.", "Give scene units above 0, such as 1.5, or 3 mm, or 2 %.")
    return given


def _by_hand(
    request: Request,
    page: PiecePage,
    kind: str,
    centre: tuple[float, float, float],
    radius: float,
    reach: tuple[float, float],
) -> Mend:
    piece = page.piece
    name = f"By hand at {', '.join(figure(c) for c in centre)}"
    if kind == "heal":
        return Mend(name=name, words="Fill a place in from its rim", heals=[Heal(centre=centre, radius=radius)])
    if kind == "pocket":
        scale = page.scale
        outward, inward = reach
        ball = Pocket(
            name=name[:80], centre=centre, radius=radius / scale, outward=outward / scale, inward=inward / scale
        )
        words = f"Place a pocket: {figure(outward)} out, {figure(inward)} in"
        return Mend(name=name, words=words, pockets=[ball])
    if kind == "nearest":
        nearest = Patch(centre=centre, radius=radius, nearest=True)
        return Mend(name=name, words="Take the nearest surface of a place", patches=[nearest])
    if kind.startswith("without-") and kind.removeprefix("without-") in page.more["highs"]:
        part = kind.removeprefix("without-")
        left = Omission(part=part, centre=centre, radius=radius)
        return Mend(name=name, words=f"Leave out {part.rpartition('/')[2]} in a place"[:300], omissions=[left])
    if kind in ("averaged", "split"):
        taken = Patch(centre=centre, radius=radius, directions=kind)  # type: ignore[arg-type]
        return Mend(name=name, words=f"Take a place from {kind} rays", patches=[taken])
    if kind in ("edges-averaged", "edges-split"):
        way: Directions = "split" if kind == "edges-split" else "averaged"
        word = {"split": "Split", "averaged": "Average"}[way]
        crease = Crease(centre=centre, radius=radius, directions=way)
        return Mend(name=name, words=f"{word} the rays at edges of a place", creases=[crease])
    number = kind.removeprefix("bake-")
    row = bake_of(request, piece.id, int(number)) if number.isdigit() else None
    if row is None or row.summary.brought:
        raise HTTPException(404, f"“{kind}” mends nothing.")
    scale = row.recipe.reach.scale(page.diagonal) / page.scale
    other = row.recipe.reach
    taken = Patch(
        centre=centre,
        radius=radius,
        directions=other.directions,
        outward=other.outward * scale,
        inward=other.inward * scale,
    )
    return Mend(name=name, words=f"Take a place from {called(row)}"[:300], patches=[taken])


# the history of bakes


@router.post("/bakes/{bake_id}/name")
def rename(request: Request, piece_id: int, bake_id: int, name: str = Form("")) -> Response:
    services_of(request).bakes.rename(bake_of(request, piece_id, bake_id), name)
    return page_of(request, piece_id, "review").render("drawer.html")


@router.post("/bakes/{bake_id}/restore")
def restore(request: Request, piece_id: int, bake_id: int) -> Response:
    """Make the settings of a bake those of the piece again; an undo takes that back."""
    services_of(request).bakes.restore(bake_of(request, piece_id, bake_id))
    return changed(
        request, piece_id, "review", "meshes-changed", said=["The settings of that bake are in force again."]
    )


@router.post("/bakes/{bake_id}/out")
def throw_away(request: Request, piece_id: int, bake_id: int) -> Response:
    """Forget a bake and its pictures, and show the one before it."""
    services_of(request).bakes.delete(bake_of(request, piece_id, bake_id))
    page = page_of(request, piece_id, "review")
    response = page.render("panel.html")
    response.headers["HX-Trigger"] = json.dumps({"show-bake": {"facts": page.facts}, "bakes-changed": {}})
    return response


def _flaw(row: BakeRecord, number: int) -> Flaw:
    flaws = (row.manifest.flaws or []) if row.manifest else []
    if not 0 <= number < len(flaws):
        raise HTTPException(404, "This bake has no such flaw.")
    return flaws[number]


def _mend(row: BakeRecord, number: int, choice: int) -> tuple[Flaw, Mend]:
    flaw = _flaw(row, number)
    if not 0 <= choice < len(flaw.mends):
        raise HTTPException(404, "This flaw has no such mend.")
    return flaw, flaw.mends[choice]


def _own(request: Request, piece_id: int, key: str) -> Mend:
    """The mend of the piece that has a key."""
    mends = services_of(request).pieces.wanted(piece_id)[0].recipe.mends
    return mends[find_item(mends, key, "The mend")]
