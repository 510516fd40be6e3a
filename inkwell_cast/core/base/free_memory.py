"""How much memory there is for this process, by the system and by limits on it."""

import os
import pathlib

NO_LIMIT = 1 << 50


def free() -> int:
    """Bytes that this process could get now: what the system, its group and its own limits leave."""
    return min(_left_in_machine(), _left_in_group(), *_left_by_limits())


def anonymous() -> int:
    """Bytes of this process that lie in memory and in no file; 0 where the system does not say."""
    try:
        lines = pathlib.Path("/proc/self/status").read_text().splitlines()
        return int(next(line.split()[1] for line in lines if line.startswith("RssAnon"))) * 1024
    except (OSError, StopIteration, ValueError):
        return 0


def _left_in_machine() -> int:
    """What the system could give, or a guess of half of all where it does not say."""
    try:
        lines = pathlib.Path("/proc/meminfo").read_text().splitlines()
        return int(next(line.split()[1] for line in lines if line.startswith("MemAvailable"))) * 1024
    except (OSError, StopIteration, ValueError):
        if hasattr(os, "sysconf") and "SC_PHYS_PAGES" in os.sysconf_names:
            return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 2
        return NO_LIMIT


def _left_in_group(root: pathlib.Path = pathlib.Path("/sys/fs/cgroup")) -> int:
    """What a container's limit leaves (control groups, version 2); files in its page cache can be given back."""
    try:
        most = int((root / "memory.max").read_text())
        cached = dict(line.split() for line in (root / "memory.stat").read_text().splitlines())
        return most - int((root / "memory.current").read_text()) + int(cached.get("inactive_file", 0))
    except (OSError, ValueError):
        return NO_LIMIT  # no such group, or "max"


def _left_by_limits() -> list[int]:
    """What limits on this process leave of its address space and of its data (`ulimit`, `prlimit`)."""
    try:
        import resource

        pages = [int(n) * os.sysconf("SC_PAGE_SIZE") for n in pathlib.Path("/proc/self/statm").read_text().split()]
    except (ImportError, OSError, ValueError):
        return [NO_LIMIT]
    used = {resource.RLIMIT_AS: pages[0], resource.RLIMIT_DATA: pages[5]}
    soft = {kind: resource.getrlimit(kind)[0] for kind in used}
    return [
        max(soft[kind] - taken, 0) if soft[kind] != resource.RLIM_INFINITY else NO_LIMIT for kind, taken in used.items()
    ]
