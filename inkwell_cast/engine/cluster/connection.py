"""Getting to a cluster, and what is refused there: no workers, workers of another version, a scheduler that went."""

import contextlib
from typing import Any

from distributed import Client, LocalCluster

from ... import __version__
from ...core.base.errors import InputProblem
from ...core.base.free_memory import free

CONNECT_WITHIN = 10  # seconds
MOST_LOCAL = 64
MEMORY, THREADS = "memory", "threads"  # as workers call them among their resources
THREADS_IN_ENVIRONMENT = "INKWELL_CAST_THREADS"  # of a worker, which its process starts with
OWN = "inkwell-cast "


def of_this_version() -> str:
    """The resource that workers of this version have, so that others get nothing of what is asked for here."""
    return OWN + __version__


def resources_of(memory: int, threads: int) -> dict[str, float]:
    """What a worker tells the scheduler that it has."""
    return {MEMORY: memory, THREADS: threads, of_this_version(): 1}


def connected(address: str) -> tuple[Client, LocalCluster | None]:
    """A client of the cluster at an address, and the cluster itself where it was made here. Raises InputProblem."""
    kind, _, rest = address.partition(":")
    if kind == "local":
        if not rest.isdecimal() or not 1 <= int(rest) <= MOST_LOCAL:
            raise InputProblem(address, f"“{rest}” is no number of workers.", f"Give local:1 to local:{MOST_LOCAL}.")
        local = LocalCluster(
            n_workers=int(rest),
            threads_per_worker=1,
            dashboard_address=None,
            silence_logs=50,
            resources=resources_of(free() // int(rest), 1),
            env={THREADS_IN_ENVIRONMENT: "1"},
        )
        return Client(local, direct_to_workers=True), local
    if kind not in ("tcp", "tls"):
        raise InputProblem(
            address, "That is no address of a cluster.", "Give tcp://HOST:PORT of its scheduler, or local:N."
        )
    try:
        return Client(address, timeout=CONNECT_WITHIN, direct_to_workers=True), None
    except (OSError, TimeoutError, ValueError, RuntimeError) as error:
        raise InputProblem(
            address,
            f"No scheduler answers there ({error}).",
            "Start it with `dask scheduler`, and see that the address and its TLS settings are right.",
        ) from error


def workers_of(client: Client) -> dict[str, dict[str, Any]]:
    """What the scheduler knows of each worker, by address."""
    found: dict[str, dict[str, Any]] = client.scheduler_info(n_workers=-1)["workers"]
    return found


def refuse_unfit(client: Client, address: str) -> None:
    """Raises InputProblem for a cluster without workers, and for workers of another version."""
    with contextlib.suppress(TimeoutError):
        client.wait_for_workers(1, timeout=CONNECT_WITHIN)
    workers = workers_of(client)
    start = f"inkwell-cast worker {address}"
    if not workers:
        raise InputProblem(f"The cluster at {address}", "It has no workers.", f"Start some with: {start}")
    for at, worker in workers.items():
        theirs = [name.removeprefix(OWN) for name in worker.get("resources", {}) if name.startswith(OWN)]
        if not theirs:
            raise InputProblem(
                f"The worker at {at}", "It was not started as one of this program.", f"Start it with: {start}"
            )
        if theirs != [__version__]:
            raise InputProblem(
                f"The worker at {at}",
                f"It runs version {theirs[0]}, and this is version {__version__}.",
                "Install the same version on both.",
            )


def refuse_gone(client: Client, address: str) -> None:
    """Raises InputProblem where the scheduler is no longer there."""
    if client.status != "running":
        raise InputProblem(
            f"The cluster at {address}",
            "The connection to its scheduler was lost.",
            "Start it again and bake again; nothing of the piece is lost.",
        )


def most_memory(client: Client) -> int:
    """Bytes that the largest worker says it has."""
    return max((int(worker.get("resources", {}).get(MEMORY, 0)) for worker in workers_of(client).values()), default=0)
