"""What the API takes and gives."""

from typing import Annotated, Any, Literal

from fastapi import Path
from pydantic import BaseModel, Field

from ...core.bake.manifest import SeenFacts
from ...core.checks import Finding
from ...core.settings.files import Role
from ...core.settings.recipe import Recipe
from ...store.bakes import BakeRecord
from ..services.pieces import PieceRows

MOST_ID = 2**63 - 1
Id = Annotated[int, Path(ge=1, le=MOST_ID)]


class Problem(BaseModel):
    """Why a request is refused, with what to do about it."""

    error: str


class TakenFile(BaseModel):
    """A mesh that was read, not part of a piece yet."""

    token: str
    name: str
    triangles: int
    objects: int
    uvs: bool


class FileOnDisk(BaseModel):
    path: str = Field(max_length=4000, description="Where the mesh lies on the machine of the server.")


class NewPiece(BaseModel):
    """A piece to make; files are tokens with the role of each, "" where names tell."""

    name: str = Field(max_length=200)
    files: dict[str, Role | Literal[""]] = Field(min_length=1)
    settings: Recipe = Recipe()


class PieceFile(BaseModel):
    id: int
    name: str
    triangles: int
    sha256: str


class Piece(BaseModel):
    """A piece; step numbers the state of its settings, bakes are ids, the newest first."""

    id: int
    name: str
    step: int
    files: list[PieceFile]
    bakes: list[int]

    @classmethod
    def of(cls, found: PieceRows) -> "Piece":
        piece, rows, baked = found
        files = [
            PieceFile(id=row.id, name=row.file_name, triangles=row.facts.triangles, sha256=row.sha256) for row in rows
        ]
        return cls(id=piece.id, name=piece.name, step=piece.step, files=files, bakes=[row.id for row in baked])


class SettingsState(BaseModel):
    """All settings of a piece, and the step that they are of; said is what happened to a change meanwhile."""

    step: int
    settings: Recipe
    said: list[str] = []


class Change(BaseModel):
    """A JSON patch (RFC 6902) of the settings as they were at a step, for another one joined with what came since."""

    step: int | None = Field(default=None, ge=0, le=MOST_ID)
    patch: list[dict[str, Any]] = Field(max_length=1000)


class Checked(BaseModel):
    """What a check found."""

    check: str
    severity: Literal["blocking", "warning", "note"]
    title: str
    part: str
    count: int
    what: str
    remedy: str

    @classmethod
    def of(cls, finding: Finding) -> "Checked":
        return cls(**{name: getattr(finding, name) for name in cls.model_fields})


class NewBake(BaseModel):
    """A bake to start: a quick small one, or one that first mends what settings can."""

    proof: bool = False
    mend: bool = False


class Bake(BaseModel):
    """A bake and how far it is; share is from 0 to 1, seen is there once it is done and a map of it holds normals."""

    id: int
    piece: int
    state: Literal["waiting", "running", "judging", "done", "failed", "cancelled", "interrupted"]
    stage: str
    share: float
    seconds_left: float | None
    message: str
    maps: list[str] = []
    seen: SeenFacts | None = None

    @classmethod
    def of(cls, row: BakeRecord, seconds_left: float | None) -> "Bake":
        manifest = row.manifest
        told = {
            "id": row.id,
            "piece": row.piece_id,
            "state": row.state,
            "stage": row.stage,
            "share": row.share,
            "seconds_left": seconds_left,
            "message": row.message,
            "maps": [*dict.fromkeys(entry.key for entry in manifest.maps)] if manifest else [],
            "seen": manifest.seen if manifest else None,
        }
        return cls.model_validate(told)


class Kept(BaseModel):
    """A mend that a flaw of a bake offers, to be kept among the settings; both count from 0, the best first."""

    flaw: int = Field(ge=0, le=MOST_ID)
    choice: int = Field(default=0, ge=0, le=MOST_ID)


class NewHandoff(BaseModel):
    """A handoff to write into a folder or a .zip of the server's machine; what becomes of one that is there."""

    place: str = Field(max_length=4000)
    existing: Literal["ask", "replace", "number"] = "ask"


class Handed(BaseModel):
    """Where a handoff lies, its files, and what became of those of others, in words."""

    place: str
    files: list[str]
    words: str
