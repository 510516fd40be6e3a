"""What a double click starts: a file on the desktop that opens the program in the browser."""

import argparse
import os
import pathlib
import shlex
import sys

NAME = "Inkwell Cast"


def written(folder: pathlib.Path, system: str, python: str) -> pathlib.Path:
    """Write the file for a system ("linux", "darwin" or "win32") and return its path. Raises OSError."""
    if system == "win32":
        path = folder / f"{NAME}.cmd"
        path.write_bytes(f'@echo off\r\n"{python}" -m inkwell_cast serve --open\r\n'.encode())
        return path
    if system == "darwin":
        path = folder / f"{NAME}.command"
        path.write_text(f"#!/bin/sh\nexec {shlex.quote(python)} -m inkwell_cast serve --open\n")
    else:
        path = folder / "inkwell-cast.desktop"
        quoted = '"' + python.replace("\\", "\\\\").replace('"', '\\"') + '"'  # as the Desktop Entry specification asks
        path.write_text(
            f"[Desktop Entry]\nType=Application\nName={NAME}\nComment=Bakes sculpts onto low-poly meshes\n"
            f"Exec={quoted} -m inkwell_cast serve --open\nTerminal=true\nCategories=Graphics;3DGraphics;\n"
        )
    os.chmod(path, 0o755)
    return path


def desktop() -> pathlib.Path:
    """The user's desktop folder, or the home folder where there is none."""
    home = pathlib.Path.home()
    return home / "Desktop" if (home / "Desktop").is_dir() else home


def run(options: argparse.Namespace) -> int:
    """The command `shortcut`."""
    folder: pathlib.Path = options.into or desktop()
    try:
        path = written(folder, sys.platform, sys.executable)
    except OSError as error:
        print(f"inkwell-cast: {folder}: No shortcut can be written ({error.strerror}). Name another folder.")
        return 1
    print(f"A double click on {path} opens {NAME}.")
    return 0
