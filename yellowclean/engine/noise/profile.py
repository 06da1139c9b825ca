"""The noise profile: what was learnt about a camera's noise, as an open JSON document."""

from __future__ import annotations

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from ..bounded import MOST_LEVELS, Correlation, Deviation, Level, Sigma, Text
from ..colour.opponent import SIGNAL_MATRIX, SIGNALS
from ..errors import BadPlan
from ..frames import CV_SCALE, Array
from ..octaves import BLOCK, OCTAVES, white_deviations
from ..tables import read

LEAST_DEVIATION = 1e-3
"""An axis may hold no noise at all (grey pictures have no colour); no deviation is taken for smaller."""

MatrixOf3 = list[list[Correlation]]


class NoiseCurve(BaseModel):
    """Sigma against level, both in 10-bit code values; one level axis serves all signals."""

    model_config = ConfigDict(frozen=True)

    level_cv: Annotated[list[Level], Field(max_length=MOST_LEVELS)]
    r_cv: list[Sigma]
    g_cv: list[Sigma]
    b_cv: list[Sigma]
    luma_cv: list[Sigma]
    cb_cv: list[Sigma]
    cr_cv: list[Sigma]
    share: list[Deviation] = Field(description="Share of the measured pixels at each level, 0-1.")
    dead: list[Literal["r", "g", "b"]] = Field(
        [],
        description="Channels cut off at black or white nearly everywhere: they hold no noise and are left alone.",
    )

    cut: list[Literal["r", "g", "b"]] = Field(
        [], description="Channels nowhere whole: a part of their noise is cut off at black or white everywhere."
    )

    @model_validator(mode="after")
    def _same_length(self) -> Self:
        lists = [values for name, values in self.__dict__.items() if name not in {"dead", "cut"}]
        lengths = {len(values) for values in lists}
        if len(lengths) != 1 or min(lengths) < 2:
            raise ValueError("all lists of a noise curve need the same length, at least 2")
        if any(b <= a for a, b in zip(self.level_cv, self.level_cv[1:], strict=False)):
            raise ValueError("level_cv must rise")
        return self

    @property
    def broken(self) -> list[str]:
        """Channels whose clipping says nothing of a place, since it is everywhere."""
        return [*self.dead, *self.cut]

    def signal(self, name: str) -> Array:
        """Sigma of one of `SIGNALS` in CV, as an array over the levels."""
        return np.array(getattr(self, f"{name}_cv"), np.float32)

    def typical_cv(self, name: str) -> float:
        """Median sigma over the levels present, weighted by how much of the picture is there."""
        return weighted_median(self.signal(name), np.array(self.share))

    def sigma_at(self, level: Array, name: str) -> Array:
        """Sigma in frame units (0-1) at levels in frame units."""
        return read(np.asarray(level) * CV_SCALE, self.level_cv, self.signal(name) / CV_SCALE)


class NoiseProfile(BaseModel):
    """Noise of one camera at one setting.

    `spectrum[axis][octave]` holds 64 deviations of the 8×8 DCT coefficients (row by row), for the
    axes of `colour.opponent.OPPONENT` after each channel was divided by its sigma: white noise of
    independent channels reads 1 everywhere at the first octave.
    """

    model_config = ConfigDict(frozen=True, populate_by_name=True, allow_inf_nan=False)

    schema_id: Literal["yellow-clean/noise-profile/1"] = Field("yellow-clean/noise-profile/1", alias="schema")
    name: Text = ""
    curve: NoiseCurve
    correlation: MatrixOf3 = Field(description="Correlation of R', G' and B' noise.")
    spectrum: list[list[list[Deviation]]]
    coherence: list[list[list[Correlation]]] = Field(
        [],
        description="Correlation of the axes (first and second, first and third, second and third) in each"
        " coefficient of the spectrum; without it they count as independent.",
    )
    grain_px: float = Field(
        ge=0, le=1e4, description="Size of the grain: correlation length in pixels; 1 is white."
    )
    carried: bool = Field(
        False, description="Whether a codec that predicts frames from frames carries the noise along."
    )
    confidence: float = Field(ge=0, le=1)
    origin: Text = Field("", description="How and where it was measured.")

    @model_validator(mode="after")
    def _shapes(self) -> Self:
        shape = np.array(self.spectrum).shape
        if shape != (3, OCTAVES, BLOCK * BLOCK):
            raise ValueError(f"spectrum must be 3 axes × {OCTAVES} octaves × {BLOCK * BLOCK}, got {shape}")
        if np.array(self.correlation).shape != (3, 3):
            raise ValueError("correlation must be 3 × 3")
        if self.coherence and np.array(self.coherence).shape != shape:
            raise ValueError(f"coherence must be none or 3 pairs × {OCTAVES} octaves × {BLOCK * BLOCK}")
        return self

    def typical_cv(self, name: str) -> float:
        """That of the curve."""
        return self.curve.typical_cv(name)

    @property
    def chroma_cv(self) -> float:
        return float(np.sqrt((self.typical_cv("cb") ** 2 + self.typical_cv("cr") ** 2) / 2))

    def spectrum_array(self) -> Array:
        """3×OCTAVES×8×8, nowhere quite 0, so that what is measured in units of it stays finite."""
        found = np.array(self.spectrum, np.float32).reshape(3, OCTAVES, BLOCK, BLOCK)
        return np.maximum(found, np.float32(LEAST_DEVIATION))

    def against_white(self) -> Array:
        """3×OCTAVES×64: each deviation beside that of white noise of the same octave, which reads 1."""
        against: Array = self.spectrum_array().reshape(3, OCTAVES, -1) / white_deviations()
        return against

    def to_json(self) -> str:
        return self.model_dump_json(by_alias=True, indent=1)


def profile_from_json(text: str | bytes, where: str = "noise profile") -> NoiseProfile:
    """Read and check a profile document; raises `BadPlan` with one line."""
    try:
        return NoiseProfile.model_validate_json(text)
    except ValidationError as error:
        raise BadPlan(f"{where}: {first_problem(error)}") from error


def first_problem(error: ValidationError) -> str:
    """The first complaint of a schema check as one line."""
    problem = error.errors()[0]
    place = ".".join(str(part) for part in problem["loc"]) or "document"
    return f"{place}: {problem['msg']} (found {str(problem.get('input'))[:60]!r})."


def weighted_median(values: Array, weights: Array) -> float:
    """The value at which half of the weight is reached."""
    values, weights = np.asarray(values, np.float64), np.asarray(weights, np.float64)
    if weights.sum() <= 0:
        return float(np.median(values))
    order = np.argsort(values)
    reached = np.cumsum(weights[order]) - weights[order] / 2
    return float(np.interp(weights.sum() / 2, reached, values[order]))


def white_profile(sigma_cv: float | tuple[float, float, float], name: str = "white") -> NoiseProfile:
    """A profile of white noise with one sigma at all levels, for tests and as a manual start."""
    per_channel = (sigma_cv,) * 3 if isinstance(sigma_cv, int | float) else sigma_cv
    signals = np.sqrt((SIGNAL_MATRIX**2) @ np.array(per_channel, np.float32) ** 2)
    lists = {f"{s}_cv": [float(v)] * 2 for s, v in zip(SIGNALS, signals, strict=True)}
    return NoiseProfile(
        name=name,
        curve=NoiseCurve(level_cv=[0.0, CV_SCALE], share=[0.5, 0.5], **lists),
        correlation=np.eye(3).tolist(),
        spectrum=[white_deviations().tolist()] * 3,
        grain_px=1.0,
        confidence=1.0,
        origin="stated, not measured",
    )
