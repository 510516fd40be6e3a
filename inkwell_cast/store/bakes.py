"""The tables of bakes, finished and not, and of the pictures that came out of them.

What lists show of a bake is a light row; its recipe and manifest lie in a table of their own and are read one by one.
"""

import json
import sqlite3
import time
from dataclasses import dataclass, fields

from pydantic import BaseModel

from ..core.bake.manifest import Manifest
from ..core.settings.mends import Mend
from ..core.settings.other_versions import as_far_as_known
from ..core.settings.recipe import Recipe
from .undo import recipe_in


class BakeSummary(BaseModel):
    """What a list says of a bake; the rest is empty until it is done."""

    width: int
    height: int
    samples: int
    sheets: int = 1
    first_map: str = ""
    first_sheet: str = ""
    likeness: float | None = None
    flaws: int | None = None
    missed_texels: int = 0
    beyond: int = 0
    brought: bool = False

    @classmethod
    def of(cls, recipe: Recipe, manifest: Manifest | None) -> "BakeSummary":
        if manifest is None:
            return cls(width=recipe.sheet.width, height=recipe.sheet.height, samples=recipe.sheet.samples)
        first, sheet = next(iter(manifest.maps), None), next(iter(manifest.sheets), None)
        return cls(
            width=sheet.width if sheet else recipe.sheet.width,
            height=sheet.height if sheet else recipe.sheet.height,
            samples=recipe.sheet.samples,
            sheets=len(manifest.sheets),
            first_map=first.key if first else "",
            first_sheet=first.sheet if first else "",
            likeness=manifest.seen.bake.mean if manifest.seen else None,
            flaws=None if manifest.flaws is None else manifest.number_of_flaws,
            missed_texels=manifest.missed_texels,
            beyond=len(manifest.beyond),
            brought=bool(manifest.brought),
        )


@dataclass(frozen=True, slots=True)
class BakeRow:
    """A bake as lists show it.

    `live` is the proof that is renewed with its piece, and goes with its next renewal unless it is kept; `tries` says
    whether it tries out a mend beyond the settings of its piece.
    """

    id: int
    piece_id: int
    state: str
    meshes: str
    stage: str
    share: float
    message: str
    created: float
    started: float | None
    ended: float | None
    name: str
    proof: bool
    live: bool
    tries: bool
    summary: BakeSummary

    @property
    def open(self) -> bool:
        return self.state in ("waiting", "running", "judging")

    @property
    def has_maps(self) -> bool:
        """Whether it can be looked at and handed off; while it is being judged it has no figures yet."""
        return self.state in ("done", "judging")

    @property
    def seconds(self) -> float | None:
        return self.ended - self.started if self.ended and self.started else None


@dataclass(frozen=True, slots=True)
class BakeRecord(BakeRow):
    """A bake with its recipe, its manifest once it is done, and the mend that it tries out."""

    recipe: Recipe
    manifest: Manifest | None
    trial: Mend | None


_LIGHT = (
    "id, piece_id, iif(judging, 'judging', state) AS state, meshes, stage, share, message, created, started, ended, "
    "name, proof, live, trial != '' AS tries, summary"
)

NOT_JUDGED = "The program ended while this bake was judged; its maps are whole."
_THERE = "live < 2"  # not a live proof in whose place another stands


def _row(row: sqlite3.Row) -> BakeRow:
    values = {f.name: row[f.name] for f in fields(BakeRow)}
    flags = {"proof": bool(row["proof"]), "live": row["live"] == 1, "tries": bool(row["tries"])}
    return BakeRow(**values | flags | {"summary": BakeSummary.model_validate_json(row["summary"])})


def _record(row: sqlite3.Row) -> BakeRecord:
    light = _row(row)
    return BakeRecord(
        **{f.name: getattr(light, f.name) for f in fields(BakeRow)},
        recipe=recipe_in(row["recipe"])[0],
        manifest=as_far_as_known(Manifest, json.loads(row["manifest"]))[0] if row["manifest"] else None,
        trial=Mend.model_validate_json(row["trial"]) if row["trial"] else None,
    )


def add(
    db: sqlite3.Connection, piece_id: int, recipe: Recipe, meshes: str, proof: bool = False, trial: Mend | None = None
) -> int:
    """A bake that waits; `meshes` is the state of the piece's meshes it will use (see `meshes_key`)."""
    cursor = db.execute(
        "INSERT INTO bake (piece_id, state, meshes, created, proof, trial, summary) "
        "VALUES (?, 'waiting', ?, ?, ?, ?, ?)",
        (
            piece_id,
            meshes,
            time.time(),
            proof,
            trial.model_dump_json() if trial else "",
            BakeSummary.of(recipe, None).model_dump_json(),
        ),
    )
    bake_id = int(cursor.lastrowid or 0)
    db.execute("INSERT INTO bake_contents (bake_id, recipe) VALUES (?, ?)", (bake_id, recipe.model_dump_json()))
    return bake_id


def passed_live(db: sqlite3.Connection, piece_id: int) -> list[int]:
    """The live proof of a piece in whose place another stands: pages may still fetch its pictures."""
    return [int(row["id"]) for row in db.execute("SELECT id FROM bake WHERE piece_id = ? AND live = 2", (piece_id,))]


def put_live(
    db: sqlite3.Connection,
    piece_id: int,
    meshes: str,
    manifest: Manifest,
    pictures: dict[tuple[str, str], str],
    seconds: float,
    rest: float,
) -> int:
    """The proof of a piece as it is now, in the place of the live one before.

    That one is kept where it stood for `rest` seconds, else removed with the next. `seconds` is how long it took.
    """
    db.execute("DELETE FROM bake WHERE piece_id = ? AND live = 2", (piece_id,))
    db.execute(
        "UPDATE bake SET live = iif(ended <= ?, 0, 2) WHERE piece_id = ? AND live = 1", (time.time() - rest, piece_id)
    )
    bake_id = add(db, piece_id, manifest.recipe, meshes, proof=True)
    finish(db, bake_id, manifest, pictures)
    took(db, bake_id, seconds)
    db.execute("UPDATE bake SET live = 1 WHERE id = ?", (bake_id,))
    return bake_id


def keep(db: sqlite3.Connection, bake_id: int) -> None:
    """A live proof that is not to go with its next renewal."""
    db.execute("UPDATE bake SET live = 0 WHERE id = ?", (bake_id,))


def get(db: sqlite3.Connection, bake_id: int) -> BakeRecord | None:
    row = db.execute(
        f"SELECT {_LIGHT}, trial, recipe, manifest FROM bake JOIN bake_contents ON bake_id = id "
        "WHERE id = ? AND deleted IS NULL",
        (bake_id,),
    ).fetchone()
    return _record(row) if row else None


def row_of(db: sqlite3.Connection, bake_id: int) -> BakeRow | None:
    row = db.execute(f"SELECT {_LIGHT} FROM bake WHERE id = ? AND deleted IS NULL", (bake_id,)).fetchone()
    return _row(row) if row else None


def of_piece(db: sqlite3.Connection, piece_id: int, most: int = -1) -> list[BakeRow]:
    """The newest bakes of a piece, newest first; all by default."""
    rows = db.execute(
        f"SELECT {_LIGHT} FROM bake WHERE piece_id = ? AND deleted IS NULL AND {_THERE} ORDER BY id DESC LIMIT ?",
        (piece_id, most),
    )
    return [_row(row) for row in rows]


def count_done(db: sqlite3.Connection, piece_id: int) -> int:
    row = db.execute(
        f"SELECT count(*) FROM bake WHERE piece_id = ? AND state = 'done' AND deleted IS NULL AND {_THERE}", (piece_id,)
    ).fetchone()
    return int(row[0])


def newest_done(db: sqlite3.Connection, piece_id: int) -> BakeRow | None:
    row = db.execute(
        f"SELECT {_LIGHT} FROM bake WHERE piece_id = ? AND state = 'done' AND deleted IS NULL AND {_THERE} "
        "ORDER BY ended DESC, id DESC LIMIT 1",  # a live proof may begin after a bake and end before it
        (piece_id,),
    ).fetchone()
    return _row(row) if row else None


def done_before(db: sqlite3.Connection, row: BakeRow) -> int | None:
    """The bake of the same kind that ended well before another one: what that is compared with."""
    earlier = db.execute(
        "SELECT id FROM bake WHERE piece_id = ? AND id < ? AND state = 'done' AND NOT judging AND trial = '' "
        "AND proof = ? AND NOT coalesce(json_extract(summary, '$.brought'), 0) AND live < 2 AND deleted IS NULL "
        "ORDER BY id DESC LIMIT 1",
        (row.piece_id, row.id, row.proof),
    ).fetchone()
    return int(earlier["id"]) if earlier else None


def comparable(row: BakeRow, before: BakeRow) -> bool:
    """Whether two bakes of a piece are known texel by texel by how they are seen, on sheets of the same sizes."""
    one, other = row.summary, before.summary
    known = one.likeness is not None and other.likeness is not None
    return known and (one.width, one.height, one.sheets) == (other.width, other.height, other.sheets)


def start(db: sqlite3.Connection, bake_id: int) -> None:
    db.execute("UPDATE bake SET state = 'running', started = ? WHERE id = ?", (time.time(), bake_id))


def tell(db: sqlite3.Connection, bake_id: int, stage: str, share: float) -> None:
    db.execute("UPDATE bake SET stage = ?, share = ? WHERE id = ?", (stage, share, bake_id))


def finish(
    db: sqlite3.Connection,
    bake_id: int,
    manifest: Manifest,
    pictures: dict[tuple[str, str], str],
    judging: bool = False,
) -> None:
    """Keep the result; `pictures` are content hashes by sheet and map. With `judging` its
    figures are still to come.

    One that mended on its way has new settings, and so has a map that was brought in.
    """
    if db.execute("SELECT 1 FROM bake WHERE id = ?", (bake_id,)).fetchone() is None:
        return  # its piece was removed for good meanwhile
    recipe = db.execute("SELECT recipe FROM bake_contents WHERE bake_id = ?", (bake_id,)).fetchone()["recipe"]
    recipe = manifest.recipe.model_dump_json() if manifest.mending or manifest.brought else recipe
    summary = BakeSummary.of(Recipe.model_validate_json(recipe), manifest)
    db.execute(
        "UPDATE bake SET state = 'done', judging = ?, share = iif(?, share, 1), started = coalesce(started, created), "
        "ended = ?, summary = ? WHERE id = ?",
        (judging, judging, time.time(), summary.model_dump_json(), bake_id),
    )
    db.execute(
        "UPDATE bake_contents SET manifest = ?, recipe = ? WHERE bake_id = ?",
        (manifest.model_dump_json(), recipe, bake_id),
    )
    db.executemany(
        "INSERT OR REPLACE INTO picture (bake_id, sheet, key, sha256) VALUES (?, ?, ?, ?)",
        [(bake_id, sheet, key, h) for (sheet, key), h in pictures.items()],
    )


def took(db: sqlite3.Connection, bake_id: int, seconds: float) -> None:
    """How long a bake that has ended took, by a clock that nobody sets: it is taken to have begun that long ago."""
    db.execute("UPDATE bake SET started = ended - ? WHERE id = ?", (seconds, bake_id))


def end(db: sqlite3.Connection, bake_id: int, state: str, message: str) -> None:
    """A bake ended without a result; one that was being judged keeps its maps, without figures."""
    stopped = "Its judging was cancelled." if state == "cancelled" else f"Not judged: {message}"
    cursor = db.execute(
        "UPDATE bake SET judging = 0, share = 1, message = ? WHERE id = ? AND judging", (stopped, bake_id)
    )
    if not cursor.rowcount:
        values = state, message, time.time(), bake_id
        db.execute("UPDATE bake SET state = ?, message = ?, ended = ? WHERE id = ?", values)


def date(
    db: sqlite3.Connection, bake_id: int, name: str, created: float, started: float | None, ended: float | None
) -> None:
    """Name and times of a bake that was made elsewhere."""
    db.execute(
        "UPDATE bake SET name = ?, created = ?, started = ?, ended = ? WHERE id = ?",
        (name, created, started, ended, bake_id),
    )


def pictures_of(db: sqlite3.Connection, bake_id: int) -> dict[tuple[str, str], str]:
    """Content hashes of a bake's pictures by sheet and map."""
    rows = db.execute("SELECT sheet, key, sha256 FROM picture WHERE bake_id = ?", (bake_id,))
    return {(row["sheet"], row["key"]): row["sha256"] for row in rows}


def rename(db: sqlite3.Connection, bake_id: int, name: str) -> None:
    db.execute("UPDATE bake SET name = ?, live = 0 WHERE id = ?", (name, bake_id))


def keep_trial(db: sqlite3.Connection, bake_id: int) -> None:
    """What a bake tried out has become a setting of its piece."""
    db.execute("UPDATE bake SET trial = '' WHERE id = ?", (bake_id,))


def delete(db: sqlite3.Connection, bake_ids: list[int], moment: float) -> None:
    """Put bakes aside; they can be brought back."""
    db.executemany("UPDATE bake SET deleted = ? WHERE id = ?", [(moment, n) for n in bake_ids])


def bring_back(db: sqlite3.Connection, piece_id: int, moment: float) -> int:
    """Bring back the bakes of a piece that were deleted at a moment; returns how many."""
    cursor = db.execute("UPDATE bake SET deleted = NULL WHERE piece_id = ? AND deleted = ?", (piece_id, moment))
    return cursor.rowcount


def spare_proofs(db: sqlite3.Connection, piece_id: int, kept: int) -> list[int]:
    """Proofs and failed bakes of a piece without a name, beyond the newest `kept`."""
    rows = db.execute(
        "SELECT id FROM bake WHERE piece_id = ? AND deleted IS NULL AND name = '' AND (proof OR state != 'done') "
        "AND state NOT IN ('waiting', 'running') AND NOT judging ORDER BY id DESC LIMIT -1 OFFSET ?",
        (piece_id, kept),
    )
    return [int(row["id"]) for row in rows]


def mark_interrupted(db: sqlite3.Connection) -> int:
    """Bakes that an ended server left unfinished; returns how many."""
    cursor = db.execute(
        "UPDATE bake SET state = 'interrupted', message = 'The program ended during this bake. Bake again.', ended = ? "
        "WHERE state IN ('waiting', 'running')",
        (time.time(),),
    )
    db.execute("UPDATE bake SET judging = 0, share = 1, message = ? WHERE judging", (NOT_JUDGED,))
    return cursor.rowcount


def summarise(db: sqlite3.Connection) -> None:
    """Make the summaries of bakes that were written before there were any."""
    for row in db.execute(
        "SELECT bake_id, recipe, manifest FROM bake JOIN bake_contents ON bake_id = id WHERE summary = ''"
    ).fetchall():
        manifest = Manifest.model_validate_json(row["manifest"]) if row["manifest"] else None
        summary = BakeSummary.of(Recipe.model_validate_json(row["recipe"]), manifest)
        db.execute("UPDATE bake SET summary = ? WHERE id = ?", (summary.model_dump_json(), row["bake_id"]))


def picture(db: sqlite3.Connection, bake_id: int, sheet: str, key: str) -> str | None:
    row = db.execute(
        "SELECT sha256 FROM picture WHERE bake_id = ? AND sheet = ? AND key = ?", (bake_id, sheet, key)
    ).fetchone()
    return str(row["sha256"]) if row else None
