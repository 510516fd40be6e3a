"""What can be set of single maps, and of the low that they are made on; part of the recipe."""

from typing import Annotated, Literal

from pydantic import Field

from ..base.setting import COUNTS_RAYS, SettingsGroup, Unit, setting
from .directions import Way
from .lights_in_words import GlowingWords, LampWords

_IN = "Per cent of the low's diagonal fits any model; scene units are exact."
DistanceUnit = Annotated[Unit, setting("Distance in", _IN)]
RadiusUnit = Annotated[Unit, setting("Radius in", _IN)]
LimitUnit = Annotated[Unit, setting("White at in", _IN)]
Positive = Annotated[float, Field(gt=0, le=1e9)]


Denoise = Annotated[
    bool, setting("Denoise", "Smooths what few rays leave rough, within islands and never across edges.")
]


Rays = Annotated[
    int, setting("Rays", "At most in each texel, shared by its samples.", "a texel", ge=1, le=4096), COUNTS_RAYS
]


class Occlusion(SettingsGroup):
    """Ambient occlusion, and the bent normal that comes from the same rays."""

    rays: Annotated[
        int,
        setting("Rays", "At most in each texel, shared by its samples; more are smoother.", "a texel", ge=1, le=4096),
        COUNTS_RAYS,
    ] = 64
    noise: Annotated[
        float,
        setting("Noise", "A texel takes no more rays once its error is below this; 0 for all.", "of white", ge=0, le=1),
    ] = 0.025
    distance: Annotated[
        float, setting("Distance", "What lies further off does not occlude; 0 for no limit.", "unit", ge=0, le=1e6)
    ] = 0.0
    unit: DistanceUnit = "percent"
    falloff: Annotated[
        Literal["none", "linear", "square"],
        setting(
            "Falloff",
            "How what occludes loses weight up to the distance (or the low's diagonal); none counts it whole.",
        ),
    ] = "none"
    cone: Annotated[
        float, setting("Cone", "How wide rays spread about the normal; 180 sees everything above.", "°", ge=1, le=180)
    ] = 180.0
    occluders: Annotated[
        Literal["pair", "piece", "low", "pair x low", "piece x low"],
        setting(
            "Occluders",
            "What casts shade: highs of the own pair, of the whole piece, the lows alone, or highs and lows "
            "multiplied. Floaters never do.",
        ),
    ] = "pair"
    denoise: Denoise = False


class SheetOcclusion(SettingsGroup):
    """Occlusion from the sheet alone."""

    radius: Annotated[
        float, setting("Radius", "How far it looks around on the sheet.", "% of the width", gt=0, le=50)
    ] = 1.5
    contrast: Annotated[float, setting("Contrast", "Above 1 grooves get darker.", "", gt=0, le=10)] = 1.0


class Curvature(SettingsGroup):
    """How strongly the sculpt bends."""

    radius: Annotated[
        float,
        setting("Radius", "Bends smaller than this are evened out; 0 for as fine as the sculpt.", "unit", ge=0, le=1e6),
    ] = 0.3
    unit: RadiusUnit = "percent"
    signs: Annotated[
        Literal["both", "convex", "concave"],
        setting("Shows", "Both with mid-grey for flat, or edges alone, or grooves alone, on black."),
    ] = "both"
    strength: Annotated[
        Positive | Literal["auto"],
        setting("Full at", "The curvature that is shown full, in 1 over scene units; auto takes the 98th percentile."),
    ] = "auto"


class Cavity(SettingsGroup):
    """Grooves and creases, as fine as the sculpt."""

    strength: Annotated[
        Positive | Literal["auto"],
        setting("Full at", "The curvature that is shown black, in 1 over scene units; auto takes the 98th percentile."),
    ] = "auto"


class Height(SettingsGroup):
    """How far the sculpt stands off the low."""

    range: Annotated[
        Positive | Literal["auto"],
        setting(
            "Range",
            "The height that is white, in scene units; as deep is black and mid-grey is the low. Auto just holds "
            "everything.",
        ),
    ] = "auto"


class Subdivision(SettingsGroup):
    """A finer low, made at bake time."""

    scheme: Annotated[
        Literal["none", "flat", "loop", "catmull-clark"],
        setting(
            "Subdivide",
            "Flat cuts triangles and keeps the shape, Loop rounds triangles, Catmull-Clark rounds the file's polygons. "
            "UVs stay where they are.",
        ),
    ] = "none"
    levels: Annotated[int, setting("Levels", "Each makes four faces of one.", "times", ge=1, le=6)] = 3
    creases: Annotated[bool, setting("Keep hard edges", "Hard edges of the low stay sharp while it is rounded.")] = True


class Displacement(SettingsGroup):
    """Two-step relief: the large forms move the subdivided low, the other maps are baked onto what that gives."""

    range: Annotated[
        Positive | Literal["auto"],
        setting(
            "Range",
            "The displacement that is white, in scene units; as deep is black and mid-grey moves nothing. Auto just "
            "holds everything.",
        ),
    ] = "auto"


class Thickness(SettingsGroup):
    """How much of the body lies behind a texel."""

    rays: Rays = 32
    noise: Annotated[
        float,
        setting("Noise", "A texel takes no more rays once its error is below this; 0 for all.", "of white", ge=0, le=1),
    ] = 0.025
    limit: Annotated[
        Positive | Literal["auto"],
        setting("White at", "Bodies this thick are white; auto takes a fifth of the low's diagonal.", "unit"),
    ] = "auto"
    unit: LimitUnit = "percent"


Surroundings = Annotated[
    Literal["pair", "piece"],
    setting("Surroundings", "What light meets: highs of the own pair, or of the whole piece."),
]
LightNoise = Annotated[
    float,
    setting(
        "Noise",
        "A texel takes no more rays once its error is below this; 0 for all.",
        "of its light, or of white",
        ge=0,
        le=1,
    ),
]
WhiteLight = Annotated[
    Positive | Literal["auto"],
    setting(
        "White at",
        "The light that is white in pictures; floats hold what is beyond. Auto takes the 99.8th percentile.",
    ),
]
Bounces = Annotated[
    int, setting("Bounces", "How often light is reflected on its way; the carried colours tint it.", "", ge=0, le=64)
]
Hex = Annotated[str, Field(pattern="^#[0-9a-fA-F]{6}$")]


class Emission(SettingsGroup):
    """What glows on the sculpt; the glow map is lit by the same."""

    glowing: Annotated[
        GlowingWords,
        setting(
            "What glows",
            "Materials or objects with colour and strength, such as: glass #ffd9a0 4; wick #ff8800 12. Empty for what "
            "the sculpt's materials say.",
        ),
    ] = ""
    white: WhiteLight = "auto"


class Glow(SettingsGroup):
    """Light that texels receive from what glows."""

    rays: Rays = 256
    noise: LightNoise = 0.025
    bounces: Bounces = 1
    distance: Annotated[
        float, setting("Distance", "What lies further off gives no light; 0 for no limit.", "unit", ge=0, le=1e6)
    ] = 0.0
    unit: DistanceUnit = "percent"
    surroundings: Surroundings = "piece"
    denoise: Denoise = False
    white: WhiteLight = "auto"


class Light(SettingsGroup):
    """Light of a sun, a sky and lamps, with their shadows."""

    sun: Annotated[
        float, setting("Sun", "1 lights a white surface white from straight above; 0 for none.", "", ge=0, le=1e6)
    ] = 1.0
    sun_color: Annotated[Hex, setting("Sun's colour", "As it is shown, such as #fff2dd.")] = "#ffffff"
    sun_turn: Annotated[float, setting("Sun's turn", "About y from z toward x.", "°", ge=-360, le=360)] = 40.0
    sun_height: Annotated[float, setting("Sun's height", "Over the horizon.", "°", ge=-90, le=90)] = 50.0
    sun_size: Annotated[
        float, setting("Sun's size", "The angle of its disc; the larger, the softer the shadow.", "°", ge=0, le=120)
    ] = 0.53
    sky: Annotated[
        float, setting("Sky", "How bright it is; 1 lights all sides of a white body white.", "", ge=0, le=1e6)
    ] = 0.5
    sky_color: Annotated[Hex, setting("Sky's colour", "Of the light from straight above.")] = "#ffffff"
    ground_color: Annotated[Hex, setting("Ground's colour", "Of the light from straight below.")] = "#ffffff"
    panorama: Annotated[
        str,
        setting(
            "Panorama",
            "An OpenEXR picture of all around on this machine, in place of the two colours; y is up.",
            max_length=4000,
        ),
    ] = ""
    lamps: Annotated[
        LampWords,
        setting(
            "Lamps",
            "Places in scene units, strength and colour, such as: 0 1.5 0 2 #ffd9a0; 3 1 0 1. Strength 1 lights white "
            "what lies one unit off.",
        ),
    ] = ""
    rays: Rays = 128
    noise: LightNoise = 0.025
    bounces: Bounces = 1
    shows: Annotated[
        Literal["all", "direct", "bounced"],
        setting("Shows", "All light, or what comes straight from its sources, or what was reflected on its way."),
    ] = "all"
    normals: Annotated[
        Literal["sculpt", "low"],
        setting("Falls on", "The sculpt's normals, or the low's, where a normal map adds the detail later."),
    ] = "sculpt"
    surroundings: Surroundings = "piece"
    denoise: Denoise = False
    white: WhiteLight = 1.0


class Decals(SettingsGroup):
    """Where floating details lie on the low."""

    border: Annotated[
        float, setting("Border", "How far in from their borders they fade; 0 for hard ones.", "texels", ge=0, le=256)
    ] = 4.0
    soft: Annotated[
        bool, setting("Soft normals", "Within the border normals and heights fade into what lies below the floater.")
    ] = False


class Directional(SettingsGroup):
    """Which way the sculpt faces, or how far along it a texel lies."""

    by: Annotated[
        Literal["facing", "place"],
        setting("By", "How far the surface faces the way, or where along it a texel lies in the sculpt's box."),
    ] = "facing"
    way: Annotated[
        Way, setting("Way", "An axis of the file such as +y, or three numbers such as 1 2 0; white lies that way.")
    ] = "+y"
    sharpness: Annotated[
        float, setting("Sharpness", "1 fades from end to end; more makes a narrower border.", "times", ge=0.1, le=1000)
    ] = 1.0
    middle: Annotated[
        float,
        setting(
            "Middle",
            "Where mid-grey lies: 0 across the way or in the box's middle, -1 and 1 at its ends.",
            "",
            ge=-1,
            le=1,
        ),
    ] = 0.0


class Rounded(SettingsGroup):
    """Normals as if edges were rounded."""

    radius: Annotated[
        float, setting("Radius", "Surfaces nearer than this share their normals.", "unit", gt=0, le=1e6)
    ] = 1.0
    unit: RadiusUnit = "percent"
    edges: Annotated[
        Literal["all", "convex", "concave"],
        setting("Rounds", "All edges, or outer edges alone, or inner ones alone."),
    ] = "all"
    rays: Annotated[
        int, setting("Rays", "In each texel, shared by its samples.", "a texel", ge=1, le=4096), COUNTS_RAYS
    ] = 64
    denoise: Denoise = True
    surroundings: Surroundings = "pair"


class Ids(SettingsGroup):
    """One flat colour for each of something."""

    by: Annotated[
        Literal["material", "object", "part", "color", "pair", "file", "library"],
        setting(
            "One for each",
            "Material, object, connected part, vertex colour, pair or file of the sculpt. Or material of the library "
            "as assigned, elsewhere by the sculpt's own names.",
        ),
    ] = "material"
    masks: Annotated[bool, setting("Masks", "Writes a black-and-white picture for each colour too.")] = False
    layers: Annotated[
        bool,
        setting(
            "OpenRaster",
            "Writes an OpenRaster file too: for each channel of the material library a folder of masked layers, one an "
            "ID. The ID map lies below; what is not in the library keeps its own colour.",
        ),
    ] = False
    psd: Annotated[
        bool, setting("PSD", "Writes the same layers as a PSD, for programs that do not read OpenRaster.")
    ] = False
    colors: Annotated[
        dict[str, Annotated[str, Field(pattern="^#[0-9a-fA-F]{6}$")]],
        setting("Colours", "Colours chosen by hand, by name; the others follow from the name."),
    ] = Field(default_factory=dict)
