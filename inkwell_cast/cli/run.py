"""The command run: every piece of some folders baked and handed off."""

import argparse
import concurrent.futures
import pathlib
import sys
import threading
import time
from typing import TYPE_CHECKING

from ..core.base.errors import Cancelled, InputProblem
from ..core.base.progress import Progress
from ..core.handoff.batch import (
    Item,
    Outcome,
    Summary,
    find_items,
    inputs_of,
    plan_of,
    read_summary,
    resumed,
    still_good,
    write_summary,
)
from ..core.settings.limits import HeldTo, Limits
from ..core.settings.receivers import Receiver
from ..core.settings.recipe import Recipe
from ..engine.cluster import cluster_at
from ..engine.engine import Engine
from ..engine.messages import RunItem
from ..engine.ticket import JobFailed
from .bar import Bar
from .input import receiver_of, recipe_file
from .leaving import tell_plans
from .watched_folder import Stamp, stamps_of, wait_for_a_change

if TYPE_CHECKING:
    from ..engine.cluster.client import Cluster

SOME_FAILED = 3


def run_batch(options: argparse.Namespace) -> int:
    """Exit code 0 when every piece is done, 3 when some failed or are beyond a limit, 2 for folders that hold none."""
    receiver = receiver_of(options)
    if options.plan:
        recipe, items = recipe_file(options), find_items(options.paths)
        return tell_plans([plan_of(item, recipe, receiver, options.out) for item in items], options.json)
    work = Batch(options, receiver, recipe_file(options))
    try:
        summary = work.round(find_items(options.paths), options.out)
        while options.watch:
            print("watching; Ctrl-C ends", flush=True)
            wait_for_a_change(options.paths, work.seen)
            work.again = False
            summary = work.round(find_items(options.paths), options.out)
    finally:
        work.close()
    return SOME_FAILED if summary.failed or summary.beyond else 0


class Batch:
    """Engines that bake the pieces of a batch, as many at once as were asked for."""

    def __init__(self, options: argparse.Namespace, receiver: Receiver | None, recipe: Recipe) -> None:
        self.out = pathlib.Path()
        self.receiver, self.recipe, self.mend, self.again = receiver, recipe, options.mend, options.again
        self.held = HeldTo(options.limit, options.judge)
        self.held.over(Limits())
        self._cluster = cluster_at(options.cluster) if options.cluster else None
        self._jobs: int = options.jobs or (self._cluster.workers if self._cluster else 1)
        self._engines = [] if self._cluster else [Engine() for _ in range(self._jobs)]
        self._free = list(self._engines)
        self._lock = threading.Lock()
        self._summary = Summary()
        self.seen: dict[str, Stamp] = {}
        self._stopping = False
        self._bar, self._shares = Bar(), dict[str, float]()

    def close(self) -> None:
        self._stopping = True
        for engine in self._engines:
            engine.close()
        if self._cluster:
            self._cluster.close()

    def round(self, items: list[Item], out: pathlib.Path) -> Summary:
        """Bake every piece that is not done with its inputs as they are into a folder; prints the table at the end."""
        self.out = out
        self.seen = stamps_of(items)
        self._bar, self._shares = Bar(), {}
        self._summary = resumed(items, read_summary(self.out), self.receiver.name if self.receiver else "")
        write_summary(self.out, self._summary)
        with concurrent.futures.ThreadPoolExecutor(self._jobs) as pool:
            futures = [pool.submit(self._one, item) for item in items]
            try:
                for future in futures:
                    future.result()
            except BaseException:
                pool.shutdown(wait=False, cancel_futures=True)
                self.close()
                raise
        self._bar.end()
        print(self._summary.table(), end="")
        over = f", {self._summary.beyond} beyond a limit" if self._summary.beyond or self.held.words else ""
        print(f"{len(items)} pieces, {self._summary.failed} failed{over}; summary in {self.out}", flush=True)
        return self._summary

    def _one(self, item: Item) -> None:
        try:
            inputs = inputs_of(item, self.recipe, self.receiver, self.mend, self.held)
        except InputProblem as problem:
            self._keep(Outcome(piece=item.name, state="failed", message=str(problem)))
            return
        if not self.again and still_good(self._summary.of(item.name), inputs, self.out):
            with self._lock:
                self._shares[item.name] = 1.0
            self._say(f"{item.name}: as before")
            return
        self._say(f"{item.name}: at work")
        started = time.monotonic()
        try:
            done = self._on_cluster(self._cluster, item) if self._cluster else self._here(item)
            outcome = done.model_copy(update={"inputs": inputs})
        except (JobFailed, InputProblem, Cancelled) as failed:
            if self._stopping:
                return  # by Ctrl-C: it stays waiting
            spent = round(time.monotonic() - started, 2)
            outcome = Outcome(piece=item.name, state="failed", message=str(failed), inputs=inputs, seconds=spent)
        self._say(f"{item.name}: {outcome.message or outcome.state}")
        self._keep(outcome)

    def _here(self, item: Item) -> Outcome:
        """Bake a piece in an engine of this machine. Raises JobFailed."""
        with self._lock:
            engine = self._free.pop()
        job = RunItem(item, self.recipe, self.receiver, str(self.out), self.mend, self.held)
        try:
            done: Outcome = engine.submit(job, self._hears(item)).future.result()
            return done
        finally:
            with self._lock:
                self._free.append(engine)

    def _on_cluster(self, cluster: "Cluster", item: Item) -> Outcome:
        """Bake a piece on a worker of the cluster. Raises InputProblem and Cancelled."""
        return cluster.bake_piece(
            item,
            self.recipe,
            self.receiver,
            self.out,
            self.mend,
            self._hears(item),
            lambda: self._stopping,
            self.held,
        )

    def _hears(self, item: Item) -> Progress:
        """What tells how far a piece, and with it the whole batch, is."""

        def heard(stage: str, share: float) -> None:
            with self._lock:
                self._shares[item.name] = share
                whole = sum(self._shares.values()) / len(self.seen)
                self._bar.show(f"{item.name}: {stage}", whole)

        return heard

    def _keep(self, outcome: Outcome) -> None:
        with self._lock:
            self._shares[outcome.piece] = 1.0
            self._summary = self._summary.with_outcome(outcome)
            write_summary(self.out, self._summary)

    def _say(self, words: str) -> None:
        with self._lock:
            self._bar.end()
            print(words, file=sys.stderr, flush=True)
