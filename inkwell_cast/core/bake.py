"""The one road from meshes and a recipe to maps."""

import pathlib
import re
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from . import maps
from .arrays import F32, I32, U8, U16, Any_
from .assembly import Assembly, BakeMeshes, Sculpt, Warm, assemble
from .cage import Cage
from .cast import Cast
from .checks import Finding, findings_of
from .coverage import Coverage, CoverageFacts, coverage
from .errors import Cancelled
from .field import located_of
from .flaws import FLAW_MARKS, flaws_of, write_marks
from .free_memory import free
from .ground import Ground
from .images import SUFFIXES, png, read_picture, write_picture
from .layered import WRITERS, layers_of
from .likeness import Likeness, angles, by_pair, figures, stored
from .low import Low
from .manifest import Manifest, MapFile, MeshFile, sha256_of
from .maps.ids import mask_of
from .memory import needed, refuse_too_large
from .mends import Report
from .mesh import Mesh
from .peek import Peek, peeking
from .recipe import Recipe
from .refusals import refuse_unusable, warnings_after
from .relief import displaced
from .repair import repaired
from .room import free_on_disk, room
from .sheet import pad
from .work import fill, laid_out
from .writing import whole

__all__ = ["STAGES", "Bake", "BakeMeshes", "BakedSheet", "bake"]

Progress = Callable[[str, float], None]
Cancel = Callable[[], bool]

MEASURED = 4_000_000
# share of the whole that each stage takes at the defaults, for the remaining time
STAGES = {"checking": 0.02, "scene": 0.1, "preparing": 0.08, "casting": 0.6, "maps": 0.2}


@dataclass(frozen=True, slots=True)
class BakedSheet:
    """One sheet of a bake: its name ("" where there is only one), its ground, and pictures `images[key] (H, W, C)`.

    `facts[key]` are what must be known to read them: ranges, legends. `exact[key] (H, W, C)` are floats in scene units,
    where the recipe's format holds them.
    """

    name: str
    ground: Ground
    images: dict[str, U8 | U16]
    facts: dict[str, dict[str, Any]]
    exact: dict[str, Any_]

    @property
    def low(self) -> Low:
        return self.ground.low

    @property
    def cast(self) -> Cast:
        return self.ground.cast

    def file_of(self, key: str, suffix: str, taken: set[str]) -> str:
        """A file name for a map, safe on every system and none of those `taken`."""
        plain, key = (re.sub(r"[^\w.()-]+", "_", text) for text in (self.name, key))
        stem = base = f"{plain}_{key}" if plain else key
        n = 2
        while stem.lower() in taken:
            stem, n = f"{base}_{n}", n + 1
        taken.add(stem.lower())
        return stem + suffix


@dataclass(frozen=True, slots=True)
class Bake:
    """The result: its sheets, the piece as it was put together, the cage and the highs, and seconds by stage and pair.

    `low`, `cast` and `images` are those of the first sheet, for the many pieces that have one.
    """

    assembly: Assembly
    cage: Cage
    sculpt: Sculpt
    sheets: list[BakedSheet]
    warnings: list[str]
    seconds: dict[str, float] = field(default_factory=dict)
    warm: Warm = field(default_factory=Warm)
    spent_on: dict[int, float] = field(default_factory=dict)

    @property
    def recipe(self) -> Recipe:
        """What was in force: the recipe that was given, with its mends laid over it."""
        return self.assembly.recipe

    @property
    def low(self) -> Low:
        return self.sheets[0].low

    @property
    def high(self) -> Mesh:
        return self.sculpt.mesh

    @property
    def cast(self) -> Cast:
        return self.sheets[0].cast

    @property
    def images(self) -> dict[str, U8 | U16]:
        return self.sheets[0].images

    def save(
        self, folder: str | pathlib.Path, sources: list[MeshFile] | None = None,
        previews: str | pathlib.Path | None = None, mending: Report | None = None,
    ) -> Manifest:  # fmt: skip
        """Write one picture a map and sheet, and manifest.json, into a folder; likeness is computed from the pictures.

        Each file appears whole or not at all. `sources` names the mesh files for the manifest; `previews` is a folder
        for PNGs of maps in another format, `mending` what was mended before. The coverage and the flaws of a sculpt of
        more than `MEASURED` triangles are left out, since finding them takes longer than the bake.
        """
        target = pathlib.Path(folder)
        target.mkdir(parents=True, exist_ok=True)
        seconds, files, taken = dict(self.seconds), list[MapFile](), set[str]()
        with _stage(seconds, "writing"):
            for sheet in self.sheets:
                for key, image in sheet.images.items():
                    exact = sheet.exact.get(key)
                    made = MapFile(
                        key=key, label=maps.REGISTRY[key].LABEL, sheet=sheet.name, file="", sha256="",
                        space=maps.REGISTRY[key].SPACE if exact is None else "linear", facts=sheet.facts[key],
                    )  # fmt: skip
                    files.append(self._written(made, target, sheet, image, exact, taken, previews))
                if "ids" in sheet.images:
                    files += self._beside_ids(target, sheet, taken, previews)
        with _stage(seconds, "likeness"):
            by_name = {sheet.name: sheet for sheet in self.sheets}
            pairs, heats = self._rate(files, target, by_name, taken, previews)
        measured = None
        if len(self.high.triangles) <= MEASURED:
            with _stage(seconds, "coverage"):
                measured = CoverageFacts.of(self.coverage())
        flaws = None
        if len(self.high.triangles) <= MEASURED:  # a sculpt seen from both sides is a second scene
            with _stage(seconds, "flaws"):
                shown = flaws_of([sheet.ground for sheet in self.sheets], self.findings())
            flaws = [found.flaw for found in shown]
            if previews:
                write_marks(pathlib.Path(previews) / FLAW_MARKS, shown)
        result = Manifest.of(self, files, sources or [], seconds, measured)
        result.flaws, result.mending = flaws, mending
        for pair, rated in zip(result.pairs, pairs, strict=True):
            pair.likeness = rated
        for facts in result.sheets:
            facts.heat = heats.get(facts.name, "")
        with whole(target / "manifest.json") as partial:
            partial.write_text(result.model_dump_json(indent=2) + "\n")
        return result

    def _rate(
        self, files: list[MapFile], target: pathlib.Path, sheets: dict[str, BakedSheet], taken: set[str],
        previews: str | pathlib.Path | None,
    ) -> tuple[list[Likeness | None], dict[str, str]]:  # fmt: skip
        """Fill in the likeness of every map of normals; that of each pair by the first of them, and its pictures."""
        first, by_sheet, heats = "", list[tuple[F32, I32]](), dict[str, str]()
        for entry in files:
            sheet = sheets[entry.sheet]
            found = self.angles_of(target / entry.file, entry.key, sheet)
            if found is None:
                continue
            entry.likeness = figures(found[~np.isnan(found)])
            first = first or entry.key
            if entry.key != first:
                continue
            pair = self.assembly.low_pair[sheet.low.triangles[np.maximum(sheet.cast.low_triangle, 0)]]
            by_sheet.append((found, pair))
            if previews:
                heats[sheet.name] = sheet.file_of("likeness", ".png", taken)
                write_picture(pathlib.Path(previews) / heats[sheet.name], "png", stored(found, sheet.cast.covered))
        return by_pair(by_sheet, len(self.assembly.paired.pairs)), heats

    def _beside_ids(
        self, target: pathlib.Path, sheet: BakedSheet, taken: set[str], previews: str | pathlib.Path | None
    ) -> list[MapFile]:
        """The masks and the layered file of an ID map, as far as the recipe asks for them."""
        own, ids, legend, files = self.recipe.ids, sheet.images["ids"], sheet.facts["ids"]["legend"], list[MapFile]()
        if own.masks:
            for name, color in legend.items():
                made = MapFile(key=f"mask:{name}", label=f"Mask of {name}", sheet=sheet.name, file="", sha256="")
                files.append(self._written(made, target, sheet, mask_of(ids, color), None, taken, previews))
        wanted = {".ora": own.layers, ".psd": own.psd}
        if not any(wanted.values()):
            return files
        content, stem = (
            layers_of(ids, legend, own.by, self.high, self.recipe.library),
            sheet.file_of("layers", "", taken),
        )
        for suffix in [suffix for suffix, wants in wanted.items() if wants]:
            path = target / f"{stem}{suffix}"
            with whole(path) as partial:
                WRITERS[suffix](partial, content)
            made = MapFile(
                key=f"layers{suffix}", label=f"Layers, {suffix[1:].upper()}", sheet=sheet.name, file=path.name,
                sha256=sha256_of(path), space="sRGB",
            )  # fmt: skip
            if previews:
                made.preview = f"{path.name}.png"
                write_picture(pathlib.Path(previews) / made.preview, "png", ids)
            files.append(made)
        return files

    def _written(
        self, made: MapFile, target: pathlib.Path, sheet: BakedSheet, image: U8 | U16, exact: Any_ | None,
        taken: set[str], previews: str | pathlib.Path | None,
    ) -> MapFile:  # fmt: skip
        """Write one picture, and fill in what its entry says of it."""
        form = self.recipe.output.form_of(made.key)
        name = form.format
        path = target / sheet.file_of(made.key.replace(":", "_"), SUFFIXES[name], taken)
        values = image if exact is None else exact
        if form.exact and exact is None:
            values = png.dequantise(image).astype(np.float16 if form.depth == 16 else np.float32)
        with whole(path) as partial:
            write_picture(partial, name, values)
        made.file, made.sha256 = path.name, sha256_of(path)
        if previews and name != "png":
            made.preview = f"{path.stem}.png"
            write_picture(pathlib.Path(previews) / made.preview, "png", image)
        return made

    def pairs_on(self, sheet: BakedSheet) -> list[int]:
        """The pairs that lie on a sheet, in order."""
        return [int(n) for n in np.unique(self.assembly.low_pair[sheet.low.triangles])]

    def findings(self) -> list[Finding]:
        """What the checks say of the piece."""
        return findings_of(self.assembly, self.warm)

    def coverage(self) -> Coverage:
        """What the cage of this bake holds of the sculpt."""
        return coverage(self.assembly, self.sculpt, self.cage, located_of(self.assembly, self.warm))

    def likeness_of(self, path: pathlib.Path, key: str, sheet: BakedSheet | None = None) -> Likeness | None:
        """How close a written picture of a sheet, the first by default, brings the low to the sculpt.

        None for maps that are no normals of the sculpt.
        """
        found = self.angles_of(path, key, sheet or self.sheets[0])
        return None if found is None else figures(found[~np.isnan(found)])

    def angles_of(self, path: pathlib.Path, key: str, sheet: BakedSheet) -> F32 | None:
        """The angles of `likeness.angles` that a written picture of a sheet leaves; None for other maps."""
        return self.angles_in(read_picture(path), key, sheet) if _holds_normals(key) else None

    def angles_in(self, image: U8 | U16 | F32, key: str, sheet: BakedSheet) -> F32 | None:
        """The same for a picture (H, W, C) that is in memory."""
        made = maps.REGISTRY.get(key)
        if not isinstance(made, maps.ReadsNormals):
            return None
        found = angles(sheet.cast, made.read_back(png.dequantise(image), sheet.ground))
        if sheet.ground.healed is not None:
            found[sheet.ground.healed] = np.nan  # there is nothing to be like
        return found


def bake(
    recipe: Recipe,
    meshes: BakeMeshes,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
    peek: Peek | None = None,
) -> Bake:
    """Project the highs onto the lows of their pairs and derive the recipe's maps.

    `progress(stage, share)` is told the stage, "casting" with the layer at work, and the share of the whole done;
    `cancel()` is asked between pieces of at most about 80 ms and a true answer raises Cancelled. `warm` keeps the
    scenes for the next bake. `peek(key, sheet, image)` gets a small picture (H, W, C) uint8 of the map at work now and
    then, as far as it is.
    Raises InputProblem where the meshes cannot be baked.
    """
    seconds: dict[str, float] = {}
    done, warm = 0.0, warm or Warm()

    def tell(stage: str, share: float = 0.0) -> None:
        if cancel():
            raise Cancelled
        progress(stage, done + STAGES[stage.partition(" ")[0]] * share)

    tell("checking")
    with _stage(seconds, "checking"):
        assembly = assemble(recipe, meshes, warm)
        refuse_unusable(assembly)
    done += STAGES["checking"]
    tell("scene")
    with _stage(seconds, "scene"):
        sculpt = warm.sculpt(assembly)
    done += STAGES["scene"]
    tell("preparing")
    with _stage(seconds, "preparing"):
        assembly = displaced(assembly, warm, lambda share: tell("preparing", share / 2))
        laid = laid_out(assembly, meshes, warm, lambda share: tell("preparing", 0.5 + share / 2))
        sizes = [(sheet.low.grid.width, sheet.low.grid.height) for sheet in laid.sheets]
        on_disk = needed(recipe, sizes).disk > 0
        if any(sheet.cast is None for sheet in laid.sheets):
            refuse_too_large(recipe, sizes, free(), free_on_disk())
    done += STAGES["preparing"]
    with _stage(seconds, "casting"):
        fill(
            laid,
            assembly,
            sculpt,
            warm,
            lambda layer, share: tell(f"casting {layer}", share),
            cancel,
            on_disk,
            peeking(recipe, peek),
        )
    seconds |= {f"casting {name}": spent for name, spent in laid.spent.items()}
    done += STAGES["casting"]
    sheets = []
    with _stage(seconds, "maps"):
        for n, sheet in enumerate(laid.sheets):

            def share_of(part: float, n: int = n) -> None:
                tell("maps", (n + part) / len(laid.sheets))

            raws = {key: layer.values for key, layer in sheet.raws.items()}
            rough = {key: layer.gathered for key, layer in sheet.raws.items()}
            ground, raws = repaired(sheet.ground(assembly, sculpt, warm), raws, rough, cancel)
            sheets.append(_derive(sheet.name, ground, raws, sheet.padding(assembly.recipe), share_of, on_disk))
    warnings = warnings_after(assembly, sculpt.mesh, [sheet.cast for sheet in sheets], laid.outside)
    progress("maps", 1.0)
    return Bake(assembly, laid.cage, sculpt, sheets, warnings, seconds, warm, laid.spent_on)


def _holds_normals(key: str) -> bool:
    return isinstance(maps.REGISTRY.get(key), maps.ReadsNormals)


def _derive(
    name: str, ground: Ground, raws: dict[str, Any_], source: I32 | None, tell: Callable[[float], None], on_disk: bool
) -> BakedSheet:  # fmt: skip
    """A sheet with every map of the recipe, padded and in whole steps, and what must be known to read it."""
    tell(0.0)
    recipe = ground.recipe
    made = BakedSheet(name, ground, {}, {}, {})
    for n, key in enumerate(recipe.output.maps):
        map_, form = maps.REGISTRY[key], recipe.output.form_of(key)
        derived = map_.derive(ground, raws[map_.RAW] if map_.RAW else None)
        if form.exact:
            values = derived.image.copy() if derived.exact is None else derived.exact()
            empty = map_.BACKGROUND if derived.exact is None else (0.0,) * values.shape[2]
            kind = np.float16 if form.depth == 16 else np.float32
            made.exact[key] = room(values.shape, kind, on_disk)
            made.exact[key][...] = _padded(values, source, ground, empty)
            del values
        image = _padded(derived.image, source, ground, map_.BACKGROUND)
        dither = recipe.basis.dither and isinstance(map_, maps.ReadsNormals)
        made.images[key] = room(image.shape, np.uint8 if form.steps == 8 else np.uint16, on_disk)
        png.quantise(image, form.steps, dither, made.images[key])
        made.facts[key] = derived.facts
        del derived, image  # a large one makes room for the next
        tell((n + 1) / len(recipe.output.maps))
    return made


def _padded(image: F32, source: I32 | None, ground: Ground, background: tuple[float, ...]) -> F32:
    if source is None:
        image[ground.cast.covered == 0] = background
        return image
    pad(image, source)
    image[source < 0] = background
    return image


@contextmanager
def _stage(seconds: dict[str, float], name: str) -> Iterator[None]:
    started = time.perf_counter()
    yield
    seconds[name] = round(time.perf_counter() - started, 4)
