"""The range of a picture in words: what is black and white, which step means 0, what was clipped."""

from typing import Any

from ..settings.output import Form


def range_words(facts: dict[str, Any], form: Form) -> str:
    """Of the facts of a map and the form of its picture; "" for a map without a range."""
    black, white, unit = facts.get("black"), facts.get("white"), facts.get("unit", "")
    if isinstance(black, list) and isinstance(white, list):
        return f"black {_place(black)}, white {_place(white)} {unit}".strip()
    if not isinstance(black, (int, float)) or not isinstance(white, (int, float)):
        return ""
    if form.exact:
        said = f"its numbers are {unit}"
    else:
        said = f"black {black:.6g}, white {white:.6g} {unit}".strip() + _zero(black, white, form.steps)
    share = facts.get("clipped_share", 0.0)
    return said + (f"; {share:.2%} of the texels lie beyond" if share and not form.exact else "")


def _zero(black: float, white: float, bits: int) -> str:
    """Whole steps seldom have one for 0: which is nearest, and what a receiver reads there."""
    if not black < 0 < white:
        return ""
    top = 2**bits - 1
    step = int(-black / (white - black) * top + 0.5)
    return f"; 0 is step {step:,} of {top:,}, which reads {black + step / top * (white - black):+.3g}"


def _place(values: list[float]) -> str:
    return f"({', '.join(f'{value:.6g}' for value in values)})"
