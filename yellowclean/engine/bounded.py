"""Types for documents that come from outside: every number finite and in a range that means something, every text
one that can be kept and shown."""

from __future__ import annotations

from typing import Annotated

from pydantic import AfterValidator, Field

MOST_STEPS = 64
"""Of a plan: a dozen is much."""

MOST_LEVELS = 4096
"""Points of a curve."""


def _plain(text: str) -> str:
    if any(c == "\x00" or "\ud800" <= c <= "\udfff" for c in text):
        raise ValueError("text must hold no NUL and no half of a pair")
    return text


Text = Annotated[str, Field(max_length=10_000), AfterValidator(_plain)]

Name = Annotated[str, Field(max_length=100), AfterValidator(_plain)]

Label = Annotated[str, Field(max_length=8), AfterValidator(_plain)]
"""Of a version: a letter, or a few."""

Level = Annotated[float, Field(ge=-1e7, le=1e7, allow_inf_nan=False)]
"""A code value of 10 bits; floating point footage goes far beyond 1023."""

Sigma = Annotated[float, Field(ge=0, le=1e7, allow_inf_nan=False)]
"""A deviation in code values."""

Deviation = Annotated[float, Field(ge=0, le=1e4, allow_inf_nan=False)]
"""A deviation beside that of white noise."""

Correlation = Annotated[float, Field(ge=-1.01, le=1.01, allow_inf_nan=False)]
"""Measured ones may lie a little beyond 1."""
