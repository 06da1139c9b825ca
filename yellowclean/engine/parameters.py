"""Parameter models: what a user can set, with title, help, unit, limits and default in one place. Their JSON
schemas are what the command line checks by and what the interface draws its controls from."""

from __future__ import annotations

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class Parameters(BaseModel):
    """Base of all parameter models: unknown names are refused, values are checked against limits."""

    model_config = ConfigDict(extra="forbid", frozen=True, validate_default=True)


def amount(default: float, title: str, help_text: str, *, most: float = 200.0) -> Any:
    """A parameter in percent of what was measured."""
    return Field(
        default, ge=0, le=most, title=title, description=help_text, json_schema_extra={"unit": "%", "step": 5}
    )


def quantity(
    default: float, title: str, help_text: str, *, unit: str, least: float, most: float, step: float
) -> Any:
    """A parameter in a physical unit, with its limits."""
    return Field(
        default, ge=least, le=most, title=title, description=help_text,
        json_schema_extra={"unit": unit, "step": step},
    )  # fmt: skip
