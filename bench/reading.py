"""Reading: each format against the time NumPy takes to read the file's bytes."""

import pathlib
import tempfile
import time

import numpy as np

from inkwell_cast.core.formats import read_mesh, write_mesh

from .shapes import sphere


def measure(rounds: int = 7) -> dict[str, dict[str, float]]:
    """Best seconds of several readings of a mesh of a million triangles, the file being in the system's cache."""
    mesh, found = sphere(1000, 0.02), {}
    with tempfile.TemporaryDirectory() as folder:
        for suffix in ("ply", "glb", "obj"):
            path = pathlib.Path(folder) / f"sphere.{suffix}"
            write_mesh(path, mesh)
            read_mesh(path)
            reading, bytes_alone = [], []
            for _ in range(rounds):
                started = time.perf_counter()
                np.fromfile(path, np.uint8)
                bytes_alone.append(time.perf_counter() - started)
                started = time.perf_counter()
                read_mesh(path)
                reading.append(time.perf_counter() - started)
            found[suffix] = {
                "megabytes": path.stat().st_size / 1e6,
                "read_seconds": min(reading),
                "bytes_seconds": min(bytes_alone),
                "read_over_bytes": min(reading) / min(bytes_alone),
            }
            path.unlink()
    return found
