"""Options that many commands take: meshes, the cage, any setting."""

import argparse
import pathlib
from typing import Any

from ..core.settings.reach import Reach
from .bar import add_progress


def add_meshes(command: argparse.ArgumentParser) -> None:
    path = pathlib.Path
    command.add_argument(
        "files",
        nargs="*",
        type=path,
        metavar="FILE",
        help="meshes whose parts say their role by name; or one .icast, with its settings",
    )
    command.add_argument("--low", nargs="+", default=[], type=path, metavar="FILE", help="meshes to bake onto")
    command.add_argument("--high", nargs="+", default=[], type=path, metavar="FILE", help="sculpts they receive from")
    command.add_argument(
        "--together", action="store_true", help="every low receives from every high, whatever the names"
    )
    command.add_argument(
        "--alone", action="store_true", help="bake lows that have no high from themselves, with the maps that fit"
    )
    add_progress(command)


def add_cage(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add(
        "--reach",
        nargs=2,
        type=float,
        metavar=("OUT", "IN"),
        help="outward and inward reach in scene units; no other length changes",
    )
    add("--cage", nargs="+", default=[], type=pathlib.Path, metavar="FILE", help="cage meshes; their names say of what")
    add("--fit", action="store_true", help="fit the cage to the sculpt: it starts rays just beyond it, smoothly")
    add("--clearance", type=float, metavar="D", help=f"{reason(Reach, 'clearance')} In the unit of the reach.")
    add(
        "--straighten",
        metavar="flat|PICTURE",
        help="turn rays to the faces that they leave from: on flat faces, or where a grey picture laid by UV is white",
    )
    add("--directions", choices=("averaged", "split"), help=reason(Reach, "directions"))
    _add_set(command)


def _add_set(command: argparse.ArgumentParser) -> None:
    command.add_argument(
        "--set",
        nargs="+",
        action="extend",
        default=[],
        metavar="NAME=VALUE",
        help="any setting by name; see `inkwell-cast settings`",
    )
    command.add_argument(
        "--recipe", type=pathlib.Path, metavar="FILE", help="JSON with settings; options given here win over it"
    )


def add_settings(command: argparse.ArgumentParser) -> None:
    """Settings alone, of a piece file or a recipe."""
    command.add_argument("files", nargs="*", type=pathlib.Path, metavar="FILE.icast", help="a piece with its settings")
    _add_set(command)
    command.set_defaults(
        low=[],
        high=[],
        together=False,
        alone=False,
        reach=None,
        fit=False,
        clearance=None,
        directions=None,
        straighten=None,
    )


def reason(model: Any, field: str, bare: bool = False) -> str:
    info = model.model_fields[field]
    if bare:
        return str(info.description).replace("%", "%%")
    shown = ",".join(info.default) if isinstance(info.default, list) else info.default
    return f"{info.description} Default {shown}.".replace("%", "%%")
