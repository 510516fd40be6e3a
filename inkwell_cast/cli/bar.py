"""The bar that tells how far a command is."""

import sys
import time


class Bar:
    """A progress bar on standard error, where that is a terminal."""

    def __init__(self) -> None:
        self._live = sys.stderr.isatty()
        self._started = time.monotonic()

    def show(self, stage: str, share: float) -> None:
        if not self._live:
            return
        spent = time.monotonic() - self._started
        left = f"{spent * (1 - share) / share:4.0f} s left" if share > 0.1 else ""
        filled = int(share * 30)
        sys.stderr.write(f"\r{'█' * filled}{'·' * (30 - filled)} {share:4.0%} {stage:<24.24} {left:<12}")
        sys.stderr.flush()

    def end(self) -> None:
        if self._live:
            sys.stderr.write("\r" + " " * 78 + "\r")
