"""Saving a bake: one picture a map and sheet, what lies beside an ID map, and the manifest with what was measured."""

import pathlib
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from .. import maps
from ..base.array_types import F32, I32, U8, U16, AnyArray
from ..base.atomic_files import whole
from ..base.progress import Progress
from ..cage.coverage import CoverageFacts
from ..cast.context import Context
from ..flaws import COARSE_MARKS, FLAW_MARKS, Flaw, FlawList, MarkedFlaw
from ..flaws.hatched import write_marks
from ..images import SUFFIXES, png, read_picture, write_picture
from ..maps.ids import mask_of
from ..review.from_afar import differs_from_afar
from ..review.judgement import Judgement
from ..review.likeness import Likeness, by_pair, figures, stored
from ..review.lit_pictures import lit_low, lit_sculpt, seen_at
from ..review.parallax import Parallax, parallax
from ..review.worn_pictures import Pictures
from ..settings.mends_overlay import Report
from .baked import Bake, BakedSheet, holds_normals
from .expected_time import learn, shares_of_stages
from .layered_files import WRITERS, layers_of
from .manifest import Manifest, MapFile, MeshFile, SeenFacts, sha256_of
from .stages import Stages

Written = Callable[[Manifest], None]


def save(
    bake: Bake,
    folder: str | pathlib.Path,
    sources: list[MeshFile] | None = None,
    previews: str | pathlib.Path | None = None,
    mending: Report | None = None,
    judged: Judgement | None = None,
    progress: Progress = lambda stage, share: None,
    written: Written = lambda manifest: None,
) -> Manifest:
    """Write one picture a map and sheet, and manifest.json, into a folder; likeness is computed from the files.

    Each file appears whole or not at all. `sources` names the mesh files for the manifest; `previews` is a folder for
    PNGs of other formats and for what views and reports show, `mending` what was mended before, `judged` how the maps
    are seen, if that is known; `progress(stage, share)` hears of `stages.SAVING`. The maps come first: they lie there
    with a manifest that has no figures yet, which `written` is given, before they are judged. Raises Cancelled.
    """
    writer = _Writer(bake, pathlib.Path(folder), pathlib.Path(previews) if previews else None)
    writer.folder.mkdir(parents=True, exist_ok=True)
    _, shares = shares_of_stages(bake.assembly)
    stages = Stages(progress, bake.warm.stopped, dict(bake.seconds), shares=shares)
    with stages.stage("writing"):
        files = [entry for sheet in bake.sheets for entry in writer.pictures_of(sheet)]
    result = Manifest.of(bake, files, sources or [], stages.seconds)
    result.mending, result.brought = mending, bake.brought
    if bake.recipe.limits.judge != "none" or judged or bake.brought:
        writer.keep(result)
        written(result)
        _judge(writer, files, result, stages, judged)
    result.seconds = stages.seconds
    learn(bake, stages.seconds)
    writer.keep(result)
    return result


def _judge(writer: "_Writer", files: list[MapFile], result: Manifest, stages: Stages, judged: Judgement | None) -> None:
    """Put into a manifest what is seen of its maps, and write the pictures that show it."""
    bake = writer.bake
    with stages.stage("rounding"):
        rounding = writer.rate(files)
    with stages.stage("likeness"):
        judged, pictures = writer.judge(files, judged)
        written, contexts = pictures is not None, judged.contexts
        floor = parallax(contexts, judged.best_pictures, judged.proof) if written else None
        heats = writer.heat("likeness", contexts, judged.seen.angles) if written else {}
        floors = writer.heat("parallax", contexts, floor.angles) if floor else {}
        result.sides, result.from_afar = writer.sides(pictures, judged)
    with stages.stage("coverage"):
        result.coverage_of_sculpt = None if bake.brought else CoverageFacts.of(bake.coverage())
    with stages.stage("flaws"):
        flaws = writer.flaws(judged)
    result.marks = writer.marks(flaws.flaws)
    result.flaws, result.flaws_found, result.harmless = flaws.flaws, flaws.found, flaws.harmless
    result.accepted = flaws.accepted
    _tell_seen(result, judged, rounding, written)
    for facts in result.sheets:
        facts.heat, facts.parallax = heats.get(facts.name, ""), floors.get(facts.name, "")
    if floor:
        result.parallax, result.coarse = floor.mean, floor.places
        writer.mark_coarse(floor)
    result.beyond = result.beyond_of(result.recipe.limits.by_name)


def _tell_seen(result: Manifest, judged: Judgement, rounding: list[Likeness | None], written: bool) -> None:
    """Put how a bake is seen into its manifest, as a whole and pair by pair; what is to mend in any case."""
    seen, best, result.to_mend = judged.seen, judged.best, judged.to_mend
    result.seen = SeenFacts.of(seen.whole, best.whole, seen.never_seen) if written else None
    for pair, rated, alone, best_alone in zip(result.pairs, rounding, seen.pairs, best.pairs, strict=True):
        pair.likeness, pair.seen = rated, SeenFacts.of(alone, best_alone) if written else None


@dataclass(slots=True)
class _Writer:
    """Writes the pictures of a bake; `taken` are the file names that are given away already, in lower case.

    `read` is the picture that was read back last, by its path, so that nobody reads it twice.
    """

    bake: Bake
    folder: pathlib.Path
    previews: pathlib.Path | None
    taken: set[str] = field(default_factory=set)
    read: dict[pathlib.Path, AnyArray] = field(default_factory=dict)

    def keep(self, result: Manifest) -> None:
        """Write the manifest as it is so far."""
        with whole(self.folder / "manifest.json") as partial:
            partial.write_text(result.model_dump_json(indent=2) + "\n")

    def pictures_of(self, sheet: BakedSheet) -> list[MapFile]:
        """Write every map of a sheet, and what lies beside an ID map."""
        files = []
        for key, image in sheet.images.items():
            exact = sheet.exact.get(key)
            entry = MapFile(
                key=key,
                label=maps.REGISTRY[key].LABEL,
                sheet=sheet.name,
                file="",
                sha256="",
                space=maps.REGISTRY[key].SPACE if exact is None else "linear",
                facts=sheet.facts[key],
            )
            files.append(self._written(entry, sheet, image, exact))
        if "ids" in sheet.images:
            files += [*self._masks(sheet), *self._layered(sheet)]
        return files

    def _written(self, entry: MapFile, sheet: BakedSheet, image: U8 | U16, exact: AnyArray | None) -> MapFile:
        """Write one picture, and fill in what its entry says of it."""
        form = self.bake.recipe.output.form_of(entry.key)
        path = self.folder / sheet.file_of(entry.key.replace(":", "_"), SUFFIXES[form.format], self.taken)
        values = image if exact is None else exact
        if form.exact and exact is None:
            values = png.dequantise(image).astype(np.float16 if form.depth == 16 else np.float32)
        with whole(path) as partial:
            write_picture(partial, form.format, values)
        entry.file, entry.sha256 = path.name, sha256_of(path)
        if self.previews and form.format != "png":
            entry.preview = f"{path.stem}.png"
            write_picture(self.previews / entry.preview, "png", image)
        return entry

    def _masks(self, sheet: BakedSheet) -> list[MapFile]:
        """A black-and-white picture for each ID, if the recipe asks for them."""
        if not self.bake.recipe.ids.masks:
            return []
        files = []
        for name, color in sheet.facts["ids"]["legend"].items():
            entry = MapFile(key=f"mask:{name}", label=f"Mask of {name}", sheet=sheet.name, file="", sha256="")
            files.append(self._written(entry, sheet, mask_of(sheet.images["ids"], color), None))
        return files

    def _layered(self, sheet: BakedSheet) -> list[MapFile]:
        """The layered files of an ID map, as far as the recipe asks for them."""
        settings, ids, files = self.bake.recipe.ids, sheet.images["ids"], list[MapFile]()
        suffixes = [suffix for suffix, wanted in ((".ora", settings.layers), (".psd", settings.psd)) if wanted]
        if not suffixes:
            return files
        library, legend = self.bake.recipe.library, sheet.facts["ids"]["legend"]
        content = layers_of(ids, legend, settings.by, self.bake.high, library)
        stem = sheet.file_of("layers", "", self.taken)
        for suffix in suffixes:
            path = self.folder / f"{stem}{suffix}"
            with whole(path) as partial:
                WRITERS[suffix](partial, content)
            entry = MapFile(
                key=f"layers{suffix}",
                label=f"Layers, {suffix[1:].upper()}",
                sheet=sheet.name,
                file=path.name,
                sha256=sha256_of(path),
                space="sRGB",
            )
            if self.previews:
                entry.preview = f"{path.name}.png"
                write_picture(self.previews / entry.preview, "png", ids)
            files.append(entry)
        return files

    def rate(self, files: list[MapFile]) -> list[Likeness | None]:
        """Fill in the rounding of every map of normals; gives that of each pair by the first of them."""
        bake, sheets = self.bake, {sheet.name: sheet for sheet in self.bake.sheets}
        first, by_sheet = "", list[tuple[F32, I32]]()
        for entry in [] if bake.brought else files:
            sheet = sheets[entry.sheet]
            if not holds_normals(entry.key):
                continue
            angles = bake.angles_in(self._picture(self.folder / entry.file), entry.key, sheet)
            assert angles is not None  # of a map that holds normals
            entry.likeness = figures(angles[~np.isnan(angles)])
            first = first or entry.key
            if entry.key == first:
                pair = bake.assembly.low_pair[sheet.low.triangles[np.maximum(sheet.cast.low_triangle, 0)]]
                by_sheet.append((angles, pair))
        return by_pair(by_sheet, len(bake.assembly.paired.pairs))

    def _picture(self, path: pathlib.Path) -> AnyArray:
        """A written picture, read back."""
        if path not in self.read:
            self.read = {path: read_picture(path)}
        return self.read[path]

    def judge(self, files: list[MapFile], judged: Judgement | None) -> tuple[Judgement, Pictures | None]:
        """How the first map of normals is seen as it was written, and it; or how the cast is, where there is none."""
        key = next((entry.key for entry in files if holds_normals(entry.key)), None)
        if key is None:
            return judged or self.bake.judgement(), None
        files_of = {entry.sheet: self.folder / entry.file for entry in files if entry.key == key}
        images = [self._picture(files_of[sheet.name]) for sheet in self.bake.sheets]
        self.read = {}
        pictures = Pictures(images, maps.REGISTRY[key].KEY == "normal_object")
        return judged or self.bake.judgement(pictures), pictures

    def heat(self, name: str, contexts: list[Context], by_sheet: list[F32]) -> dict[str, str]:
        """Pictures of angles (H, W), one a context, beside the previews; their names by sheet."""
        heats: dict[str, str] = {}
        for sheet, context, angles in zip(self.bake.sheets, contexts, by_sheet, strict=True):
            if self.previews is None:
                break
            heats[sheet.name] = sheet.file_of(name, ".png", self.taken)
            write_picture(self.previews / heats[sheet.name], "png", stored(angles, context.cast.covered))
        return heats

    def sides(self, pictures: Pictures | None, judged: Judgement) -> tuple[dict[str, str], dict[int, float]]:
        """Lit pictures of the sculpt, the low and its heat beside the previews: their names, and how they differ."""
        if self.previews is None:
            return {}, {}
        bake, angles = self.bake, judged.seen.angles if pictures else None
        strips = {"sculpt": lit_sculpt(bake.assembly, bake.sculpt, bake.warm)}
        strips |= zip(("low", "heat"), lit_low(judged.contexts, pictures, angles), strict=False)
        for name, strip in strips.items():
            write_picture(self.previews / f"sides_{name}.png", "png", strip)
        return {name: f"sides_{name}.png" for name in strips}, differs_from_afar(strips["sculpt"], strips["low"])

    def marks(self, flaws: list[Flaw]) -> list[list[tuple[float, float, float]]]:
        """Where each flaw is seen on the pictures from four sides."""
        if self.previews is None or not flaws:
            return []
        balls = np.array([[*(flaw.spot or flaw.middle), flaw.radius] for flaw in flaws])
        return seen_at([sheet.context for sheet in self.bake.sheets], balls)

    def flaws(self, judged: Judgement) -> FlawList:
        """The flaws of all sheets; what the views hatch of them goes beside the previews."""
        found = self.bake.flaws(judged)
        if self.previews:
            write_marks(self.previews / FLAW_MARKS, found.shown)
        return found

    def mark_coarse(self, floor: Parallax) -> None:
        """What the views hatch of where the low needs triangles goes beside the previews."""
        low, channel = self.bake.assembly.low, self.bake.recipe.sheet.channel
        uvs = low.uvs[channel].at_corners()
        shown = [
            MarkedFlaw(flaw, low.positions[low.triangles[rows]], uvs[rows])
            for flaw, rows in zip(floor.places, floor.triangles, strict=True)
        ]
        if self.previews:
            write_marks(self.previews / COARSE_MARKS, shown)
