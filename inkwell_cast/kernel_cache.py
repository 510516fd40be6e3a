"""Where compiled kernels are kept: a folder named by everything that they are compiled from.

Numba looks for a kernel by its own file alone, though functions and constants of other modules are compiled into it.
So the folder is named by a hash of all sources that take part and of the versions of the compiler and the ray library:
after a change nothing old is found, and installations of the same sources share one. Set just before Numba is imported;
each installation says in a folder that it uses it, and what none uses any more is removed once a new one is filled.
"""

import contextlib
import hashlib
import importlib.metadata
import os
import pathlib
import re
import shutil
import sys
import time

PREFIX = "kernels-"
LIBRARIES = ("numba", "llvmlite", "numpy", "embreex")
COMPLETE = "complete"  # in the folder: all kernels are there, and it lists their files
USED_BY = "used-by-"  # files that name an installation
KEPT_DAYS = 30  # of folders whose installations are gone
HERE = pathlib.Path(__file__).resolve().parent
COMPILED = re.compile(rb"^from \.+(?:base\.)?kernels import\b", re.MULTILINE)
IMPORTS = re.compile(rb"^from (\.+)([\w.]*) import (\([^)]*\)|[^\n]*)", re.MULTILINE)
CONSTANT = re.compile(rb"\b_?[A-Z][A-Z0-9_]{2,}\b")


def kernel_sources() -> list[pathlib.Path]:
    """The modules with kernels, and those that they take constants from."""
    texts = {path: path.read_bytes() for path in sorted((HERE / "core").rglob("*.py"))}
    taking = {HERE / "core" / "base" / "kernels.py"} | {path for path, text in texts.items() if COMPILED.search(text)}
    waiting = list(taking)
    while waiting:
        path = waiting.pop()
        for source in _constants_of(path, texts[path]):
            if source in texts and source not in taking:
                taking.add(source)
                waiting.append(source)
    return sorted(taking)


def _constants_of(path: pathlib.Path, text: bytes) -> list[pathlib.Path]:
    """Modules of this package from which one imports constants."""
    sources = []
    for dots, module, names in IMPORTS.findall(text):
        if CONSTANT.search(names):
            base = path.parents[len(dots) - 1].joinpath(*module.decode().split(".")) if module else path.parent
            sources += [base.with_suffix(".py"), base / "__init__.py"]
    return sources


def state() -> str:
    """A hash of all that kernels are compiled from."""
    digest = hashlib.sha256(f"{sys.version_info[:3]} {[_version(name) for name in LIBRARIES]}".encode())
    for path in kernel_sources():
        digest.update(path.relative_to(HERE).as_posix().encode() + b"\0" + path.read_bytes())
    return digest.hexdigest()[:16]


def _version(name: str) -> str:
    try:
        return importlib.metadata.version(name)
    except importlib.metadata.PackageNotFoundError:
        return ""


def folder() -> pathlib.Path:
    """The folder of the kernels of this state.

    It lies in INKWELL_CAST_KERNELS, else in NUMBA_CACHE_DIR, else where this system keeps a user's caches.
    """
    return _root() / f"{PREFIX}{state()}"


def complete(of: pathlib.Path | None = None) -> bool:
    """Whether all kernels of this state are there, or those of a folder."""
    return ((of or folder()) / COMPLETE).exists()


def _root() -> pathlib.Path:
    named = os.environ.get("INKWELL_CAST_KERNELS")
    if named:
        return pathlib.Path(named)
    given = os.environ.get("NUMBA_CACHE_DIR")
    if given:
        path = pathlib.Path(given)
        return path.parent if path.name.startswith(PREFIX) else path  # set by the process that started this one
    usual = {
        "darwin": pathlib.Path.home() / "Library/Caches",
        "win32": pathlib.Path(os.environ.get("LOCALAPPDATA", pathlib.Path.home())),
    }
    cache = pathlib.Path(os.environ.get("XDG_CACHE_HOME") or pathlib.Path.home() / ".cache")
    return usual.get(sys.platform, cache) / "inkwell-cast"


def use() -> None:
    """Let Numba keep its kernels in `folder`."""
    chosen = str(folder())
    os.environ["NUMBA_CACHE_DIR"] = chosen
    numba = sys.modules.get("numba")
    if numba is not None:  # imported before, by a program that uses this one
        numba.config.CACHE_DIR = chosen


class _Before:
    """Finds no module, but calls `use` before Numba is imported: only then is it worth reading all sources."""

    def find_spec(self, name: str, path: object = None, target: object = None) -> None:
        if name == "numba":
            sys.meta_path.remove(self)  # type: ignore[arg-type]
            use()


def use_with_numba() -> None:
    """Call `use` as soon as Numba is imported, or now if it was."""
    if "numba" in sys.modules:
        use()
    else:
        sys.meta_path.insert(0, _Before())  # type: ignore[arg-type]


def note_use() -> None:
    """Note in `folder` that this installation uses it, where it can be written."""
    note = _mine(folder())
    if not note.exists():
        with contextlib.suppress(OSError):
            note.parent.mkdir(parents=True, exist_ok=True)
            note.write_text(str(HERE), encoding="utf-8")


def _mine(of: pathlib.Path) -> pathlib.Path:
    return of / f"{USED_BY}{hashlib.sha256(str(HERE).encode()).hexdigest()[:16]}"


def remove_unused() -> None:
    """Remove what only earlier states of this installation used, and what nobody uses and has touched for long."""
    current = folder()
    for other in current.parent.glob(f"{PREFIX}*"):
        if other == current:
            continue
        mine = _mine(other)
        left = mine.exists()
        try:
            mine.unlink(missing_ok=True)
            used = any(pathlib.Path(note.read_text(encoding="utf-8")).exists() for note in other.glob(f"{USED_BY}*"))
            old = time.time() - other.stat().st_mtime > KEPT_DAYS * 86400
        except OSError:
            continue
        if not used and (left or old):
            shutil.rmtree(other, ignore_errors=True)
