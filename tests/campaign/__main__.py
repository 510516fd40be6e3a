"""Run all of the campaign and write docs/reliability.md."""

import argparse
import datetime
import pathlib
import sys
import tempfile
from collections.abc import Callable

from inkwell_cast import __version__

from . import disks, files, kills, long_runs, names, odd_meshes, settings, stops, walk
from .outcome import Outcome

REPORT = pathlib.Path(__file__).parents[2] / "docs" / "reliability.md"
HEAD = """# Reliability

Faults made on purpose by `make campaign` (last run {when}, version {version}, seed {seed}). *Failed* counts crashes, hangs
over 20 s, wrong answers and answers without words; *lost* counts what a user had and has no more, or what stayed half.

| part | cases | tries | failed | lost | |
| --- | --- | --- | --- | --- | --- |
"""
FOOT = """
- *Kills*: the server, or its engine, gets `kill -9` at a random moment of reading, baking, mending, handing off and deleting
  (a bake deleted and its disk freed); then the database is checked, every file that it names is hashed, and a handoff
  must be whole or absent. After a killed engine the same server must bake again.
- *Full disk*: the data folder lies on a disk of 80 MB that is filled to the last byte during an upload, a bake, a handoff and
  a change of settings; then room comes back, and the same server must take in and bake a second piece.
- *Mutated files*: cut, spliced, flipped, with wild numbers, of every format, and of recipes, receivers, libraries, piece
  files and pictures.
- *Settings at random*: three maps at a time, with settings drawn from all that they allow, ends and middle, baked and saved;
  every value must be a number, and what is refused must be refused in words.
- *Names*: markup, quotes, templates, turned writing, 190 characters and paths as names of pieces, parts, materials, bakes and
  receivers, with every step opened in a browser.
- *Random walk*: pages, settings, pockets, strokes, mends, undo, proofs, piece files and hostile requests in random order, some
  of them asked by a page that shows an older state; every 25 steps the newest bake is made again by a fresh process from
  the piece's file and must have the same bytes, and all files of the data folder are hashed with everything closed.
- *Stops*: server, engine and a command-line bake get `SIGSTOP` in the midst of a bake and go on later; `run` and a server on
  one folder; bakes with bounds on their address space.
- *Odd meshes*: powers of two from 2^-90 to 2^80, up to a million sizes from the origin, quads that tie, values that are no
  numbers, no areas, a million islands, two million triangles of a low, reaches from nothing to infinity, sheets of 16384 by
  16, one to three threads, files that double as they are read.
"""


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kills", type=int, default=50, help="in each stage")
    parser.add_argument("--proofs", type=int, default=300)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--bakes", type=int, default=2_000, help="with settings at random")
    parser.add_argument("--disks", type=int, default=3, help="rounds")
    parser.add_argument("--steps", type=int, default=400, help="of the random walk")
    parser.add_argument("--stop", type=float, default=60.0, help="seconds for which processes are stopped")
    parser.add_argument(
        "--only", nargs="+", metavar="WORD", help="parts whose names hold a word; the rest stays as it is"
    )
    options = parser.parse_args()
    outcomes = list[Outcome]()
    parts: dict[str, Callable[[pathlib.Path], Outcome]] = {
        "kills of server and engine": lambda folder: kills.run(folder, options.kills, options.seed),
        "kills of a command-line bake": lambda folder: kills.run_command(folder, options.kills, options.seed),
        "full disk, with room coming back": lambda folder: disks.run(folder, options.disks),
        "read-only targets": disks.run_read_only,
        "changes at once": lambda folder: long_runs.run_tabs(folder, 60),
        "proofs in a row": lambda folder: long_runs.run_proofs(folder, options.proofs),
        "mutated files": lambda folder: files.run(options.files, options.seed),
        "maps with settings at random": lambda folder: settings.run(options.bakes, options.seed),
        "hostile names in a browser": names.run,
        "random walk, audited": lambda folder: walk.run(folder, options.steps, options.seed),
        "stops, two programs, little memory": lambda folder: stops.run(folder, options.stop, options.seed),
        "odd meshes, scales, threads, bombs": lambda folder: odd_meshes.run(folder, 1_000_000, 2_000_000),
    }
    kept = REPORT.read_text().splitlines() if REPORT.exists() and options.only else []
    rows = {name: line for name in parts for line in kept if line.startswith(f"| {name} |")}
    said = {name: [line for line in kept if line.startswith(f"- {name}: ")] for name in parts}
    for name, part in parts.items():
        if options.only and not any(word in name for word in options.only):
            continue
        with tempfile.TemporaryDirectory() as folder:
            own = part(pathlib.Path(folder))
        outcomes.append(own)
        rows[name] = own.row()
        said[name] = [f"- {name}: {words}" for words in [*own.failures, *own.lost][:20]]
        print("\n".join([own.row(), *said[name]]), flush=True)
        _write(rows, said, HEAD.format(when=datetime.date.today(), version=__version__, seed=options.seed))
    return int(any(own.failures or own.lost for own in outcomes))


def _write(rows: dict[str, str], said: dict[str, list[str]], head: str) -> None:
    """The report as far as it is."""
    failed = [line for lines in said.values() for line in lines]
    rest = "\n## What failed\n\n" + "\n".join(failed) + "\n" if failed else ""
    REPORT.write_text(head + "\n".join(rows.values()) + "\n" + FOOT + rest)


if __name__ == "__main__":
    sys.exit(main())
