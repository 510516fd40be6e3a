"""How far a command is, on standard error: a bar in a terminal, a line a second in a pipe, or JSON for programs."""

import argparse
import json
import sys
import time

KINDS = ("bar", "lines", "json", "none")
LINE_EVERY = 1.0  # seconds
KNOWN_FROM = 0.1  # of the whole: before that much is done nothing is said of the time that is left
_chosen: str | None = None


def add_progress(command: argparse.ArgumentParser) -> None:
    """The option that chooses how a command tells its progress."""
    command.add_argument(
        "--progress",
        choices=KINDS,
        type=_choose,
        help="how far it is, on standard error: a bar (in a terminal), a line a second (in a pipe), JSON, or nothing",
    )


def _choose(kind: str) -> str:
    global _chosen
    _chosen = kind
    return kind


class Bar:
    """Tells how far a command is, as was chosen."""

    def __init__(self, kind: str | None = None) -> None:
        self._kind = kind or _chosen or ("bar" if sys.stderr.isatty() else "lines")
        self._started = time.monotonic()
        self._told = self._started

    def show(self, stage: str, share: float) -> None:
        """A share of all, 0 to 1, is done, and what is at work."""
        now = time.monotonic()
        left = (now - self._started) * (1 - share) / share if share > KNOWN_FROM else None
        if self._kind == "bar":
            filled, words = int(share * 30), "" if left is None else f"{left:4.0f} s left"
            sys.stderr.write(f"\r{'█' * filled}{'·' * (30 - filled)} {share:4.0%} {stage:<24.24} {words:<12}")
        elif self._kind == "none" or now - self._told < LINE_EVERY:
            return
        elif self._kind == "json":
            seconds = None if left is None else round(left, 1)
            sys.stderr.write(json.dumps({"stage": stage, "share": round(share, 4), "seconds_left": seconds}) + "\n")
        else:
            sys.stderr.write(f"{share:.0%} {stage}{'' if left is None else f', {left:.0f} s left'}\n")
        self._told = now
        sys.stderr.flush()

    def end(self) -> None:
        if self._kind == "bar":
            sys.stderr.write("\r" + " " * 78 + "\r")
