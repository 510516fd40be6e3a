"""Many machines: bands of a sheet and whole pieces found by the workers of a Dask cluster."""

from typing import TYPE_CHECKING

from ...core.base.errors import InputProblem

if TYPE_CHECKING:
    from .client import Cluster


def cluster_at(address: str) -> "Cluster":
    """Workers at an address, tcp://HOST:PORT or tls://HOST:PORT, or local:N for N processes on this machine.

    Raises InputProblem where Dask is not installed, no cluster answers, or one of another version.
    """
    refuse_without_dask()
    from .client import Cluster

    return Cluster(address)


class ClusterAt:
    """A cluster that is connected to when it is first needed, and again after its scheduler went; "" for none."""

    def __init__(self, address: str) -> None:
        self._address = address
        self._known: Cluster | None = None

    def connected(self) -> "Cluster | None":
        """Raises InputProblem."""
        if self._known is not None and not self._known.is_there:
            self._known.close()
            self._known = None
        if self._known is None and self._address:
            self._known = cluster_at(self._address)
        return self._known


def refuse_without_dask() -> None:
    """Raises InputProblem."""
    try:
        import distributed  # noqa: F401
    except ImportError as error:
        raise InputProblem(
            "A cluster", "Dask is not installed here.", "Install it with: pip install 'inkwell-cast[cluster]'"
        ) from error
