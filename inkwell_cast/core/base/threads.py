"""Work in threads: compiled kernels that let go of Python's lock, fed in small batches.

Each thread takes the next batch when it is done with its last, so none waits for another, and the caller can stop
the work between batches.
"""

import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, TimeoutError, wait
from typing import TypeVar

import numpy as np

from .errors import Cancelled
from .on_demand import library
from .progress import Cancel, ShareDone

numba = library("numba")
BATCH_SECONDS = 0.03
LOOK_SECONDS = 0.05

T = TypeVar("T")


def in_batches(
    count: int,
    work: Callable[[int, int], None],
    progress: ShareDone = lambda share: None,
    cancelled: Cancel = lambda: False,
) -> None:
    """Call `work(first, last)` for all of range(count), piece by piece, in as many threads as Numba would use.

    `progress(share)` and `cancelled()` are called from this thread only. Raises Cancelled, or what `work` raised.
    """
    lock, stop = threading.Lock(), threading.Event()
    taken = done = 0

    def take(wanted: int) -> tuple[int, int]:
        nonlocal taken
        with lock:
            first, taken = taken, min(taken + wanted, count)
            return first, taken

    def serve() -> None:
        nonlocal done
        size = 1
        while not stop.is_set():
            first, last = take(size)
            if first == last:
                return
            started = time.perf_counter()
            work(first, last)
            spent = max(time.perf_counter() - started, 1e-5)
            size = int(np.clip(size * BATCH_SECONDS / spent, 1, 4 * size))
            with lock:
                done += last - first

    threads = numba.get_num_threads()
    with ThreadPoolExecutor(threads) as pool:
        waiting = {pool.submit(serve) for _ in range(threads)}
        try:
            while waiting:
                ended, waiting = wait(waiting, LOOK_SECONDS, return_when="FIRST_EXCEPTION")
                for future in ended:
                    future.result()
                if cancelled():
                    raise Cancelled
                progress(done / max(count, 1))
        finally:
            stop.set()


def in_shares(count: int, work: Callable[[int, int], None]) -> None:
    """Call `work(first, last)` for as many even parts of range(count) as there are threads.

    For work that reads everything, and writes only what belongs to its part.
    """
    threads = numba.get_num_threads()
    in_batches(threads, lambda i, j: work(count * i // threads, count * j // threads))


def awaited(work: Callable[[], T], look: Callable[[], None]) -> T:
    """What one long native call gives; `look()` is called meanwhile, and what it raises gives the call up.

    A call that was given up goes on in its thread until it is done, so it must change nothing that others use.
    """
    ended: Future[T] = Future()

    def serve() -> None:
        try:
            result = work()
        except BaseException as error:
            ended.set_exception(error)
        else:
            ended.set_result(result)

    threading.Thread(target=serve, name="native call", daemon=True).start()
    while True:
        try:
            return ended.result(timeout=LOOK_SECONDS)
        except TimeoutError:
            if ended.done():
                raise
            look()
