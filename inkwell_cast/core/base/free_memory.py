"""How much memory there is for this process, by the system and by limits on it."""

import pathlib

from .system import NO_LIMIT, left_by_limits, left_in_machine


def free() -> int:
    """Bytes that this process could get now: what the system, its group and its own limits leave."""
    return min(left_in_machine(), _left_in_group(), *left_by_limits())


def _left_in_group(root: pathlib.Path = pathlib.Path("/sys/fs/cgroup")) -> int:
    """What a container's limit leaves (control groups, version 2); files in its page cache can be given back."""
    try:
        most = int((root / "memory.max").read_text())
        cached = dict(line.split() for line in (root / "memory.stat").read_text().splitlines())
        return most - int((root / "memory.current").read_text()) + int(cached.get("inactive_file", 0))
    except (OSError, ValueError):
        return NO_LIMIT  # no such group, or "max"
