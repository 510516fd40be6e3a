"""Which setting makes what stale: the one table that every cache key and every redraw is made from.

A result that is kept is found again by `settings_behind(recipe, result)`: all settings that it follows. What a change
of settings spoils is `stale_after(before, after)`.
"""

from typing import Any

from .maps import Glow, Light
from .recipe import Recipe

MESHES = "meshes"  # what the files hold, as they are treated and paired
RAYS = "rays"  # a cast
RELIEF = "relief"  # the low displaced onto the sculpt's large forms
CHECKS = "checks"
COVERAGE = "coverage"
LOW_VIEW = "low view"
CAGE_VIEW = "cage view"
MAPS = "maps"  # derived from a cast and its layers without a ray
HANDOFF = "handoff"

SHAPE_OF_LOW = RAYS, RELIEF, CHECKS, COVERAGE, LOW_VIEW, CAGE_VIEW
SHAPE_OF_CAGE = RAYS, RELIEF, COVERAGE, CAGE_VIEW


def gathered(name: str) -> str:
    """The result that a gathered layer is."""
    return f"layer {name}"


# by group of settings, or by GROUP.FIELD where the fields of a group differ
TABLE: dict[str, tuple[str, ...]] = {
    "files": (MESHES, *SHAPE_OF_LOW),
    "pairing": (MESHES, *SHAPE_OF_LOW),
    "normals": SHAPE_OF_LOW,
    "subdivision": SHAPE_OF_LOW,
    "levels": SHAPE_OF_LOW,
    "reach": (*SHAPE_OF_CAGE, CHECKS),
    "pockets": SHAPE_OF_CAGE,
    "nudges": SHAPE_OF_CAGE,
    "creases": SHAPE_OF_CAGE,
    "straight_picture": SHAPE_OF_CAGE,
    "carried_panorama": (gathered("light"),),
    "omissions": (RAYS, RELIEF, COVERAGE),
    "sheet.width": (RAYS, COVERAGE, LOW_VIEW, CAGE_VIEW),
    "sheet.height": (RAYS, COVERAGE, LOW_VIEW, CAGE_VIEW),
    "sheet.samples": (RAYS,),
    "sheet.adaptive": (RAYS,),
    "sheet.padding": (MAPS,),
    "sheet.channel": (RAYS, CHECKS, COVERAGE, LOW_VIEW, CAGE_VIEW),
    "sheet.split": (RAYS, CHECKS, COVERAGE, LOW_VIEW, CAGE_VIEW),
    "sheet.repeat": (RAYS, RELIEF, CHECKS, COVERAGE),
    "sizes": (RAYS, CHECKS, COVERAGE, LOW_VIEW, CAGE_VIEW),
    "basis.green": (MAPS,),
    "basis.tangents": (MAPS, LOW_VIEW, CAGE_VIEW),
    "basis.bitangent": (MAPS,),
    "basis.lengths": (MAPS,),
    "basis.hand": (MAPS,),
    "basis.dither": (MAPS,),
    "occlusion.rays": (gathered("occlusion"), gathered("floaters")),
    "occlusion.noise": (gathered("occlusion"), gathered("floaters")),
    "occlusion.distance": (gathered("occlusion"), gathered("floaters")),
    "occlusion.unit": (gathered("occlusion"), gathered("floaters")),
    "occlusion.falloff": (gathered("occlusion"), gathered("floaters")),
    "occlusion.cone": (gathered("occlusion"), gathered("floaters")),
    "occlusion.occluders": (gathered("occlusion"),),
    "occlusion.denoise": (gathered("occlusion"),),
    "sheet_occlusion": (MAPS,),
    "curvature.radius": (gathered("curvature"),),
    "curvature.unit": (gathered("curvature"),),
    "curvature.signs": (MAPS,),
    "curvature.strength": (MAPS,),
    "cavity": (MAPS,),
    "height": (MAPS,),
    "displacement": (MAPS,),
    "thickness": (gathered("thickness"), MAPS),
    "emission.glowing": (gathered("emission"), gathered("glow")),
    "emission.white": (MAPS,),
    **{f"glow.{name}": (gathered("glow"),) for name in Glow.model_fields if name != "white"},
    "glow.white": (MAPS,),
    **{f"light.{name}": (gathered("light"),) for name in Light.model_fields if name not in ("white", "shows")},
    "light.white": (MAPS,),
    "light.shows": (MAPS,),
    "directional": (MAPS,),
    "decals": (MAPS,),
    "rounded": (gathered("rounded"),),
    "ids.by": (gathered("ids"),),
    "ids.masks": (MAPS,),
    "ids.layers": (MAPS,),
    "ids.psd": (MAPS,),
    "ids.colors": (MAPS,),
    "library": (gathered("ids"), MAPS, HANDOFF),
    "output": (MAPS, HANDOFF),  # a displacement among its maps moves the low: see `displaces`
    "patches": (MAPS,),
    "heals": (MAPS,),
    "handoff": (HANDOFF,),
    "world": (),  # how lengths are typed
    "accepted": (),  # what of a bake is told, not what it is
    "limits": (),  # what a bake is held to, not what it is
    "mends": (),  # laid over all others, which tell: see `mends_overlay.mended`
}


def displaces(recipe: Recipe) -> bool:
    """Whether the low that maps are baked on is moved by a displacement first."""
    return "displacement" in recipe.output.maps


def settings_behind(recipe: Recipe, result: str) -> dict[str, Any]:
    """The settings that a result follows, as plain values by their name in `TABLE`; mends must be laid over before."""
    settings: dict[str, Any] = {}
    for name, spoiled in TABLE.items():
        if result in spoiled:
            group, _, field = name.partition(".")
            value = getattr(recipe, group)
            settings[name] = _plain(getattr(value, field) if field else value)
    if result in (LOW_VIEW, CAGE_VIEW):
        settings["displaced"] = displaces(recipe)
        if displaces(recipe):
            settings |= settings_behind(recipe, RELIEF)
    return settings


def _plain(value: Any) -> Any:
    """A setting as JSON values."""
    if hasattr(value, "model_dump"):
        return value.model_dump(mode="json")
    if isinstance(value, list):
        return [_plain(item) for item in value]
    return {key: _plain(item) for key, item in value.items()} if isinstance(value, dict) else value


def stale_after(before: Recipe, after: Recipe) -> set[str]:
    """The results that follow a setting in which two recipes differ; mends must be laid over before."""
    results = {result for spoiled in TABLE.values() for result in spoiled}
    return {result for result in results if settings_behind(before, result) != settings_behind(after, result)}
