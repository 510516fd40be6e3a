"""A worker of a cluster: one process that works on one thing at a time, with so many threads."""

import asyncio
import os

from distributed import Nanny

from ... import __version__
from ...core.bake.memory_estimate import in_gb
from ...core.base.errors import InputProblem
from ...core.base.free_memory import free
from .connection import CONNECT_WITHIN, THREADS_IN_ENVIRONMENT, resources_of


def serve(address: str, threads: int, memory: int, name: str | None) -> None:
    """Work for the scheduler at an address until that goes, or Ctrl-C.

    `threads` 0 is every processor, `memory` 0 what is free now, in bytes. Raises InputProblem where none answers.
    """
    try:
        asyncio.run(_serve(address, threads or os.cpu_count() or 1, memory or free(), name))
    except (OSError, TimeoutError, RuntimeError, ValueError) as error:
        raise InputProblem(
            address, f"No scheduler answers there ({error}).", "Start it with `dask scheduler`, and check the address."
        ) from error


async def _serve(address: str, threads: int, memory: int, name: str | None) -> None:
    async with asyncio.timeout(CONNECT_WITHIN * 3) as starting:
        async with Nanny(
            address,
            nthreads=1,
            memory_limit=memory,
            name=name,
            resources=resources_of(memory, threads),
            env={THREADS_IN_ENVIRONMENT: str(threads)},
        ) as nanny:
            starting.reschedule(None)
            print(f"At work for {address}: version {__version__}, {threads} threads, {in_gb(memory)}", flush=True)
            await nanny.finished()
