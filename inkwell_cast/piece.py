"""The usual in a few lines of Python: a piece of meshes and settings, its bakes, what they look like, what leaves.

    from inkwell_cast import Piece

    lamp = Piece.of("lamp_low.obj", "lamp_high.ply")
    made = lamp.bake(maps=["normal", "occlusion"], size=1024)
    print(made.seen.bake.mean, [flaw.title for flaw in made.flaws])
    made.hand_off("textures/lamp", receiver="packed masks")

What stands below (`inkwell_cast.core`) is there for whoever needs more.
"""

import hashlib
import pathlib
import tempfile
from collections.abc import Sequence
from typing import Any, TypeVar

from .core.bake.manifest import Manifest, MeshFile, SeenFacts, sha256_of
from .core.bake.measured_reach import FitTried, Measured, measure, try_fit
from .core.base.array_types import AnyArray
from .core.base.errors import InputProblem
from .core.base.progress import Cancel, Progress, ShareDone
from .core.checks import Finding, check
from .core.flaws import Flaw
from .core.formats import read_mesh
from .core.handoff.bake_on_disk import Finished
from .core.handoff.hand_off import Handed, hand_off
from .core.handoff.handoff_preview import HandoffPreview, preview_handoff
from .core.handoff.judge_map import ANY, Judged, bring_in
from .core.handoff.piece_file import read_piece, write_meshes
from .core.images import read_picture
from .core.mending.bake_with_mends import Made, make
from .core.mesh.mesh import Mesh
from .core.piece.assembly import assemble
from .core.piece.guessed_roles import as_given
from .core.piece.piece import BakeMeshes
from .core.piece.scene_cache import Warm
from .core.settings.basis import Basis
from .core.settings.editing import on_their_own
from .core.settings.map_sets import maps_of
from .core.settings.pairing import Pairing, read_name
from .core.settings.receivers import find_receiver
from .core.settings.recipe import Recipe

Found = TypeVar("Found", Measured, FitTried)
Given = str | pathlib.Path | Mesh  # a mesh, or the file of one


class Piece:
    """Meshes and settings, with all that was computed of them kept for the next bake.

    `recipe` are its settings, a Pydantic model; `set` changes them by group. `guessed` says in words which files' roles
    were guessed, and why. Every call raises InputProblem for input
    that cannot be used, with file, object, what is wrong and what to do; `progress(stage, share)` hears how far one is,
    and a true answer of `cancel()` makes it raise Cancelled.
    """

    def __init__(self, name: str, meshes: BakeMeshes, sources: list[MeshFile], recipe: Recipe) -> None:
        self.name, self.meshes, self.sources, self.recipe = name, meshes, sources, recipe
        self.warm = Warm()
        self.guessed = list[str]()

    @classmethod
    def _of_given(cls, name: str, meshes: BakeMeshes, sources: list[MeshFile], recipe: Recipe) -> "Piece":
        guessed = list[str]()
        piece = cls(name, meshes, sources, as_given(recipe, meshes, guessed.append))
        piece.guessed = guessed
        return piece

    @classmethod
    def of(
        cls,
        low: Given | Sequence[Given],
        high: Given | Sequence[Given] = (),
        cage: Sequence[Given] = (),
        name: str = "",
        recipe: Recipe | None = None,
    ) -> "Piece":
        """A piece of lows and highs, whatever they are called; pairs are made by the names of their objects.

        Without a high the lows are baked on their own, with the maps that tell something then.
        """
        sources, meshes = list[MeshFile](), BakeMeshes([], [])
        for role, given, into in (
            ("low", low, meshes.lows),
            ("high", high, meshes.highs),
            ("cage", cage, meshes.cages),
        ):
            for one in [given] if isinstance(given, Given) else given:
                into.append(_read(one, role, sources))
        recipe = recipe or Recipe()
        if not meshes.highs:
            recipe = on_their_own(recipe)
        return cls._of_given(name or _name_after(meshes.lows[0].name), meshes, sources, recipe)

    @classmethod
    def by_names(cls, *files: Given, name: str = "", recipe: Recipe | None = None) -> "Piece":
        """A piece of files whose names, or those of their objects, say what is low and what high (`_low`, `_high`)."""
        if not files:
            raise InputProblem("The piece", "No mesh is named.", "Give a low and a high.")
        sources = list[MeshFile]()
        meshes = BakeMeshes([], [], [_read(one, "by name", sources) for one in files])
        return cls._of_given(name or _name_after(meshes.named[0].name), meshes, sources, recipe or Recipe())

    @classmethod
    def open(cls, path: str | pathlib.Path) -> "Piece":
        """A piece file (.icast), with its settings and mends."""
        held, meshes = read_piece(path)
        sources = [
            MeshFile(role="by name", file=entry.file, sha256=entry.sha256, triangles=len(mesh.triangles))
            for entry, mesh in zip(held.meshes, meshes, strict=True)
        ]
        return cls(held.name, BakeMeshes([], [], meshes), sources, held.recipe)

    def save(self, path: str | pathlib.Path) -> pathlib.Path:
        """Write it as a piece file (.icast)."""
        files, every = dict(self.recipe.files), list[Mesh]()
        for role, given in (("low", self.meshes.lows), ("high", self.meshes.highs), ("cage", self.meshes.cages)):
            for mesh in given:
                files[mesh.name] = self.recipe.file(mesh.name).model_copy(update={"role": role})
                every.append(mesh)
        every += self.meshes.named
        recipe = self.recipe.model_copy(update={"files": files})
        hashes = [source.sha256 for source in self.sources]
        write_meshes(pathlib.Path(path), self.name, recipe, list(zip(every, hashes, strict=True)))
        return pathlib.Path(path)

    def set(self, **groups: Any) -> "Piece":
        """Change settings by group, such as `set(reach={"outward": 2}, basis={"green": "down"})`; gives the piece.

        Names and values are those of `inkwell-cast settings`. Raises pydantic.ValidationError for what is none.
        """
        settings = self.recipe.model_dump()
        for group, changes in groups.items():
            known = settings.get(group)
            settings[group] = {**known, **changes} if isinstance(known, dict) and isinstance(changes, dict) else changes
        self.recipe = Recipe.model_validate(settings)
        return self

    def check(self) -> list[Finding]:
        """What is wrong with the meshes, the worst first, before a ray is cast."""
        return check(self.recipe, self.meshes, self.warm)

    def measure(self, progress: ShareDone = lambda share: None) -> Measured:
        """Find the reach that looks best on small bakes, and set it."""
        return self._set(measure(self.recipe, self.meshes, progress=progress, warm=self.warm))

    def fit(self, progress: ShareDone = lambda share: None) -> FitTried:
        """Set the even reach that looks best, and fit the cage to the sculpt from it if that looks no worse."""
        return self._set(try_fit(self.recipe, self.meshes, progress=progress, warm=self.warm))

    def _set(self, found: Found) -> Found:
        self.recipe = found.set_in(self.recipe, assemble(self.recipe, self.meshes, self.warm).low.diagonal)
        return found

    def bake(
        self,
        maps: Sequence[str] | None = None,
        size: int | tuple[int, int] | None = None,
        samples: int | None = None,
        mend: bool = False,
        progress: Progress = lambda stage, share: None,
        cancel: Cancel = lambda: False,
    ) -> "Baked":
        """Bake it; what is given here is set first: maps by their keys or sets' names, size in texels, samples a texel.

        samples are 1, 4, 16 or 64.

        With `mend` it tries the best mend of every flaw on small bakes, and keeps in the recipe what does good.
        """
        if maps is not None:
            self.set(output={"maps": maps_of(maps)})
        if size is not None:
            width, height = size if isinstance(size, tuple) else (size, size)
            self.set(sheet={"width": width, "height": height})
        if samples is not None:
            self.set(sheet={"samples": samples})
        made = make(self.recipe, self.meshes, mend, progress, cancel, self.warm)
        self.recipe = made.recipe
        return Baked(self, made)

    def judge(
        self,
        picture: str | pathlib.Path | AnyArray,
        reading: Basis | str | None = ANY,
        progress: Progress = lambda stage, share: None,
    ) -> Judged:
        """How a normal map made elsewhere is seen on this low: a file, or a picture (H, W, 3).

        `reading` is its basis, None for object space, or "any" for the one that looks best.
        """
        image = read_picture(pathlib.Path(picture)) if isinstance(picture, str | pathlib.Path) else picture
        return bring_in(self.recipe, self.meshes, [image], reading, progress, warm=self.warm).judged

    def plan(self, target: str | pathlib.Path, receiver: str = "") -> HandoffPreview:
        """What a handoff into a place would be, before anything is baked."""
        recipe = find_receiver(receiver).laid_over(self.recipe) if receiver else self.recipe
        return preview_handoff(
            assemble(recipe, self.meshes, self.warm), self.name, recipe.handoff, pathlib.Path(target)
        )


class Baked:
    """A bake of a piece. Its files are written once, when they are first needed; `bake` is all that is known of it."""

    def __init__(self, piece: Piece, made: Made) -> None:
        self.piece, self.bake, self.mended, self._made = piece, made.bake, made.report, made
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._manifest: Manifest | None = None

    @property
    def manifest(self) -> Manifest:
        """Settings, hashes, likeness, flaws, seconds: manifest.json."""
        if self._manifest is None:
            self._folder = tempfile.TemporaryDirectory(prefix="inkwell-cast-")
            self._manifest = self._made.save(self._folder.name, self.piece.sources, self._folder.name)
        return self._manifest

    @property
    def seen(self) -> SeenFacts:
        """How its normals are seen, and the best on this low, in degrees. Raises InputProblem where there are none."""
        if self.piece.recipe.limits.judge == "none":
            raise InputProblem(self.piece.name, "This bake is not judged.", "Set limits.judge to proof or full.")
        if self.manifest.seen is None:
            raise InputProblem(self.piece.name, "This bake has no normals to be seen.", "Bake the normal map too.")
        return self.manifest.seen

    @property
    def flaws(self) -> list[Flaw]:
        """What a viewer sees to be wrong, the worst first."""
        return self.manifest.flaws or []

    def image(self, key: str, sheet: str = "") -> AnyArray:
        """A map as it is written, (H, W, C) uint8 or uint16, of a sheet by its name."""
        found = [one for one in self.bake.sheets if one.name == sheet and key in one.images]
        if not found:
            every = ((one.name, has) for one in self.bake.sheets for has in one.images)
            there = ", ".join(f"{has} of {name}" if name else has for name, has in every)
            wanted = f"{key} of {sheet}" if sheet else key
            raise InputProblem(self.piece.name, f"This bake has no {wanted}.", f"It has {there}.")
        return found[0].images[key]

    def save(self, folder: str | pathlib.Path) -> Manifest:
        """Write its pictures and manifest.json into a folder."""
        return self._made.save(folder, self.piece.sources, folder)

    def hand_off(
        self,
        target: str | pathlib.Path,
        receiver: str = "",
        existing: str = "",
        shared: bool | None = None,
        progress: Progress = lambda stage, share: None,
        cancel: Cancel = lambda: False,
    ) -> Handed:
        """Write a handoff: a folder, or an archive where `target` ends with .zip.

        What a receiver (by name, or a JSON file) wants otherwise is baked anew from what this bake found. `existing` is
        "ask", "replace" or "number"; with `shared` files go among those of others.
        """
        if receiver:
            chosen = find_receiver(receiver)
            if not chosen.fits(self.piece.recipe):
                self.piece.recipe = chosen.laid_over(self.piece.recipe)
                return self.piece.bake(progress=progress, cancel=cancel).hand_off(
                    target, receiver, existing, shared, progress, cancel
                )
            receiver = chosen.name
        handoff = self.bake.assembly.given.handoff
        said: dict[str, object] = {"existing": existing or None, "shared": shared}
        changes = {name: value for name, value in said.items() if value is not None}
        handoff = type(handoff).model_validate(handoff.model_dump() | changes)
        manifest, folder = self.manifest, self._folder
        assert folder is not None
        finished = Finished.of_folder(self.piece.name, manifest, folder.name, folder.name)
        return hand_off(
            finished, self.bake.assembly, self.bake.warm, handoff, target, receiver, progress=progress, cancel=cancel
        )


def _read(given: Given, role: str, sources: list[MeshFile]) -> Mesh:
    if isinstance(given, Mesh):
        digest = hashlib.sha256(given.positions.tobytes() + given.triangles.tobytes()).hexdigest()
        sources.append(MeshFile(role=role, file=given.name, sha256=digest, triangles=len(given.triangles)))
        return given
    path = pathlib.Path(given)
    mesh = read_mesh(path)
    sources.append(MeshFile(role=role, file=path.name, sha256=sha256_of(path), triangles=len(mesh.triangles)))
    return mesh


def _name_after(file: str) -> str:
    stem = pathlib.PurePath(file).stem
    read = read_name(stem, Pairing())
    return (read[0].stem if read else stem) or stem
