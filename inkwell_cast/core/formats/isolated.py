"""Reading through a foreign native parser, in a child process: a crash or a leak in it ends the child alone.

The child writes the mesh in the packed form of `core.packed`; this process maps it.
"""

import importlib
import pathlib
import signal
import subprocess
import sys
import tempfile

from ..errors import InputProblem
from ..mesh import Mesh
from ..packed import read_packed, write_packed

LONGEST_SECONDS = 600
MOST_BYTES = 16 << 30
PR_SET_PDEATHSIG = 1


def read_in_child(path: pathlib.Path, module: str) -> Mesh:
    """`module.parse(path)` of this package, run in a child. Raises InputProblem for whatever goes wrong there."""
    with tempfile.TemporaryDirectory(prefix="inkwell-read-") as folder:
        out = pathlib.Path(folder) / "mesh"
        command = [sys.executable, "-m", __name__, module, str(path), str(out)]
        try:
            ended = subprocess.run(command, capture_output=True, text=True, timeout=LONGEST_SECONDS, check=False)
        except subprocess.TimeoutExpired as error:
            raise InputProblem(
                path.name, f"Reading it took more than {LONGEST_SECONDS // 60} minutes.", "Export it as GLB."
            ) from error
        if ended.returncode == 0:
            return read_packed(out)
        words = ended.stderr.strip().splitlines()
        what = (
            words[-1]
            if ended.returncode == 3 and words
            else f"The reader of this format failed on it ({ended.returncode})."
        )
        raise InputProblem(path.name, what, "Export it again, or as GLB.")


def main() -> None:
    module, path, out = sys.argv[1:]
    if sys.platform == "linux":
        import ctypes
        import resource

        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)  # never outlive the process that asked

        resource.setrlimit(resource.RLIMIT_AS, (MOST_BYTES, MOST_BYTES))
    try:
        mesh = importlib.import_module(module).parse(pathlib.Path(path))
        write_packed(pathlib.Path(out), mesh)
    except InputProblem as problem:
        sys.exit(_say(problem.what))
    except MemoryError:
        sys.exit(_say("It needs more memory than there is."))


def _say(words: str) -> int:
    print(words, file=sys.stderr)
    return 3


if __name__ == "__main__":
    main()
