"""Damaged files for every reader: each must give a mesh or a clear error, quickly and in little memory.

`make fuzz` runs thousands; a short run is part of the tests. A file that breaks the rule is kept for a look.
"""

import argparse
import pathlib
import resource
import sys
import tempfile
import time

import numpy as np

from inkwell_cast.core.base.errors import InputProblem
from inkwell_cast.core.formats import ply_writer, read_mesh, write_mesh

from .core.formats.test_fbx_usd_and_more import FBX, USDA, as_text
from .core.formats.test_formats import dressed

LONGEST_SECONDS = 2.0
MOST_KILOBYTES = 500_000
IN_CHILD = (".fbx", ".usda")  # read by a process each, so fewer of them
WILD = (0, 1, 127, 128, 255, 2**15, 2**16 - 1, 2**31 - 1, 2**31, 2**32 - 1)


def seeds(folder: pathlib.Path) -> dict[str, bytes]:
    """Small whole files by name."""
    mesh = dressed()
    for name in ("a.obj", "a.glb", "a.ply"):
        write_mesh(folder / name, mesh)
    ply_writer.write(folder / "b.ply", mesh, "ascii")
    ply_writer.write(folder / "c.ply", mesh, "binary_big_endian")
    as_text(folder / "a.glb", True)
    facet = "facet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
    (folder / "a.stl").write_text(f"solid a\n{facet * 5}endsolid a\n")
    (folder / "b.stl").write_bytes(
        b"b".ljust(80) + (5).to_bytes(4, "little") + np.arange(250, dtype=np.uint8).tobytes()
    )
    (folder / "a.fbx").write_text(FBX.format(x=3))
    (folder / "a.usda").write_text(USDA)
    return {path.name: path.read_bytes() for path in sorted(folder.iterdir()) if path.suffix not in (".mtl", ".bin")}


def damaged(data: bytes, random: np.random.Generator) -> bytes:
    """One to four of: cut short, spliced, bytes flipped, wild numbers, digits changed."""
    out = bytearray(data)
    for _ in range(random.integers(1, 5)):
        if not out:
            break
        at = int(random.integers(len(out)))
        match random.integers(6):
            case 0:
                del out[at:]
            case 1:
                other = int(random.integers(len(out)))
                out[at:at] = out[other : other + int(random.integers(1, 200))]
            case 2:
                for _ in range(int(random.integers(1, 20))):
                    out[int(random.integers(len(out)))] ^= int(random.integers(1, 256))
            case 3:
                out[at : at + 4] = int(random.choice(WILD)).to_bytes(4, "little")
            case 4:
                digits = [k for k in range(max(0, at - 400), min(len(out), at + 400)) if 48 <= out[k] <= 57]
                if digits:
                    k = int(random.choice(digits))
                    out[k : k + 1] = str(random.choice([0, 7, 99, 4294967295, 10**18, -1])).encode()
            case _:
                del out[at : at + int(random.integers(1, 100))]
    return bytes(out)


def run(count: int, seed: int, keep: pathlib.Path | None = None) -> list[str]:
    """Try `count` damaged files of each kind (a hundredth of those read in a child); what broke the rule, in words."""
    random, broken = np.random.default_rng(seed), list[str]()
    with tempfile.TemporaryDirectory() as name:
        folder = pathlib.Path(name)
        (folder / "seeds").mkdir()
        for kind, data in seeds(folder / "seeds").items():
            path = folder / f"x{pathlib.Path(kind).suffix}"
            path.write_bytes(data)
            read_mesh(path)  # the whole file is read, and its kernels are compiled
            for n in range(max(1, count // 100) if path.suffix in IN_CHILD else count):
                content = damaged(data, random)
                path.write_bytes(content)
                fault = attempt(path)
                if fault:
                    broken.append(f"{kind} number {n}: {fault}")
                    if keep:
                        keep.mkdir(exist_ok=True)
                        (keep / f"{n}_{kind}").write_bytes(content)
    return broken


def attempt(path: pathlib.Path) -> str:
    """Read a file; what was wrong with how that went, or an empty string."""
    before, started = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.perf_counter()
    try:
        read_mesh(path)
    except InputProblem as problem:
        if not (problem.what and problem.where == path.name):
            return f"an error without a file or words: {problem!r}"
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    spent = time.perf_counter() - started
    grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before
    if spent > LONGEST_SECONDS and path.suffix not in IN_CHILD:
        return f"it took {spent:.1f} s"
    return f"it took {grown / 1000:.0f} MB" if grown > MOST_KILOBYTES else ""


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=3000)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    options = parser.parse_args()
    print(f"seed {options.seed}", flush=True)
    found = run(options.count, options.seed, pathlib.Path("fuzz-findings"))
    print("\n".join(found) or "every file gave a mesh or a clear error")
    sys.exit(bool(found))
