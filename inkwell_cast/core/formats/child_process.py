"""Reading through a foreign native parser, in a child process: a crash or a leak in it ends the child alone.

The child writes the mesh in the packed form of `mesh.binary_message`; this process maps it.
"""

import importlib
import pathlib
import subprocess
import sys
import tempfile
from dataclasses import replace

import numpy as np

from ..base.errors import InputProblem
from ..base.free_memory import free
from ..base.system import end_with_parent, limit_data
from ..mesh.binary_message import read_packed, write_packed
from ..mesh.mesh import Mesh
from .reading_budget import Budget

LOOK_SECONDS = 0.1
TOLD = 3  # exit code: the last line of its errors is for the user
SPARE = 0.8
MOST_BYTES = 16 << 30


def read_in_child(path: pathlib.Path, module: str, budget: Budget) -> Mesh:
    """`module.parse(path, budget)` of this package, run in a child. Raises InputProblem for what goes wrong there."""
    with tempfile.TemporaryDirectory(prefix="inkwell-read-") as folder:
        out = pathlib.Path(folder) / "mesh"
        command = [sys.executable, "-m", __name__, module, str(path), str(out), str(budget.size)]
        command += [repr(at) for at in budget.origin.tolist()]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as child:
            words = _followed(child, budget)
        if child.returncode == 0:
            return read_packed(out)
        lines = words.strip().splitlines()
        told = child.returncode == TOLD and lines
        what = lines[-1] if told else f"The reader of this format failed on it ({child.returncode})."
        raise InputProblem(path.name, what, "Export it again, or as GLB.")


def _followed(child: "subprocess.Popen[str]", budget: Budget) -> str:
    """What a child said until it ended; it is ended where nobody waits for it any more, or it takes too long."""
    while True:
        try:
            return child.communicate(timeout=LOOK_SECONDS)[1]
        except subprocess.TimeoutExpired:
            try:
                budget.look()
            except BaseException:
                child.kill()
                raise


def main() -> None:
    module, path, out, size, *origin = sys.argv[1:]
    end_with_parent()
    limit_data(min(MOST_BYTES, int(SPARE * free())))
    budget = Budget(pathlib.Path(path).name, int(size), origin=np.array(origin, np.float64))
    try:
        mesh = importlib.import_module(module).parse(pathlib.Path(path), budget)
        write_packed(pathlib.Path(out), replace(mesh, notes=(*mesh.notes, *budget.notes)))
    except InputProblem as problem:
        sys.exit(_say(problem.what))
    except MemoryError:
        sys.exit(_say("It needs more memory than there is."))


def _say(words: str) -> int:
    print(words, file=sys.stderr)
    return TOLD


if __name__ == "__main__":
    main()
