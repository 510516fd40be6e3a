"""A file system that refuses what Windows refuses, for tests on Linux.

Nothing that this process or a child of it has open or mapped is replaced, moved or deleted; no file gets a name that
is reserved there, or one that differs from another's by case alone.
"""

import os
import pathlib
import re
import shutil

import psutil

RESERVED = re.compile(r"^(con|prn|aux|nul|com\d|lpt\d)(\..*)?$|[<>:\"|?*]|[. ]$", re.IGNORECASE)


def in_use(path):
    """Whether a file, or anything in a folder, is open or mapped."""
    wanted = os.path.realpath(path)
    me = psutil.Process()
    for process in (me, *me.children(recursive=True)):
        root = pathlib.Path(f"/proc/{process.pid}")
        try:
            held = [os.readlink(fd) for fd in (root / "fd").iterdir() if fd.is_symlink()]
            held += [line.split(None, 5)[5] for line in (root / "maps").read_text().splitlines() if line.count("/")]
        except OSError:
            continue  # it has just ended
        if any(name == wanted or name.startswith(wanted + os.sep) for name in held):
            return True
    return False


def refuse(path, what):
    raise PermissionError(13, f"{what}: the file is in use by a program", str(path))


def install(monkeypatch):
    """Put it in the place of the system's own calls until the test ends."""
    replace, rename, unlink, rmdir = os.replace, os.rename, os.unlink, os.rmdir

    def check_name(path):
        name, folder = os.path.basename(os.fspath(path)), os.path.dirname(os.path.abspath(path))
        if RESERVED.search(name):
            raise OSError(22, "no such name can be on Windows", str(path))
        twins = [n for n in os.listdir(folder) if n.casefold() == name.casefold() and n != name]
        if twins:
            raise OSError(22, f"it differs from {twins[0]} by case alone", str(path))

    def moved(call, over):
        def move(source, target, **options):
            check_name(target)
            if in_use(source) or (os.path.exists(target) and (in_use(target) or not over)):
                refuse(target, "move")
            return call(source, target, **options)

        return move

    def deleted(call):
        def delete(path, **options):
            if not options.get("dir_fd") and in_use(path):
                refuse(path, "delete")
            return call(path, **options)

        return delete

    monkeypatch.setattr(os, "replace", moved(replace, True))
    monkeypatch.setattr(os, "rename", moved(rename, False))
    monkeypatch.setattr(os, "unlink", deleted(unlink))
    monkeypatch.setattr(os, "remove", deleted(unlink))
    monkeypatch.setattr(os, "rmdir", deleted(rmdir))
    monkeypatch.setattr(shutil, "_use_fd_functions", False)
