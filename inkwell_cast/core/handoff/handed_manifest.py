"""The manifest of a handoff: what each of its files is, and the bake that they were made from."""

from pydantic import BaseModel, Field

from ..bake.manifest import Manifest
from ..settings.handoff import Handoff, Pack
from .whole_or_nothing import KIND

VERSION = 1


class HandedFile(BaseModel):
    """A file of a handoff; map is its key, pack what a packed picture holds, in words by channel."""

    file: str
    label: str
    sheet: str = ""
    map: str = ""
    space: str = ""
    bytes: int = 0
    sha256: str = ""
    pack: Pack | None = None


class HandedManifest(BaseModel):
    """manifest.json of a handoff: its files, and the manifest of the bake with their names."""

    kind: str = KIND
    version: int = VERSION
    piece: str
    receiver: str
    day: str = Field(description="Year-month-day.")
    handoff: Handoff
    files: list[HandedFile]
    bake: Manifest
