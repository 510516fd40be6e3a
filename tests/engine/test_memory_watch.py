import subprocess
import sys

import pytest

from inkwell_cast.core.base import free_memory
from inkwell_cast.engine.memory_watch import GONE, LOW, NO_ROOM, OWN, MemoryWatch


def watch(left, used=2 * OWN):
    ended = []
    made = MemoryWatch(lambda: left, lambda: used, ended.append)
    made.look()
    return made.short, ended


def test_work_is_asked_to_stop_before_the_machine_is_full_and_the_process_ends_before_another_does():
    assert watch(LOW + 1) == (False, [])
    assert watch(LOW - 1) == (True, [])
    assert watch(GONE - 1) == (True, [NO_ROOM])


def test_a_small_process_is_not_blamed_for_a_full_machine():
    assert watch(0, OWN - 1) == (False, [])


def test_a_new_job_starts_afresh():
    made = MemoryWatch(lambda: 0, lambda: 2 * OWN, lambda code: None)
    made.look()
    made.begin()
    assert not made.short


def test_a_container_s_limit_counts(tmp_path):
    for name, text in (("memory.max", "1000"), ("memory.current", "700"), ("memory.stat", "anon 1\ninactive_file 50")):
        (tmp_path / name).write_text(f"{text}\n")
    assert free_memory._left_in_group(tmp_path) == 350
    (tmp_path / "memory.max").write_text("max\n")
    assert free_memory._left_in_group(tmp_path) == free_memory.NO_LIMIT


LIMITED = """
import resource
from inkwell_cast.core.base.free_memory import free
from inkwell_cast.engine.memory_watch import limit_single_requests
import numpy as np
resource.setrlimit(resource.RLIMIT_{kind}, (6 << 30, 6 << 30))
assert 2 << 30 < free() < 6 << 30, free()
limit_single_requests()
try:
    np.ones(7 << 27)
except MemoryError:
    print("told")
"""


@pytest.mark.skipif(sys.platform != "linux", reason="limits of this kind are Linux's")
@pytest.mark.parametrize("kind", ["AS", "DATA"])
def test_a_limit_from_outside_is_respected(kind):
    done = subprocess.run([sys.executable, "-c", LIMITED.format(kind=kind)], capture_output=True, text=True)
    assert done.stdout == "told\n", done.stderr


MAPPED = """
import mmap, tempfile
import numpy as np
from inkwell_cast.engine.memory_watch import limit_single_requests
from inkwell_cast.core.base.system import anonymous
import os
limit_single_requests()
whole = os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
with tempfile.TemporaryFile() as file:  # with holes: it takes no room on the disk
    file.truncate(2 * whole)
    held = mmap.mmap(file.fileno(), 2 * whole)
    held[: 1 << 20] = b"x" * (1 << 20)
print(anonymous() < 1 << 30)
"""


@pytest.mark.skipif(sys.platform != "linux", reason="limits of this kind are Linux's")
def test_files_that_are_mapped_do_not_count():
    done = subprocess.run([sys.executable, "-c", MAPPED], capture_output=True, text=True)
    assert done.stdout == "True\n", done.stderr
