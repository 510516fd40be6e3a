"""The one road from meshes and a recipe to maps."""

import os
import pathlib
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from . import cage, checks, maps
from .arrays import U8, U16
from .cast import Cast, cast_rays
from .embree import Scene
from .errors import Cancelled
from .images import png
from .likeness import Likeness, likeness
from .low import Low, prepare_low
from .manifest import Manifest, MapFile, MeshFile, sha256_of
from .mesh import Mesh, merge
from .normals import with_normals
from .recipe import Recipe
from .sheet import nearest_covered, pad

Progress = Callable[[str, float], None]
Cancel = Callable[[], bool]

# share of the whole that each stage takes at the defaults, for the remaining time
STAGES = {"checking": 0.02, "preparing": 0.08, "scene": 0.1, "casting": 0.6, "maps": 0.2}


@dataclass(frozen=True, slots=True)
class BakeMeshes:
    """What is baked: the lows of a pair and the highs they receive from."""

    lows: list[Mesh]
    highs: list[Mesh]


class Warm:
    """Keeps the sculpt's scene of the last bake, so that the next bake of the same meshes does not build it again."""

    def __init__(self) -> None:
        self._of: tuple[int, ...] = ()
        self._meshes: list[Mesh] = []
        self._made: tuple[Mesh, Scene] | None = None

    def sculpt(self, highs: list[Mesh]) -> tuple[Mesh, Scene]:
        """The highs as one mesh with normals, and its scene."""
        if (
            self._made is None
            or len(highs) != len(self._meshes)
            or any(a is not b for a, b in zip(highs, self._meshes, strict=True))
        ):
            self._made, self._meshes = None, highs  # let the old scene go before the new one needs its memory
            high = with_normals(merge([with_normals(m) for m in highs] if len(highs) > 1 else highs, "sculpt"))
            self._made = high, Scene(high.positions, high.triangles)
        return self._made


@dataclass(frozen=True, slots=True)
class Bake:
    """The result: whole-step pictures `images[key] (H, W, C)`, the cast they came from, and how long it took."""

    recipe: Recipe
    low: Low
    high: Mesh
    cast: Cast
    images: dict[str, U8 | U16]
    warnings: list[str]
    seconds: dict[str, float] = field(default_factory=dict)

    def save(self, folder: str | pathlib.Path, sources: list[MeshFile] | None = None) -> Manifest:
        """Write one PNG a map and manifest.json into a folder; likeness is computed from the written pictures.

        Each file appears whole or not at all. `sources` names the mesh files for the manifest.
        """
        target = pathlib.Path(folder)
        target.mkdir(parents=True, exist_ok=True)
        seconds, files = dict(self.seconds), []
        with _stage(seconds, "writing"):
            for key, image in self.images.items():
                path = target / f"{key}.png"
                with _whole(path) as partial:
                    png.write(partial, image)
                files.append(MapFile(key=key, file=path.name, sha256=sha256_of(path)))
        with _stage(seconds, "likeness"):
            for entry in files:
                entry.likeness = self.likeness_of(target / entry.file, entry.key)
        result = Manifest.of(self, files, sources or [], seconds)
        with _whole(target / "manifest.json") as partial:
            partial.write_text(result.model_dump_json(indent=2) + "\n")
        return result

    def likeness_of(self, path: pathlib.Path, key: str) -> Likeness | None:
        """How close a written picture brings the low to the sculpt."""
        back = maps.REGISTRY[key].read_back(png.dequantise(png.read(path)), self.cast, self.low, self.recipe)
        return likeness(self.cast, back)


def bake(
    recipe: Recipe,
    meshes: BakeMeshes,
    progress: Progress = lambda stage, share: None,
    cancel: Cancel = lambda: False,
    warm: Warm | None = None,
) -> Bake:
    """Project the highs onto the lows and derive the recipe's maps.

    `progress(stage, share)` is told the stage and the share of the whole done, 0 to 1; `cancel()` is asked between
    pieces of at most about 80 ms and a true answer raises Cancelled. `warm` keeps the scene for the next bake.
    Raises InputProblem where the meshes cannot be baked.
    """
    seconds: dict[str, float] = {}
    done = 0.0

    def tell(stage: str, share: float = 0.0) -> None:
        if cancel():
            raise Cancelled
        progress(stage, done + STAGES[stage] * share)

    tell("checking")
    with _stage(seconds, "checking"):
        checks.refuse_unusable(meshes.lows, meshes.highs)
    done += STAGES["checking"]
    tell("preparing")
    with _stage(seconds, "preparing"):
        low, low_cage = lay_out(recipe, meshes.lows)
    done += STAGES["preparing"]
    tell("scene")
    with _stage(seconds, "scene"):
        high, scene = (warm or Warm()).sculpt(meshes.highs)
    done += STAGES["scene"]
    tell("casting")
    with _stage(seconds, "casting"):
        cast = cast_rays(low.mesh, low_cage, low.grid, high, scene, lambda share: tell("casting", share), cancel)
    done += STAGES["casting"]
    with _stage(seconds, "maps"):
        images = _derive(recipe, low, cast, lambda share: tell("maps", share))
    warnings = checks.warnings_after(low, high, cast, recipe.output.maps)
    progress("maps", 1.0)
    return Bake(recipe, low, high, cast, images, warnings, seconds)


def lay_out(recipe: Recipe, lows: list[Mesh]) -> tuple[Low, cage.Cage]:
    """The lows as one, on the recipe's sheet, with the cage of its reach."""
    mesh = merge([with_normals(m) for m in lows], "low")
    low = prepare_low(mesh, recipe.sheet.width, recipe.sheet.height, recipe.sheet.samples)
    return low, cage.push_out(low.mesh, *recipe.reach.in_scene_units(low.mesh.diagonal))


def _derive(recipe: Recipe, low: Low, cast: Cast, tell: Callable[[float], None]) -> dict[str, U8 | U16]:
    """Every map of the recipe, padded and in whole steps."""
    tell(0.0)
    texels = recipe.sheet.padding_texels
    source = nearest_covered(cast.covered, texels) if texels else None
    images: dict[str, U8 | U16] = {}
    for n, key in enumerate(recipe.output.maps):
        image = maps.REGISTRY[key].derive(cast, low, recipe)
        background = maps.REGISTRY[key].BACKGROUND
        if source is not None:
            pad(image, source)
            image[source < 0] = background
        else:
            image[cast.covered == 0] = background
        images[key] = png.quantise(image, recipe.output.depth)
        tell((n + 1) / len(recipe.output.maps))
    return images


@contextmanager
def _stage(seconds: dict[str, float], name: str) -> Iterator[None]:
    started = time.perf_counter()
    yield
    seconds[name] = round(time.perf_counter() - started, 4)


@contextmanager
def _whole(path: pathlib.Path) -> Iterator[pathlib.Path]:
    """A temporary name beside `path` that takes its place when the block ends well, and vanishes otherwise."""
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=".", suffix=path.suffix)
    os.close(handle)
    partial = pathlib.Path(name)
    try:
        yield partial
        os.replace(partial, path)
    finally:
        partial.unlink(missing_ok=True)
