"""Kernels that are made when they are first called, and starts that import only what they need."""

import gc
import importlib
import pkgutil
import subprocess
import sys

import numba
import numpy as np
import pytest
from numba.core.dispatcher import Dispatcher

from inkwell_cast import core, kernel_cache
from inkwell_cast.core.base import on_demand
from inkwell_cast.core.base.kernels import _Made, intrinsic, kernel, prange
from inkwell_cast.kernel_cache import COMPLETE

HEAVY = ("numba", "scipy", "cv2", "PIL", "inkwell_cast.demo.gull", "inkwell_cast.engine.worker")


@kernel
def twice(x):
    return 2 * x


@kernel(inline="always")
def more(x):
    return twice(x) + 1


@kernel(parallel=True)
def all_more(values):
    for i in prange(len(values)):
        values[i] = more(values[i])


@numba.njit
def outer(x):
    return more(x)


def test_kernels_call_each_other_in_any_order_of_making():
    values = np.arange(10.0)
    all_more(values)
    np.testing.assert_array_equal(values, 2 * np.arange(10.0) + 1)
    assert more(3) == 7


@intrinsic
def nine(context):
    types = numba.types
    return types.int64(), lambda context, builder, signature, values: context.get_constant(types.int64, 9)


@numba.njit
def outer_nine():
    return nine()


def test_a_function_that_numba_was_told_of_itself_calls_one_too():
    assert outer(4) == 9
    assert outer_nine() == 9


def test_what_is_wrong_in_a_kernel_is_told_by_its_caller():
    @kernel
    def wrong(x):
        return x.nothing

    with pytest.raises(numba.TypingError, match="nothing"):
        wrong(1.0)


def test_the_process_of_a_server_loads_nothing_that_only_its_engines_need():
    code = f"import inkwell_cast.web.serve, sys; print([m for m in {HEAVY} if m in sys.modules])"
    told = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True).stdout
    assert told == "[]\n"


@pytest.mark.parametrize("on", [True, False])
def test_the_collector_rests_while_much_is_imported_and_is_as_it_was_afterwards(monkeypatch, on):
    frozen = []
    monkeypatch.setattr(gc, "freeze", lambda: frozen.append(True))
    monkeypatch.setattr(on_demand, "MANY", 0)
    (gc.enable if on else gc.disable)()
    try:
        with on_demand.importing():
            assert not gc.isenabled()
            sys.modules["a_module_of_this_test"] = gc
        assert gc.isenabled() == on
        assert frozen == [True]
        with on_demand.importing():
            pass
        assert frozen == [True]  # nothing came, so nothing is kept from the collector
    finally:
        sys.modules.pop("a_module_of_this_test")
        gc.enable()


def test_every_kernel_is_compiled_at_installation():
    """Else somebody waits for it who has a flaw that the pieces of the installation do not have."""
    listed = {name.split("-")[0] for name in (kernel_cache.folder() / COMPLETE).read_text().splitlines()}
    kernels = set()
    for found in pkgutil.walk_packages(core.__path__, f"{core.__name__}."):
        module = importlib.import_module(found.name)
        short = "__init__" if found.ispkg else found.name.rpartition(".")[2]
        for name, value in vars(module).items():
            made = value.made() if isinstance(value, _Made) else value
            if isinstance(made, Dispatcher) and made.__module__ == found.name and not inlined(made):
                kernels.add(f"{short}.{name}")
    assert len(kernels) > 150
    assert kernels - listed == set()


def inlined(made) -> bool:
    return bool(made.targetoptions.get("inline") == "always")


WARM_BAKE = """
import pathlib, sys, tempfile
from tests.shapes import torus
from inkwell_cast.core.formats import write_mesh
from inkwell_cast.cli import main
with tempfile.TemporaryDirectory() as folder:
    low, high = pathlib.Path(folder) / "ring_low.obj", pathlib.Path(folder) / "ring_high.ply"
    write_mesh(low, torus(12, 6)), write_mesh(high, torus(40, 20))
    main(["bake", str(low), str(high), "--out", folder, "--size", "64", "--progress", "none"])
print("numba" in sys.modules, "numba.np.arraymath" in sys.modules)
"""


def test_a_bake_whose_kernels_lie_on_disk_needs_no_compiler():
    done = subprocess.run([sys.executable, "-c", WARM_BAKE], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "True False"
