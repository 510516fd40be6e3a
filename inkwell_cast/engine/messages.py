"""What the server and its baking process say to each other."""

from dataclasses import dataclass, field
from typing import Any

from ..core.manifest import Manifest
from ..core.probe import Probe
from ..core.recipe import Recipe


@dataclass(frozen=True, slots=True)
class Source:
    """A mesh file in the store: where it lies, what it is called and what it is for."""

    path: str
    name: str
    sha256: str
    role: str


@dataclass(frozen=True, slots=True)
class Load:
    """Read a file, refuse it if it is unusable, and write the form that the views draw to `view`."""

    path: str
    name: str
    view: str


@dataclass(frozen=True, slots=True)
class Loaded:
    triangles: int
    vertices: int
    objects: int
    materials: int
    diagonal: float
    has_uvs: bool


@dataclass(frozen=True, slots=True)
class BakeInto:
    """Bake into an empty folder."""

    recipe: Recipe
    sources: list[Source]
    folder: str


@dataclass(frozen=True, slots=True)
class ProbeAt:
    """Trace the ray of one texel again."""

    recipe: Recipe
    sources: list[Source]
    x: int
    y: int


Job = Load | BakeInto | ProbeAt
Result = Loaded | Manifest | Probe | None


@dataclass(frozen=True, slots=True)
class Told:
    """Progress: the stage and the share of the whole, 0 to 1."""

    stage: str
    share: float


@dataclass(frozen=True, slots=True)
class Done:
    result: Any


@dataclass(frozen=True, slots=True)
class Failed:
    """`kind` is "input" for something the user can mend, "cancelled", "memory" or "fault"."""

    kind: str
    message: str
    detail: str = field(default="")
