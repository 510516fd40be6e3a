import os
import pathlib
import subprocess
import sys
import threading
import time

import pytest

from inkwell_cast.core.base import system
from inkwell_cast.core.base.free_memory import free


def without(monkeypatch, *names):
    """Take away modules that a system may lack."""
    there = system.part
    monkeypatch.setattr(system, "part", lambda name: None if name in names else there(name))


def without_proc(monkeypatch):
    read = pathlib.Path.read_text

    def refused(self, *given, **options):
        if str(self).startswith(("/proc", "/sys")):
            raise FileNotFoundError(2, "no such file", str(self))
        return read(self, *given, **options)

    monkeypatch.setattr(pathlib.Path, "read_text", refused)


def test_memory_is_known_without_proc_and_without_limits(monkeypatch):
    before, own = free(), system.anonymous()
    without_proc(monkeypatch)
    without(monkeypatch, "resource")
    assert free() == pytest.approx(before, rel=0.3)
    assert 0.2 * own < system.anonymous() < 20 * own + (1 << 30)
    assert system.left_by_limits() == [system.NO_LIMIT]
    system.limit_data(1 << 60)  # does nothing, and says nothing


def test_a_lock_keeps_another_program_out_or_lets_it_in_where_there_are_no_locks(tmp_path, monkeypatch):
    with (tmp_path / "lock").open("ab") as one, (tmp_path / "lock").open("ab") as other:
        system.hold_alone(one)
        with pytest.raises(OSError, match="unavailable"):
            system.hold_alone(other)
        without(monkeypatch, "fcntl", "msvcrt")
        system.hold_alone(other)


def test_a_lock_of_windows_is_taken_where_that_is_what_there_is(tmp_path, monkeypatch):
    class Msvcrt:
        LK_NBLCK, held = 3, []

        @classmethod
        def locking(cls, number, mode, size):
            if cls.held:
                raise OSError(36, "deadlock avoided")
            cls.held.append((mode, size))

    monkeypatch.setattr(system, "part", lambda name: Msvcrt if name == "msvcrt" else None)
    with (tmp_path / "lock").open("ab") as file:
        system.hold_alone(file)
        with pytest.raises(OSError, match="deadlock"):
            system.hold_alone(file)
    assert Msvcrt.held == [(3, 1)]


CHILD = """
import sys, time, subprocess
from inkwell_cast.core.base import system
if {bare}:
    sys.platform = "darwin"  # no prctl: by looking
system.LOOK_EVERY = 0.05
system.end_with_parent()
print("ready", flush=True)
time.sleep(60)
"""
PARENT = """
import subprocess, sys
child = subprocess.Popen([sys.executable, "-c", sys.argv[1]], stdout=subprocess.PIPE, text=True)
child.stdout.readline()
print(child.pid, flush=True)
"""


@pytest.mark.parametrize("bare", [False, True])
def test_a_process_ends_with_its_parent_with_and_without_the_system_s_help(bare):
    code = CHILD.format(bare=bare)
    done = subprocess.run([sys.executable, "-c", PARENT, code], capture_output=True, text=True, check=True)
    child = int(done.stdout)
    for _ in range(200):
        try:
            os.kill(child, 0)
        except ProcessLookupError:
            return
        if "State:\tZ" in pathlib.Path(f"/proc/{child}/status").read_text():
            return
        time.sleep(0.05)
    os.kill(child, 9)
    pytest.fail("it outlived its parent")


def test_a_file_that_is_held_for_a_moment_is_replaced_after_it(tmp_path, monkeypatch):
    (tmp_path / "new").write_text("new")
    (tmp_path / "old").write_text("old")
    held, replace = threading.Event(), os.replace

    def refusing(source, target):
        if not held.is_set():
            held.set()
            raise PermissionError(13, "in use")
        replace(source, target)

    monkeypatch.setattr(os, "replace", refusing)
    system.put_in_place(tmp_path / "new", tmp_path / "old")
    assert (tmp_path / "old").read_text() == "new"
    monkeypatch.setattr(system, "PATIENCE", 0.0)
    held.clear()
    (tmp_path / "new").write_text("newer")
    with pytest.raises(PermissionError):
        system.put_in_place(tmp_path / "new", tmp_path / "old")


def test_priority_is_lowered_by_whatever_the_system_has(monkeypatch):
    asked = []
    monkeypatch.setattr(os, "nice", asked.append)
    system.yield_to_others(0)
    system.yield_to_others(7)
    assert asked == [7]
    monkeypatch.delattr(os, "nice")
    monkeypatch.setattr(system.psutil, "BELOW_NORMAL_PRIORITY_CLASS", 16384, raising=False)
    monkeypatch.setattr(system.psutil.Process, "nice", lambda self, value: asked.append(value))
    system.yield_to_others(7)
    assert asked == [7, 16384]
