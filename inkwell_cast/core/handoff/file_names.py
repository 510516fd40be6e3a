"""File names from a pattern with tokens, usable on every common system."""

import datetime
import re
import unicodedata
from dataclasses import dataclass

from ..base.errors import InputProblem

TOKENS = {
    "piece": "the piece’s name",
    "pair": "the pair on the sheet, where there is one only",
    "sheet": "the sheet, where there are several",
    "tile": "the UV tile, such as 1001",
    "map": "the map, or the packed picture",
    "size": "its width, or width x height",
    "depth": "8, 16, or 16f and 32f for floats",
    "date": "the day, such as 20261126",
}
LONGEST = 200  # bytes in UTF-8; systems allow 255, and tools add to names
RESERVED = {"con", "prn", "aux", "nul", *(f"{device}{n}" for device in ("com", "lpt") for n in range(10))}


@dataclass(frozen=True, slots=True)
class Named:
    """What a file is called after: the tokens that depend on the file, and its suffix with the dot."""

    what: str  # in words, for messages
    pair: str
    sheet: str
    tile: str
    map: str
    width: int
    height: int
    depth: str
    suffix: str


def check_pattern(pattern: str) -> None:
    """Raises InputProblem for a pattern with unknown tokens or stray braces, or without any that tells files apart."""
    unknown = [token for token in re.findall(r"{([^{}]*)}", pattern) if token not in TOKENS]
    if unknown:
        raise InputProblem("Names", f"There is no {{{unknown[0]}}}.", f"Use {', '.join(f'{{{t}}}' for t in TOKENS)}.")
    if re.search(r"[{}]", re.sub(r"{[^{}]*}", "", pattern)):
        raise InputProblem("Names", f"“{pattern}” has a brace without its partner.", "Write tokens as {map}.")
    if "{map}" not in pattern:
        raise InputProblem("Names", f"“{pattern}” names every map alike.", "Add {map}.")


def file_name(pattern: str, piece: str, named: Named, day: datetime.date) -> str:
    """The name of one file. Raises InputProblem for one that is too long."""
    size = f"{named.width}" if named.width == named.height else f"{named.width}x{named.height}"
    values = {
        "piece": piece,
        "pair": named.pair,
        "sheet": named.sheet,
        "tile": named.tile,
        "map": named.map,
        "size": size,
        "depth": named.depth,
        "date": f"{day:%Y%m%d}",
    }
    stem = plain(_filled(pattern, values))
    length = len((stem + named.suffix).encode())
    if length > LONGEST:
        raise InputProblem(
            f"{stem[:40]}…{named.suffix}",
            f"The name is {length} bytes long; {LONGEST} are safe on all systems.",
            "Shorten the pattern or the piece’s name.",
        )
    return stem + named.suffix


def _filled(pattern: str, values: dict[str, str]) -> str:
    """The pattern with its tokens replaced; the separator before an empty one goes with it, or the one after it."""
    gap = r"[ _.\-]"
    for token, value in values.items():
        if not value:
            pattern = (
                re.sub(rf"{gap}?{{{token}}}", "", pattern)
                if not pattern.startswith(f"{{{token}}}")
                else re.sub(rf"^{{{token}}}{gap}?", "", pattern)
            )
    return re.sub(r"{(\w+)}", lambda match: values[match.group(1)], pattern)


def plain(name: str) -> str:
    """A name that Linux, macOS and Windows all take: no path, nothing they forbid or reserve; never empty."""
    name = unicodedata.normalize("NFC", name)
    name = re.sub(r'[<>:"/\\|?*\x00-\x1f\x7f]', "_", name).replace("’", "").strip(" .")
    name = re.sub(r"\s+", "_", name)
    if name.partition(".")[0].lower() in RESERVED:
        name = f"{name}_"
    return name or "_"


def named_all(pattern: str, piece: str, files: list[Named], day: datetime.date) -> list[str]:
    """A name for each file. Raises InputProblem where two would be called alike, upper and lower case aside."""
    check_pattern(pattern)
    names, taken = list[str](), dict[str, str]()
    for named in files:
        name = file_name(pattern, piece, named, day)
        other = taken.setdefault(name.casefold(), named.what)
        if other != named.what or name in names:
            raise InputProblem(
                name,
                f"Both {other} and {named.what} would be called this.",
                "Add {map}, {sheet} or {tile} to the pattern, or give the maps other words.",
            )
        names.append(name)
    return names
