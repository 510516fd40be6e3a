"""Which limits a bake passes; they are parsed by `settings.limits`."""

from ..settings.limits import SHARES
from .as_seen import AsSeen


def beyond(limits: dict[str, float], seen: AsSeen, excess: float, missed: float) -> list[str]:
    """A sentence for each limit that is passed; missed is a share of the covered texels."""
    found = {
        "mean": seen.mean, "p95": seen.p95, "over5": seen.over_5, "over15": seen.over_15, "over30": seen.over_30,
        "outline": seen.outline, "inside": seen.inside, "excess": excess, "missed": missed,
    }  # fmt: skip
    return [
        f"{name} is {_words(name, found[name])}, beyond {_words(name, most)}"
        for name, most in limits.items()
        if found[name] > most
    ]


def _words(name: str, value: float) -> str:
    return f"{value:.2%}" if name in SHARES else f"{value:.2f}°"
