"""Kernels: functions that Numba compiles, or finds compiled, when they are first called.

Numba takes half a second to be imported and some milliseconds for each function it is told of. So it is told of one
when that is called: who only serves pages, lists settings or reads a mesh never waits for it.
"""

import functools
import pathlib
import threading
from collections.abc import Callable, Iterator
from types import CodeType, FunctionType
from typing import Any

from .on_demand import imported

PACKAGE = pathlib.Path(__file__).resolve().parents[2]
_LOCK = threading.RLock()


class _Made:
    """What Numba makes of a function, or a name of Numba's own, made when it is first used."""

    def __init__(self, make: Callable[[], Any], function: FunctionType | None = None) -> None:
        self._make, self._function, self._made = make, function, None
        if function is not None:
            functools.update_wrapper(self, function)  # type: ignore[arg-type]

    def made(self) -> Any:
        if self._made is None:
            with _LOCK:
                if self._made is None:
                    made = self._make()
                    if self._function is not None:
                        bound(self._function)
                    self._made = made
        return self._made

    def __call__(self, *arguments: Any, **named: Any) -> Any:
        return (self._made or self.made())(*arguments, **named)

    @property
    def _numba_type_(self) -> Any:
        """How Numba sees it where a kernel takes it from a module or as an argument."""
        made, known = self.made(), imported("numba.core.registry").cpu_target.typing_context
        known.refresh()  # or it has not heard yet of what was made just now
        return known.resolve_value_type(made)


def bound(function: Any) -> Any:
    """The function, its globals filled with what is made of all that it names; what these name is bound with them."""
    names = function.__globals__
    for name in _names_in(function.__code__):
        if isinstance(value := names.get(name), _Made) and value._function is not function:
            names[name] = value.made()
    return function


def _names_in(code: CodeType) -> Iterator[str]:
    yield from code.co_names
    for inner in code.co_consts:
        if isinstance(inner, CodeType):
            yield from _names_in(inner)


def kernel(function: Callable[..., Any] | None = None, /, **options: Any) -> Any:
    """A decorator, `@kernel` or `@kernel(parallel=True)`: compile without the interpreter's lock, and keep it on disk.

    `options` are those of `numba.njit`.
    """
    if function is None:
        return functools.partial(kernel, **options)
    return _Made(lambda: _compiled(function, options), function)  # type: ignore[arg-type]


def _compiled(function: Callable[..., Any], options: dict[str, Any]) -> Any:
    made = imported("numba").njit(nogil=True, **options)(function)
    made._cache = _on_disk()(function)
    return made


def callback(signature: Any, function: Callable[..., Any]) -> Any:
    """A function that C can call, compiled now or found on disk; `signature` as for `numba.cfunc`."""
    sigutils, ccallback = imported("numba.core.sigutils"), imported("numba.core.ccallback")
    made = ccallback.CFunc(bound(function), sigutils.normalize_signature(signature), locals={}, options={})
    made._cache = _on_disk()(function)
    made.compile()
    return made


@functools.cache
def _on_disk() -> Any:
    """Numba's cache of compiled functions, loading them without what is needed only to compile.

    Numba's own first fills the registries of all functions of Python and NumPy that it knows how to compile, and with
    them imports SciPy's linear algebra: half a second. Code that is compiled needs the memory manager alone; where a
    kernel must be compiled after all, the compiler fills them itself.
    """
    caching, runtime = imported("numba.core.caching"), imported("numba.core.runtime").rtsys

    class Place(caching.UserProvidedCacheLocator):  # type: ignore[misc, name-defined]
        """A folder for each room of this package, wherever that is installed; the file's content is looked at."""

        @classmethod
        def get_suitable_cache_subpath(cls, py_file: str) -> str:
            room = pathlib.Path(py_file).resolve().parent
            return ".".join(room.relative_to(PACKAGE).parts) if room.is_relative_to(PACKAGE) else _usual(py_file)

    class Impl(caching.CompileResultCacheImpl):  # type: ignore[misc, name-defined]
        _locator_classes = (Place, *caching.CompileResultCacheImpl._locator_classes)

    _usual = caching.UserProvidedCacheLocator.get_suitable_cache_subpath

    class OnDisk(caching.FunctionCache):  # type: ignore[misc, name-defined]
        _impl_class = Impl

        def load_overload(self, sig: Any, target_context: Any) -> Any:
            runtime.initialize(target_context)
            with self._guard_against_spurious_io_errors():
                return self._load_overload(sig, target_context)

    return OnDisk


def intrinsic(function: Callable[..., Any]) -> Any:
    """A decorator: a function that writes the code of a call itself, see `numba.extending.intrinsic`.

    What it is called with in words, such as the name of a field, it gets as literal types.
    """
    return _Made(lambda: imported("numba.extending").intrinsic(prefer_literal=True)(function))


def _of_numba(name: str) -> Any:
    return _Made(lambda: getattr(imported("numba"), name))


prange, carray = _of_numba("prange"), _of_numba("carray")
