"""Reach: how far rays may travel, which way they leave the low, and the shape of the cage."""

from typing import Annotated, Literal

from ..base.setting import SettingsGroup, Unit, scene_units, setting
from .regions import Directions


class Reach(SettingsGroup):
    """How far a ray may travel from the surface of the low."""

    unit: Annotated[
        Literal["percent", "scene"],
        setting("Given in", "Per cent of the low's diagonal fits any model; scene units are exact."),
    ] = "percent"
    outward: Annotated[
        float,
        setting(
            "Outward",
            "Rays start this far out. Smaller leaves holes, larger picks up neighbours.",
            "reach",
            ge=0,
            le=1e6,
        ),
    ] = 1.5
    inward: Annotated[
        float,
        setting(
            "Inward", "Rays end this far below the low. It should just pass the deepest groove.", "reach", ge=0, le=1e6
        ),
    ] = 1.5

    directions: Annotated[
        Directions,
        setting(
            "Directions",
            "Averaged rays leave no gap at hard edges but lean near them. Split rays keep to each face's own normal, "
            "and leave gaps beyond hard edges.",
        ),
    ] = "averaged"
    straighten: Annotated[
        bool,
        setting(
            "Straighten flat faces",
            "Away from bends, rays leave flat faces at right angles; what stands off them is not drawn leaning.",
        ),
    ] = False
    bend: Annotated[
        float,
        setting("Turn within", "From a bend up to here rays turn from averaged to straight.", "margin", gt=0, le=1e6),
    ] = 3.0

    shape: Annotated[
        Literal["even", "fitted"],
        setting(
            "Shape",
            "Even: rays start at the outward reach everywhere. Fitted: farther out where the sculpt stands out of it, "
            "nearer where they would start behind something else, smoothly.",
        ),
    ] = "even"
    clearance: Annotated[
        float,
        setting("Clearance", "How far beyond what it must hold a fitted cage stays.", "margin", ge=0, le=1e6),
    ] = 0.05
    margin_unit: Annotated[
        Unit,
        setting("Clearance and turn in", "Per cent of the low's diagonal fits any model; scene units are exact."),
    ] = "percent"

    def in_scene_units(self, diagonal: float) -> tuple[float, float]:
        """Outward and inward reach in the file's units, for a low of that diagonal."""
        return self.outward * self.scale(diagonal), self.inward * self.scale(diagonal)

    def scale(self, diagonal: float) -> float:
        """Scene units in one of the unit that reach is given in, for a low of that diagonal."""
        return scene_units(self.unit, diagonal)

    def margin_scale(self, diagonal: float) -> float:
        """Scene units in one of the unit of clearance and turn."""
        return scene_units(self.margin_unit, diagonal)
