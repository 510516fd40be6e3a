"""What a setting is: a value with a title, a reason, a unit and a range."""

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


def setting(title: str, reason: str, unit: str = "", **limits: Any) -> Any:
    """A Pydantic field with what the interface shows beside it."""
    return Field(title=title, description=reason, json_schema_extra={"unit": unit}, **limits)


class Part(BaseModel):
    """A group of settings; unknown names are refused so that a typing error is seen."""

    model_config = ConfigDict(extra="forbid", validate_assignment=True)
