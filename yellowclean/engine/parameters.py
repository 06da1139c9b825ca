"""Parameter models: what a user can set, with title, help, unit, limits and default in one place. Their JSON
schemas are what the command line checks by and what the interface draws its controls from.

Kinds of controls: numbers (`amount`, `quantity`), choices, switches, colours and points. A schema tells them
apart by its key "control".
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationInfo, field_validator

Colour = Annotated[tuple[float, ...], Field(min_length=3, max_length=3)]
"""R', G' and B' in 10-bit code values."""

Point = Annotated[tuple[float, ...], Field(min_length=2, max_length=2)]
"""A place on the picture: x and y in pixels of the source."""


Places = tuple[tuple[int, int, int], ...]
"""Places in frames: the frame (-1 for all), x and y in pixels."""


class Parameters(BaseModel):
    """Base of all parameter models: unknown names are refused, values are checked against limits."""

    model_config = ConfigDict(extra="forbid", frozen=True, validate_default=True)

    @field_validator("*")
    @classmethod
    def _offered(cls, value: Any, info: ValidationInfo) -> Any:
        """What a control offers is all that may be set."""
        told = cls.model_fields[info.field_name or ""].json_schema_extra
        control = told.get("control") if isinstance(told, dict) else None
        if control == "choice" and value not in (options := told["enum"]):  # type: ignore[index, operator]
            raise ValueError(f"{value!r} is not offered; use one of {', '.join(map(str, options))}")  # type: ignore[arg-type]
        if control in {"colour", "point"} and not np.isfinite(value).all():
            raise ValueError("all numbers must be finite")
        return value


Only = Mapping[str, Sequence[str]] | None
"""Values of other parameters with which one counts; without them it is not shown."""


def amount(
    default: float, title: str, help_text: str, *, most: float = 200.0, curve: str = "", only: Only = None
) -> Any:
    """A parameter in percent of what was measured."""
    return quantity(default, title, help_text, unit="%", least=0, most=most, step=5, curve=curve, only=only)


def quantity(
    default: float,
    title: str,
    help_text: str,
    *,
    unit: str,
    least: float,
    most: float,
    step: float,
    curve: str = "",
    only: Only = None,
) -> Any:
    """A parameter in a physical unit, with its limits; those that name the same `curve` are points of one."""
    told: dict[str, Any] = {"control": "number", "unit": unit, "step": step}
    told |= ({"curve": curve} if curve else {}) | _only(only)
    return Field(default, ge=least, le=most, title=title, description=help_text, json_schema_extra=told)


def choice(
    default: str,
    title: str,
    help_text: str,
    *,
    options: Sequence[str] = (),
    names: Mapping[str, str] | None = None,
    only: Only = None,
) -> Any:
    """One of several options; `names` says what they are called on screen, where not as they are written."""
    told = {option: (names or {}).get(option, option) for option in options or (names or {})}
    return Field(
        default, title=title, description=help_text,
        json_schema_extra={"control": "choice", "enum": list(told), "names": list(told.values())} | _only(only),
    )  # fmt: skip


def _only(only: Only) -> dict[str, Any]:
    return {"only": {name: list(values) for name, values in only.items()}} if only else {}


def switch(default: bool, title: str, help_text: str, *, only: Only = None) -> Any:
    """Something that is on or off."""
    told = {"control": "switch"} | _only(only)
    return Field(default, title=title, description=help_text, json_schema_extra=told)


def places(title: str, help_text: str) -> Any:
    """Places in frames, for fields of type `Places`: chosen from a list or on the picture."""
    return Field((), title=title, description=help_text, json_schema_extra={"control": "places"})


def lut_file(title: str, help_text: str) -> Any:
    """A LUT file by its path; empty for none."""
    return Field("", title=title, description=help_text, json_schema_extra={"control": "lut"})


def colour(default: Sequence[float], title: str, help_text: str) -> Any:
    """A colour, for fields of type `Colour`: picked on the picture or typed."""
    return Field(
        tuple(default), title=title, description=help_text, json_schema_extra={"control": "colour", "unit": "CV"}
    )


def point(default: Sequence[float], title: str, help_text: str) -> Any:
    """A place, for fields of type `Point`: picked on the picture or typed."""
    return Field(
        tuple(default), title=title, description=help_text, json_schema_extra={"control": "point", "unit": "px"}
    )
