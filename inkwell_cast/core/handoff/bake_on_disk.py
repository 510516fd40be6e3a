"""A bake as its files lie on disk, which is what a handoff is made from."""

import pathlib
from collections.abc import Callable
from dataclasses import dataclass, field

from ..bake.manifest import Manifest, MapFile, SheetFacts
from ..base.errors import InputProblem

FILE = ".file"  # after the key of a map: the file itself, beside the picture that shows it
SIDES = "sides."  # before the name of a lit picture from four sides


@dataclass(frozen=True, slots=True)
class Finished:
    """A piece's name, the manifest of a bake, and by sheet and key its files and the PNGs that show them.

    sides are the lit pictures of `manifest.sides`, by name.
    """

    piece: str
    manifest: Manifest
    files: dict[tuple[str, str], pathlib.Path]
    shown: dict[tuple[str, str], pathlib.Path]
    sides: dict[str, pathlib.Path] = field(default_factory=dict)

    @classmethod
    def of_folder(
        cls, piece: str, manifest: Manifest, folder: str | pathlib.Path, previews: str | pathlib.Path
    ) -> "Finished":
        """A bake that was saved into `folder`, with PNGs of its other formats in `previews`."""
        folder, previews = pathlib.Path(folder), pathlib.Path(previews)
        files = {(m.sheet, m.key): folder / m.file for m in manifest.maps}
        shown = {(m.sheet, m.key): previews / m.preview if m.preview else folder / m.file for m in manifest.maps}
        sides = {name: previews / file for name, file in manifest.sides.items()}
        return cls(piece, manifest, files, shown, sides)

    @classmethod
    def of_pictures(
        cls, piece: str, manifest: Manifest, picture: Callable[[str, str], pathlib.Path | None]
    ) -> "Finished":
        """A bake whose files are kept one by one: `picture(sheet, key)` gives that which shows a map, with ".file" the
        map itself where that is another, and with "sides." before its name a lit picture.

        Raises InputProblem for a map that is gone.
        """
        files, shown = {}, {}
        for entry in manifest.maps:
            seen, file = (picture(entry.sheet, key) for key in (entry.key, f"{entry.key}{FILE}"))
            if seen is None or not seen.is_file():
                raise InputProblem(piece, f"The {entry.label.lower()} of this bake is gone.", "Bake again.")
            files[entry.sheet, entry.key], shown[entry.sheet, entry.key] = file or seen, seen
        lit = {name: picture("", f"{SIDES}{name}") for name in manifest.sides}
        sides = {name: path for name, path in lit.items() if path and path.is_file()}
        return cls(piece, manifest, files, shown, sides)

    def sheet(self, name: str) -> SheetFacts:
        return next(sheet for sheet in self.manifest.sheets if sheet.name == name)

    def picture(self, sheet: str, *keys: str) -> pathlib.Path | None:
        """The PNG of the first of some maps that a sheet has."""
        return next((self.shown[sheet, key] for key in keys if (sheet, key) in self.shown), None)

    def map(self, sheet: str, key: str) -> MapFile | None:
        return next((m for m in self.manifest.maps if (m.sheet, m.key) == (sheet, key)), None)
