"""Parts without a partner."""

from collections.abc import Iterator

from ..pairing import Alone
from .finding import Finding, Inspected, Remedy, Severity

KEY = "pairs"
TITLE = "Without a partner"


def find(piece: Inspected) -> Iterator[Finding]:
    paired = piece.assembly.paired
    lows = [a for a in paired.alone if a.role in ("low", "self")]
    highs = [a for a in paired.alone if a.role in ("high", "float")]
    if not paired.pairs:
        if lows and highs:
            fix = Remedy("Make it one pair", "together")
            yield Finding(
                KEY, "blocking", "Nothing is paired", "", len(lows), f"{lows[0].part.name}: {lows[0].reason}.",
                "Rename the parts, pair them by hand, or let every low receive from every high.", fix,
            )  # fmt: skip
        else:
            missing = "high" if lows else "low"
            only = lows[0] if len(lows) == 1 and not highs else None
            itself = Remedy("Bake it onto itself", "own_source", only.part.file, only.part.name) if only else None
            yield Finding(
                KEY, "blocking", f"No {missing}", "", 1, f"There is no {missing} in this piece.",
                "Add the low-poly mesh." if missing == "low" else "Add the sculpt that belongs to the low.", itself,
            )  # fmt: skip
        return
    for alone in paired.alone:
        yield _one(alone)


def _one(alone: Alone) -> Finding:
    word = {"low": "Low", "self": "Low", "high": "High", "float": "Floater", "cage": "Cage"}.get(alone.role, "Part")
    remedy = "Rename it, or drag it to a pair."
    fix = None
    if alone.role == "low":
        fix = Remedy("Bake it onto itself", "own_source", alone.part.file, alone.part.name)
    severity: Severity = "note" if alone.role in ("cage", "") else "warning"
    what = f"{alone.part.name} takes no part in the bake: {alone.reason}."
    return Finding(KEY, severity, f"{word} without a partner", alone.part.key, 1, what, remedy, fix)
