"""A piece as one portable file, `.icast`: a zip with JSON and meshes (docs/guide/piece-file.md).

`piece.json` names everything; `files/<SHA-256>` are meshes in the form of `mesh.binary_message` and the pictures of
bakes. Nothing else is read, no name in it is used as a path, every file must have the hash that it is named after, and
an archive that would unpack to far more than its own size is refused.
"""

import contextlib
import hashlib
import json
import math
import pathlib
import re
import shutil
import tempfile
import unicodedata
import zipfile
import zlib
from collections.abc import Callable
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, Field, ValidationError

from ..bake.manifest import Manifest
from ..base.atomic_files import whole
from ..base.errors import InputProblem
from ..maps.panorama import with_panorama
from ..mesh.binary_message import read_foreign, write_packed
from ..mesh.mesh import Mesh
from ..settings.recipe import Recipe

SUFFIX, CONTENTS = ".icast", "piece.json"
KIND, VERSION = "inkwell-cast piece", 1
MOST_ENTRIES, MOST_JSON = 20_000, 200_000_000
MOST_TIMES, ALWAYS_FINE = 200, 100_000_000  # how much larger contents may be than the archive, and bytes that may be
# what reading a damaged archive raises
DAMAGE = (zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, ValueError, EOFError)
ENTRY = re.compile(r"files/[0-9a-f]{64}")
Hash = Field(pattern="^[0-9a-f]{64}$")
Moment = Annotated[float, Field(ge=0, le=4_102_444_800, allow_inf_nan=False)]  # 1970 to 2100


def _printable(text: str) -> str:
    """Names are shown and become parts of file names: no control characters, no turned writing direction."""
    odd = next((c for c in text if unicodedata.category(c) in ("Cc", "Cf", "Cs", "Zl", "Zp")), None)
    if odd is not None:
        raise ValueError(f"holds the character U+{ord(odd):04X}, which no name has")
    return text


PrintableName = Annotated[str, AfterValidator(_printable)]


class MeshEntry(BaseModel):
    """A mesh of a piece: the name of the file that it came from, that file's hash, and its own."""

    file: PrintableName = Field(max_length=255, pattern=r"^[^/\\\x00]+$")
    sha256: str = Hash
    copy_: str = Field(alias="copy", pattern="^[0-9a-f]{64}$")

    model_config = {"populate_by_name": True}


class PictureEntry(BaseModel):
    sheet: PrintableName = Field(max_length=255)
    key: PrintableName = Field(max_length=255)
    sha256: str = Hash


class BakeEntry(BaseModel):
    """A finished bake; times are seconds since 1970."""

    name: PrintableName = Field(default="", max_length=80)
    proof: bool = False
    created: Moment
    started: Moment | None = None
    ended: Moment | None = None
    manifest: Manifest
    pictures: list[PictureEntry]
    current: bool = Field(default=False, description="Whether it was made of the meshes as they are in the file.")


class PieceFile(BaseModel):
    """What piece.json says."""

    kind: Literal["inkwell-cast piece"] = "inkwell-cast piece"
    version: Literal[1] = 1
    name: PrintableName = Field(min_length=1, max_length=200)
    recipe: Recipe
    meshes: list[MeshEntry] = Field(max_length=2000)
    bakes: list[BakeEntry] = Field(default_factory=list, max_length=2000)

    @property
    def hashes(self) -> set[str]:
        """Every file that it names."""
        return {m.copy_ for m in self.meshes} | {p.sha256 for bake in self.bakes for p in bake.pictures}


def write_piece(path: pathlib.Path, piece: PieceFile, place: Callable[[str], pathlib.Path]) -> None:
    """Write a piece; `place(hash)` is where a file of that content lies. The same piece gives the same bytes.

    The panorama of its light goes with it, unless that cannot be read: the piece must not be lost for it.
    """
    with contextlib.suppress(InputProblem):
        piece = piece.model_copy(update={"recipe": with_panorama(piece.recipe)})
    meshes = {mesh.copy_ for mesh in piece.meshes}
    with whole(path) as partial, zipfile.ZipFile(partial, "w") as archive:
        entry = _entry(CONTENTS, zipfile.ZIP_DEFLATED)
        archive.writestr(entry, piece.model_dump_json(by_alias=True, indent=1))
        for digest in sorted(piece.hashes):
            kind = zipfile.ZIP_DEFLATED if digest in meshes else zipfile.ZIP_STORED  # pictures are compressed already
            with (
                place(digest).open("rb") as source,
                archive.open(_entry(f"files/{digest}", kind), "w", force_zip64=True) as sink,
            ):
                shutil.copyfileobj(source, sink, 1 << 20)


def _entry(name: str, kind: int) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    entry.compress_type, entry.external_attr = kind, 0o644 << 16
    return entry


def write_meshes(path: pathlib.Path, name: str, recipe: Recipe, meshes: list[tuple[Mesh, str]]) -> None:
    """A piece of meshes and settings alone; each mesh with the hash of the file that it came from."""
    with tempfile.TemporaryDirectory(dir=path.parent, prefix=".") as folder:
        entries, places = list[MeshEntry](), dict[str, pathlib.Path]()
        for n, (mesh, digest) in enumerate(meshes):
            copy = pathlib.Path(folder) / str(n)
            write_packed(copy, mesh)
            with copy.open("rb") as file:
                sha256 = hashlib.file_digest(file, "sha256").hexdigest()
            entries.append(MeshEntry(file=mesh.name, sha256=digest, copy=sha256))
            places[sha256] = copy
        write_piece(path, PieceFile(name=name, recipe=recipe, meshes=entries), places.__getitem__)


def read_contents(path: pathlib.Path, name: str = "") -> PieceFile:
    """What a piece file says, once it is known to be harmless; `name` is what messages call it. Raises InputProblem."""
    name = name or path.name
    with _opened(path, name) as archive:
        return _contents(archive, name, path.stat().st_size)


def unpack_piece(path: pathlib.Path, folder: pathlib.Path, name: str = "") -> PieceFile:
    """Put the files of a piece into a folder, named by their hash. Raises InputProblem."""
    name = name or path.name
    with _opened(path, name) as archive:
        piece = _contents(archive, name, path.stat().st_size)
        room = shutil.disk_usage(folder).free
        wanted = sum(entry.file_size for entry in archive.infolist())
        if wanted > room:
            raise InputProblem(
                name, f"Its contents take {wanted / 1e9:.1f} GB, and {room / 1e9:.1f} GB are free.", "Free some space."
            )
        for digest in sorted(piece.hashes):
            _extract(archive, digest, folder / digest, name)
    return piece


def read_piece(path: str | pathlib.Path) -> tuple[PieceFile, list[Mesh]]:
    """A piece and its meshes, checked, in memory. Raises InputProblem."""
    path = pathlib.Path(path)
    with tempfile.TemporaryDirectory() as folder:
        piece = unpack_piece(path, pathlib.Path(folder))
        meshes = [read_foreign((pathlib.Path(folder) / m.copy_).read_bytes(), m.file) for m in piece.meshes]
    return piece, meshes


def _opened(path: pathlib.Path, name: str) -> zipfile.ZipFile:
    try:
        return zipfile.ZipFile(path)
    except OSError as error:
        raise InputProblem(name, f"It cannot be read ({error.strerror}).", "Check its path and rights.") from error
    except (zipfile.BadZipFile, ValueError, NotImplementedError) as error:
        raise InputProblem(
            name,
            f"It is no piece file, or it is damaged ({error}).",
            "Copy it again, or save it again where it was made.",
        ) from None


def _contents(archive: zipfile.ZipFile, name: str, size: int) -> PieceFile:
    entries = archive.infolist()
    odd = next((e.filename for e in entries if e.filename != CONTENTS and not ENTRY.fullmatch(e.filename)), None)
    if odd is not None:
        raise InputProblem(name, f"It holds “{odd[:80]}”, which no piece file has.", "Do not open it; ask who made it.")
    whole_size = sum(entry.file_size for entry in entries)
    if len(entries) > MOST_ENTRIES or whole_size > max(size * MOST_TIMES, ALWAYS_FINE):
        raise InputProblem(
            name,
            f"It would unpack {len(entries):,} files and {whole_size / 1e9:.1f} GB from {size / 1e6:.1f} MB.",
            "Do not open it; ask who made it.",
        )
    damaged = "Copy it again, or save it again where it was made."
    try:
        entry = archive.getinfo(CONTENTS)
        if entry.file_size > MOST_JSON:
            raise InputProblem(name, f"Its {CONTENTS} has {entry.file_size:,} bytes.", damaged)
        given: Any = json.loads(archive.read(entry))
    except KeyError:
        raise InputProblem(name, f"It has no {CONTENTS}.", damaged) from None
    except (*DAMAGE, OSError) as error:
        raise InputProblem(name, f"Its {CONTENTS} cannot be read ({error}).", damaged) from None
    if not isinstance(given, dict) or given.get("kind") != KIND:
        raise InputProblem(name, "It is no piece file.", "Choose a file that Inkwell Cast saved as .icast.")
    if given.get("version") != VERSION:
        raise InputProblem(
            name,
            f"It is a piece of version {given.get('version')!r}; this program knows {VERSION}.",
            "Install the newer program.",
        )
    try:
        piece = PieceFile.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        place = ".".join(str(part) for part in first["loc"])
        raise InputProblem(name, f"Its {place} cannot be used: {first['msg'].lower()}.", damaged) from None
    there = {entry.filename.rpartition("/")[2] for entry in entries}
    gone = next((m.file for m in piece.meshes if m.copy_ not in there), None)
    if gone is None and not piece.hashes <= there:
        gone = "a picture of a bake"
    if gone is not None:
        raise InputProblem(name, f"It lacks {gone}.", damaged)
    for bake in piece.bakes:
        odd = odd_entry(bake.manifest)
        if odd:
            raise InputProblem(name, f"A bake in it cannot be used: {odd}.", damaged)
    doubles = [m.file for m in piece.meshes]
    if len(set(doubles)) < len(doubles):
        raise InputProblem(name, "Two of its meshes have one name.", damaged)
    return piece


def odd_entry(manifest: Manifest) -> str:
    """What in a manifest from elsewhere could not have been written by a bake; "" for nothing.

    Its file names become names in archives, and its facts are read by the page.
    """
    names = [(m.file, "file") for m in manifest.maps] + [(m.preview or "x", "preview") for m in manifest.maps]
    names += [(s.heat or "x", "picture") for s in manifest.sheets]
    for text, what in names:
        if (
            not text
            or pathlib.PurePosixPath(text.replace("\\", "/")).name != text
            or len(text) > 255
            or _odd_text(text)
        ):
            return f"“{text[:80]}” is no name of a {what}"
    if not manifest.maps or not manifest.sheets:
        return "it has no maps"
    if {m.sheet for m in manifest.maps} - {s.name for s in manifest.sheets}:
        return "a map lies on a sheet that is not there"
    for entry in manifest.maps:
        for fact, value in entry.facts.items():
            if not _usable_fact(fact, value):
                return f"the {fact} of {entry.key} is {str(value)[:60]!r}"
    return ""


def _odd_text(text: str) -> bool:
    try:
        _printable(text)
    except ValueError:
        return True
    return False


def _usable_fact(fact: str, value: Any) -> bool:
    if fact == "legend":
        return isinstance(value, dict) and all(
            len(name) <= 400 and isinstance(color, str) and re.fullmatch("#[0-9a-fA-F]{6}", color)
            for name, color in value.items()
        )
    if fact in ("distance_before", "distance_after"):
        return isinstance(value, list | tuple) and len(value) == 2 and all(map(_is_number, value))
    return _is_number(value) or value is None or (isinstance(value, str) and len(value) <= 400) or _numbers(value)


def _numbers(value: Any) -> bool:
    return isinstance(value, list | tuple) and len(value) <= 16 and all(map(_is_number, value))


def _is_number(value: Any) -> bool:
    return isinstance(value, int | float) and math.isfinite(value)


def _extract(archive: zipfile.ZipFile, digest: str, target: pathlib.Path, name: str) -> None:
    hasher = hashlib.sha256()
    try:
        with archive.open(f"files/{digest}") as source, target.open("wb") as sink:
            while block := source.read(1 << 20):
                hasher.update(block)
                sink.write(block)
    except DAMAGE as error:
        raise InputProblem(name, f"A file in it is damaged ({error}).", "Copy it again.") from None
    except OSError as error:
        raise InputProblem(name, f"It cannot be unpacked ({error.strerror}).", "Free some space.") from error
    if hasher.hexdigest() != digest:
        raise InputProblem(name, f"The contents of {digest[:12]}… are not what they should be.", "Copy it again.")
