"""Assets with planted mistakes, and healthy ones: what the list of flaws says of them, and what Mend all cures.

`make planted` writes docs/planted.md. Every asset is drawn by its seed (`assets`). A mistake counts where it shows: its
pair looks worse than that of its twin without it. It is found where a flaw of one of its causes is told of its unit;
any other flaw is a false one.
"""

import argparse
import pathlib
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context

from .mistakes import MISTAKES
from .outcome import Outcome, outcome

DOCS = pathlib.Path(__file__).parent.parent.parent / "docs"
ASSETS = 200


INTRODUCTION = f"""# Planted mistakes

`make planted` draws {ASSETS} assets by seed (`bench/planted/`): one to three units of random form, size, density and
place, most with one mistake that artists make, some with two or three, a fifth healthy. It bakes them, lists the flaws
that are told, with what each adds to the mean as seen, and what *Mend all* makes of them. A mistake is counted where it
shows: where its pair looks worse than in a twin of the asset without it.
"""


def _table(results: list[Outcome]) -> Iterator[str]:
    planted, found, told, right, mendable, cured = (
        sum((getattr(result, name) for result in results), Counter())
        for name in ("planted", "found", "told", "right", "mendable", "cured")
    )
    yield "| mistake | shows | told by its cause | can be cured | cured |\n| --- | ---: | ---: | ---: | ---: |"
    for mistake in MISTAKES:
        name = mistake.name
        yield f"| {name} | {planted[name]} | {found[name]} | {mendable[name] or '–'} | {cured[name] or '–'} |"
    yield "\n| told | times | right |\n| --- | ---: | ---: |"
    for cause in sorted(told):
        yield f"| {cause} | {told[cause]} | {right[cause]} |"
    all_planted, all_found, all_told, all_right = (c.total() for c in (planted, found, told, right))
    healthy, silent = (sum(getattr(result, name) for result in results) for name in ("healthy", "silent"))
    yield (
        f"\nOf {all_planted} mistakes that show {all_found} are told by their cause (recall "
        f"{all_found / max(all_planted, 1):.2f}); of {all_told} causes told {all_right} are right (precision "
        f"{all_right / max(all_told, 1):.2f}); of {healthy} healthy assets {silent} are silent. Of {mendable.total()} "
        f"that settings can cure *Mend all* cured {cured.total()}; {sum(result.worse for result in results)} assets "
        "came out worse."
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--assets", type=int, default=ASSETS)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--no-mending", action="store_true")
    given = parser.parse_args()
    seeds = range(given.seed, given.seed + given.assets)
    results = []
    with ProcessPoolExecutor(2, get_context("spawn")) as pool:
        for result in pool.map(outcome, seeds, [not given.no_mending] * len(seeds)):
            print(result.line, flush=True)
            results.append(result)
    table = "\n".join(_table(results))
    print(table)
    if given.assets == ASSETS and not given.no_mending and not given.seed:
        lines = "\n".join(result.line for result in results)
        rows = f"\n## Each\n\n| seed | units | told | Mend all |\n| --- | --- | --- | --- |\n{lines}\n"
        (DOCS / "planted.md").write_text(f"{INTRODUCTION}\n{table}\n{rows}")


if __name__ == "__main__":
    sys.exit(main())
