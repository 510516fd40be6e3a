"""Run all of the campaign and write docs/reliability.md."""

import argparse
import datetime
import pathlib
import sys
import tempfile
import time
from collections.abc import Callable

from inkwell_cast import __version__

from . import disks, files, kills, long_runs, names
from .outcome import Outcome

REPORT = pathlib.Path(__file__).parents[2] / "docs" / "reliability.md"
HEAD = """# Reliability

Faults made on purpose by `make campaign` ({when}, version {version}, seed {seed}, {minutes:.0f} minutes). *Failed* counts
crashes, hangs over 20 s, wrong answers and answers without words; *lost* counts what a user had and has no more, or what
stayed half.

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
- *Names*: markup, quotes, templates, turned writing, 190 characters and paths as names of pieces, parts, materials, bakes and
  receivers, with every step opened in a browser.
"""


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kills", type=int, default=50, help="in each stage")
    parser.add_argument("--proofs", type=int, default=300)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--disks", type=int, default=3, help="rounds")
    options = parser.parse_args()
    started, outcomes = time.monotonic(), list[Outcome]()
    parts: list[Callable[[pathlib.Path], Outcome]] = [
        lambda folder: kills.run(folder, options.kills, options.seed),
        lambda folder: kills.run_command(folder, options.kills, options.seed),
        lambda folder: disks.run(folder, options.disks),
        disks.run_read_only,
        lambda folder: long_runs.run_tabs(folder, 60),
        lambda folder: long_runs.run_proofs(folder, options.proofs),
        lambda folder: files.run(options.files, options.seed),
        names.run,
    ]
    for part in parts:
        with tempfile.TemporaryDirectory() as name:
            outcomes.append(part(pathlib.Path(name)))
        print(outcomes[-1].row(), flush=True)
        for words in [*outcomes[-1].failures, *outcomes[-1].lost][:20]:
            print(f"    {words}", flush=True)
    head = HEAD.format(
        when=datetime.date.today(), version=__version__, seed=options.seed, minutes=(time.monotonic() - started) / 60
    )
    said = [f"- {own.part}: {words}" for own in outcomes for words in [*own.failures, *own.lost][:20]]
    rest = "\n## What failed\n\n" + "\n".join(said) + "\n" if said else ""
    REPORT.write_text(head + "\n".join(own.row() for own in outcomes) + "\n" + FOOT + rest)
    return int(any(own.failures or own.lost for own in outcomes))


if __name__ == "__main__":
    sys.exit(main())
