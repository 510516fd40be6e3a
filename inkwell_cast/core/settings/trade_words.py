"""Words of the trade for what is called otherwise here: what one asks for, our word, its settings and its page."""

import re
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class TradeWord:
    """What people say, what that is here, the settings it is set by, and the page of the guide that tells of it."""

    words: tuple[str, ...]
    here: str
    settings: tuple[str, ...]
    page: str


TRADE_WORDS = (
    TradeWord(("OpenGL normals", "Y+", "green channel"), "Basis, green up", ("basis.green",), "basis"),
    TradeWord(("DirectX normals", "Y-", "flip green", "invert green"), "Basis, green down", ("basis.green",), "basis"),
    TradeWord(("dilation", "edge padding", "bleed", "gutter", "margin"), "Padding", ("sheet.padding",), "maps"),
    TradeWord(
        ("anti-aliasing", "antialiasing", "supersampling", "subsamples", "AA"),
        "Samples of a texel",
        ("sheet.samples", "sheet.adaptive"),
        "maps",
    ),
    TradeWord(
        ("smoothing groups", "hard edges", "vertex normals", "split normals"),
        "Normals of the low",
        ("normals.mode", "normals.angle"),
        "meshes",
    ),
    TradeWord(
        ("ray distance", "search distance", "maximum distance"),
        "Reach, outward",
        ("reach.outward",),
        "cage",
    ),
    TradeWord(("ray depth", "inward distance", "inset"), "Reach, inward", ("reach.inward",), "cage"),
    TradeWord(
        ("cage offset", "cage extrusion", "push", "envelope"),
        "Reach, or a cage mesh",
        ("reach.outward", "reach.shape"),
        "cage",
    ),
    TradeWord(("backface", "back face culling", "ignore backfaces"), "Struck from inside", (), "flaw-inside"),
    TradeWord(("skewing", "skew", "projection distortion", "wavy lines"), "Leaning detail", (), "flaw-leaning"),
    TradeWord(
        ("averaged normals", "explicit normals", "average projection", "match by normals"),
        "Directions of rays",
        ("reach.directions",),
        "cage",
    ),
    TradeWord(("exploded bake", "match by name", "match names"), "Pairs, by names", ("pairing.low",), "meshes"),
    TradeWord(("AO", "ambient occlusion"), "Occlusion", ("occlusion.rays", "occlusion.distance"), "maps"),
    TradeWord(("bent normals",), "Bent", ("output.maps",), "maps"),
    TradeWord(("material ID", "colour ID", "clown map", "ID mask"), "IDs", ("ids.by",), "maps"),
    TradeWord(("displacement", "bump", "parallax map"), "Height", ("height.range",), "maps"),
    TradeWord(
        ("translucency", "SSS", "subsurface", "inverted AO"), "Thickness", ("thickness.rays", "thickness.limit"), "maps"
    ),
    TradeWord(("WS normal", "world space normal"), "Object normals", ("output.maps",), "maps"),
    TradeWord(("lightmap", "baked lighting"), "Light", ("light.rays",), "map-light"),
    TradeWord(("bevel shader", "rounded edges", "round corners"), "Rounded", ("rounded.radius",), "map-rounded"),
    TradeWord(("floaters", "floating geometry"), "Floaters", ("pairing.float",), "meshes"),
    TradeWord(("UDIM", "UV tiles"), "Sheets by tile", ("sheet.split",), "maps"),
    TradeWord(("texture set", "one sheet a material"), "Sheets", ("sheet.split",), "maps"),
    TradeWord(("tangent space", "tangent basis", "binormal"), "Basis", ("basis.tangents", "basis.bitangent"), "basis"),
    TradeWord(("LOD", "level of detail"), "Layers of detail", ("pairing.level",), "lods"),
    TradeWord(("channel packing", "ORM", "mask map"), "Packing", ("handoff.packs",), "handoff"),
    TradeWord(("16 bit", "bit depth", "banding"), "Depth", ("output.depth", "output.dither"), "maps"),
    TradeWord(("subdivision", "smooth mesh preview"), "Subdivision of the low", ("subdivision.levels",), "meshes"),
    TradeWord(("preset", "engine preset", "target"), "Receivers", (), "receivers"),
)


def meant_by(asked: str) -> list[TradeWord]:
    """What words that someone asks for could mean, those that say it whole first; nothing for none."""
    wanted = _plain(asked)
    if not wanted:
        return []
    whole = [one for one in TRADE_WORDS if any(_plain(word) == wanted for word in one.words)]
    part = [one for one in TRADE_WORDS if any(_holds(wanted, _plain(word)) for word in one.words)]
    return [*whole, *(one for one in part if one not in whole)]


def _plain(words: str) -> str:
    """Words in lower case with single spaces; signs that tell one axis from the other stay."""
    return " ".join(re.findall(r"[a-z0-9]+[+-]?(?![a-z0-9])|[a-z0-9]+", words.lower()))


def _holds(asked: str, said: str) -> bool:
    """Whether one of two phrases has all the words of the other, of which one has three letters at least."""
    one, other = set(asked.split()), set(said.split())
    return (one <= other or other <= one) and any(len(word) > 2 for word in one & other)
