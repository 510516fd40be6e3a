"""Pieces that nobody here made, baked several ways, each as the product sees it and as another judge does.

`make real PIECES=DIR [JUDGE="COMMAND"]`: DIR holds NAME_low.obj and NAME_high.obj, .ply or .glb; COMMAND, followed by
low, high and normal map, prints a line of the map with `mean NUMBER`. Writes docs/real.md.
"""

import json
import os
import pathlib
import re
import shlex
import subprocess
import sys
import tempfile
import time
from dataclasses import dataclass, replace
from typing import Any

DOCS = pathlib.Path(__file__).parent.parent / "docs"
PROGRAM = pathlib.Path(sys.executable).with_name("inkwell-cast")
LOOKING = ("rounding", "likeness", "coverage", "flaws")
WRONG = 10.0  # degrees above the best on this low
WAYS = ("even 0.5 %", "even 1.5 %", "even 5 %", "even 20 %", "measured", "fitted", "mended")
BAKED = ("--size", "1024x1024", "--samples", "4", "--depth", "8", "--maps", "normal")
INTRODUCTION = """# Real pieces

Scans of others with lows that were decimated and unwrapped by a program; `make real` bakes them at 1024², 8 bits, 4
samples a texel. *As seen*, *best* and *over 30°* are the product's figures ([what they mean](guide/review.md)),
*judge* is the mean angle that an independent program finds from 64 directions, on the low as it was baked. *Looking*
is the time of judging the bake (rounding, likeness, coverage, flaws) over that of scene and casting, each run in a
process of its own; *peak* the most memory of the whole run. *Measured* is `--measure`, *fitted* `--measure --fit`,
*mended* an even 20 % and then `--mend`. *Flaws* are those that look wrong by over 10° in the mean, of all that were
found. Pieces are named, never shown.

| piece | way | as seen | best | judge | over 30° | missed | flaws | looking | seconds | peak |
| --- | --- | --- | --- | --- | --- | --- | --- | --- | --- | --- |
"""


@dataclass(frozen=True, slots=True)
class Piece:
    """A low and its sculpt."""

    name: str
    low: pathlib.Path
    high: pathlib.Path

    @property
    def meshes(self) -> tuple[str, ...]:
        return "--low", str(self.low), "--high", str(self.high)


def pieces_of(folder: pathlib.Path) -> list[Piece]:
    """The pieces of a folder by name; a low without a sculpt is left out."""
    found = []
    for low in sorted(folder.glob("*_low.obj")):
        name = low.stem.removesuffix("_low")
        high = next((p for s in (".ply", ".obj", ".glb") if (p := folder / f"{name}_high{s}").exists()), None)
        if high:
            found.append(Piece(name, low, high))
    return found


def options_of(way: str) -> tuple[str, ...]:
    """The options of the command line for a way to set the cage."""
    if way == "fitted":
        return ("--measure", "--fit")
    if way in ("measured", "mended"):
        return ("--measure",) if way == "measured" else ("--mend", "--set", "reach.outward=20", "reach.inward=20")
    share = way.split()[1]
    return "--set", f"reach.outward={share}", f"reach.inward={share}"


def row(piece: Piece, way: str, judge: list[str]) -> str:
    """One line of the table."""
    with tempfile.TemporaryDirectory() as folder:
        started = time.monotonic()
        low = pathlib.Path(folder) / "low.obj"
        command = [PROGRAM, "bake", *piece.meshes, *options_of(way), *BAKED, "--mesh", low, "--out", folder]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL) as run:
            _, status, usage = os.wait4(run.pid, 0)
            run.returncode = os.waitstatus_to_exitcode(status)
        if run.returncode:
            return f"| {piece.name} | {way} | failed with exit code {run.returncode} |" + " |" * 8
        seconds = time.monotonic() - started
        facts = json.loads((pathlib.Path(folder) / "manifest.json").read_text())
        other = judged(judge, replace(piece, low=low), pathlib.Path(folder) / "normal.png") if judge else "–"
    return _row_of(facts, piece, way, other, seconds, usage.ru_maxrss * 1024)


def _row_of(facts: dict[str, Any], piece: Piece, way: str, other: str, seconds: float, peak: int) -> str:
    bake, best, spent = facts["seen"]["bake"], facts["seen"]["best"], facts["seconds"]
    wrong = sum(flaw["error"] > WRONG for flaw in facts["flaws"])
    flaws = f"{wrong} of {facts['flaws_found']}" if facts["flaws"] else "0"
    cells = [
        piece.name,
        way,
        f"{bake['mean']:.2f}°",
        f"{best['mean']:.2f}°",
        other,
        f"{bake['over_30']:.2%}",
        f"{facts['missed_texels'] / max(facts['texels'], 1):.2%}",
        flaws,
        f"{sum(spent[name] for name in LOOKING) / max(spent['scene'] + spent['casting'], 1e-9):.1f}",
        f"{seconds:.1f}",
        f"{peak / 1e9:.2f} GB",
    ]
    return f"| {' | '.join(cells)} |"


def judged(judge: list[str], piece: Piece, picture: pathlib.Path) -> str:
    """The mean angle that another program finds."""
    said = subprocess.run([*judge, piece.low, piece.high, picture], capture_output=True, text=True).stdout
    line = next((line for line in said.splitlines() if picture.name in line), "")
    mean = re.search(r"mean ([\d.]+)", line)
    return f"{float(mean[1]):.2f}°" if mean else "failed"


def main(folder: str, judge: str = "") -> None:
    pieces = pieces_of(pathlib.Path(folder))
    if not pieces:
        sys.exit(f"{folder}: no NAME_low.obj with a NAME_high beside it. Give the folder of the pieces as PIECES=DIR.")
    rows = []
    for piece in pieces:
        for way in WAYS:
            rows.append(row(piece, way, shlex.split(judge)))
            print(rows[-1], flush=True)
    (DOCS / "real.md").write_text(INTRODUCTION + "\n".join(rows) + "\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
