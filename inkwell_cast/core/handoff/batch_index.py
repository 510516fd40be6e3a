"""The page of a batch: every piece with its picture, what needs a look first; one HTML file that needs no other."""

import base64
import importlib.resources
import pathlib
from typing import TYPE_CHECKING

import jinja2
import numpy as np

from ..base.on_demand import library
from .bake_on_disk import Finished

cv2 = library("cv2")
if TYPE_CHECKING:
    from .batch import Outcome, Summary

INDEX = "index.html"
SIDE, QUALITY = 160, 80  # of a picture’s side, and of its WebP
SHOWN = ("low", "heat")  # of the lit pictures of a piece, the first side of each


def index(summary: "Summary") -> str:
    """The page, as HTML."""
    text = importlib.resources.files(__package__).joinpath("batch_index.html").read_text(encoding="utf-8")
    environment = jinja2.Environment(
        autoescape=True, trim_blocks=True, lstrip_blocks=True, undefined=jinja2.StrictUndefined
    )
    outcomes = sorted(summary.outcomes, key=_need)
    return environment.from_string(text).render(outcomes=outcomes, receiver=summary.receiver)


def _need(outcome: "Outcome") -> tuple[int, float, str]:
    """What sorts first: failed, beyond a limit, then by what mends could gain, or how it is seen."""
    rank = 0 if outcome.state == "failed" else 1 if outcome.beyond else 2 if outcome.state == "done" else 3
    gain = outcome.excess if outcome.excess is not None else outcome.likeness
    return rank, -(gain or 0.0), outcome.piece.casefold()


def thumbnail(finished: Finished) -> str:
    """The first sides of a bake's lit pictures beside each other, as WebP in base64; "" where there are none."""
    strips = [_first(finished.sides[name]) for name in SHOWN if name in finished.sides]
    if not strips:
        return ""
    done, data = cv2.imencode(".webp", np.hstack(strips), [cv2.IMWRITE_WEBP_QUALITY, QUALITY])
    return base64.b64encode(data.tobytes()).decode() if done else ""


def _first(strip: pathlib.Path) -> np.ndarray:  # type: ignore[type-arg]
    """The first of the square pictures beside each other in a strip."""
    image = cv2.imdecode(np.frombuffer(strip.read_bytes(), np.uint8), cv2.IMREAD_UNCHANGED)
    assert image is not None
    side = image.shape[0]
    return cv2.resize(image[:, :side], (SIDE, SIDE), interpolation=cv2.INTER_AREA)
