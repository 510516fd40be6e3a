"""Which files beside a mesh belong to it, told without reading the mesh: materials, buffers, textures."""

import json
import pathlib
import re
from urllib.parse import unquote

MOST_TEXT = 64 << 20  # bytes that are searched for names
LIBRARY = re.compile(rb"^[ \t]*mtllib[ \t]+([^\r\n]+)", re.MULTILINE)
PICTURE = re.compile(rb"^[ \t]*map_K[de][ \t]+([^\r\n]+)", re.MULTILINE)


def companions_of(path: pathlib.Path) -> list[pathlib.Path]:
    """Files that lie beside a mesh file and that it names; none for files that hold all themselves."""
    kind = path.suffix.lower()
    names = _of_obj(path) if kind == ".obj" else _of_gltf(path) if kind == ".gltf" else []
    beside = [path.parent / pathlib.PurePosixPath(name.replace("\\", "/")).name for name in names if name]
    return [file for file in dict.fromkeys(beside) if file.is_file() and file != path]


def _of_obj(path: pathlib.Path) -> list[str]:
    names = list[str]()
    for match in LIBRARY.findall(_head(path)):
        name = match.decode("utf-8", "replace").strip()
        library = path.parent / pathlib.PurePosixPath(name.replace("\\", "/")).name
        names.append(name)
        names += [picture_in(text.decode("utf-8", "replace")) for text in PICTURE.findall(_head(library))]
    return names


def picture_in(text: str) -> str:
    """The name of the picture in what follows map_Kd or map_Ke; options before it are passed over."""
    text = text.strip()
    return text if not text or ("." in text and not text.startswith("-")) else text.split()[-1]


def _of_gltf(path: pathlib.Path) -> list[str]:
    try:
        document = json.loads(path.read_bytes())
        given = [entry.get("uri", "") for key in ("buffers", "images") for entry in document.get(key, [])]
    except (OSError, ValueError, AttributeError, TypeError, RecursionError):
        return []
    return [unquote(uri) for uri in given if isinstance(uri, str) and not uri.startswith("data:")]


def _head(path: pathlib.Path) -> bytes:
    if not path.is_file():  # nor can it be one whose name no file can have
        return b""
    try:
        with path.open("rb") as file:
            return file.read(MOST_TEXT)
    except OSError:
        return b""
