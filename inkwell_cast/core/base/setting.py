"""What a setting is: a value with a title, a reason, a unit and a range."""

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field


def setting(title: str, reason: str, unit: str = "", **limits: Any) -> Any:
    """A Pydantic field with what the interface shows beside it."""
    return Field(title=title, description=reason, json_schema_extra={"unit": unit}, **limits)


class CountsRays:
    """Marks a setting as a number of rays, in the metadata of its field."""


COUNTS_RAYS = CountsRays()


class SettingsGroup(BaseModel):
    """A group of settings; unknown names are refused so that a typing error is seen."""

    model_config = ConfigDict(extra="forbid", validate_assignment=True)


Unit = Literal["percent", "scene"]


def scene_units(unit: Unit, diagonal: float) -> float:
    """Scene units in one of a unit, for a low of that diagonal."""
    return diagonal / 100 if unit == "percent" else 1.0
