"""What a Reach may be made of: tones, hues, drawn shapes, detail, and the cleaning of the matte."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from ..frames import CV_SCALE, Array

SOFTENED_SIGMA = 2.0
"""Pixels by which the picture is softened before it is judged, so that noise does not speckle the matte."""

MOST_SOFTEN, MOST_GROWTH, MOST_SPECK = 20.0, 20, 10

Point = Annotated[list[float], Field(min_length=2, max_length=2)]


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")


class Tones(_Part):
    """A range of luma, full inside and fading out over `soft_cv` beyond both ends."""

    low_cv: float = Field(0, ge=0, le=CV_SCALE, description="Lowest luma; 0 has no lower end.")
    high_cv: float = Field(CV_SCALE, ge=0, le=CV_SCALE, description="Highest luma; 1023 has no upper end.")
    soft_cv: float = Field(64, ge=1, le=CV_SCALE, description="Width of each shoulder.")

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.low_cv > self.high_cv:
            raise ValueError("low_cv must not lie above high_cv")
        return self


class HueSample(_Part):
    """A range of hue in the Cb Cr plane, as sampled on the picture; `remove` takes it away from the others."""

    hue_deg: float = Field(ge=0, lt=360, description="Angle from the Cb axis towards the Cr axis.")
    width_deg: float = Field(15, ge=1, le=180, description="Half of the range that is taken fully.")
    soft_deg: float = Field(15, ge=1, le=90, description="Width of each shoulder.")
    least_cv: float = Field(8, ge=0, le=512, description="Least length of (Cb, Cr): greys have no hue.")
    remove: bool = False


class ShapeKey(_Part):
    """The points of a shape at a frame, in source pixels (x, y)."""

    frame: int = Field(ge=0)
    points: list[Point]

    @model_validator(mode="after")
    def _finite(self) -> Self:
        if not np.isfinite(np.array(self.points)).all():
            raise ValueError("points must be finite")
        return self


class Shape(_Part):
    """An ellipse (its centre and the ends of two half-axes) or a polygon. Between keys the points move along
    straight lines; before the first and after the last they rest."""

    kind: Literal["ellipse", "polygon"]
    keys: list[ShapeKey] = Field(min_length=1)
    soft_px: float = Field(24, ge=1, le=500, description="Width of the soft edge, half of it on each side.")
    invert: bool = Field(False, description="Keep the step out of the shape.")

    @model_validator(mode="after")
    def _drawable(self) -> Self:
        counts = {len(key.points) for key in self.keys}
        if len(counts) != 1:
            raise ValueError("all keys of a shape need the same number of points")
        if self.kind == "ellipse" and counts != {3}:
            raise ValueError("an ellipse has three points: its centre and the ends of two half-axes")
        if self.kind == "polygon" and not 3 <= min(counts) <= 64:
            raise ValueError("a polygon has 3 to 64 points")
        if any(b.frame <= a.frame for a, b in pairwise(self.keys)):
            raise ValueError("the frames of a shape's keys must rise")
        return self

    def points_at(self, n: int) -> Array:
        """K×2 points at frame n."""
        frames = [key.frame for key in self.keys]
        table = np.array([key.points for key in self.keys], np.float64)
        flat = table.reshape(len(frames), -1)
        found = np.array([np.interp(n, frames, flat[:, k]) for k in range(flat.shape[1])])
        return found.reshape(table.shape[1:])


class Detail(_Part):
    """Edges, or the flat areas between them."""

    where: Literal["edges", "flats"]
    steepness: float = Field(
        1.0, ge=0.1, le=20, description="Rise a pixel, in sigma of the noise, from which on it is an edge."
    )
    growth_px: int = Field(3, ge=0, le=MOST_GROWTH, description="Pixels by which edges are widened.")


class Cleanup(_Part):
    """Cleaning of the finished matte, in this order."""

    specks_px: int = Field(0, ge=0, le=MOST_SPECK, description="Radius up to which lone spots are dropped.")
    holes_px: int = Field(0, ge=0, le=MOST_SPECK, description="Radius up to which holes are filled.")
    floor: float = Field(0, ge=0, le=99, description="Percent of the matte that counts as none.")
    ceiling: float = Field(100, ge=1, le=100, description="Percent of the matte that counts as all.")
    soften_px: float = Field(0, ge=0, le=MOST_SOFTEN, description="Gaussian softening at the end.")

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.floor >= self.ceiling:
            raise ValueError("floor must lie below ceiling")
        return self


class Reach(_Part):
    """Where a step acts: the product of its parts. Nothing asked for is everywhere."""

    tones: Tones | None = None
    hues: list[HueSample] = []
    shapes: list[Shape] = []
    detail: Detail | None = None
    cleanup: Cleanup = Cleanup()
    invert: bool = False

    @property
    def everywhere(self) -> bool:
        return not (self.tones or self.hues or self.shapes or self.detail or self.invert)

    @property
    def margin(self) -> int:
        """Pixels around a region that decide its matte."""
        if self.everywhere:
            return 0
        judged = int(np.ceil(3 * SOFTENED_SIGMA)) + 1
        grown = self.detail.growth_px if self.detail else 0
        clean = self.cleanup
        return judged + grown + 2 * (clean.specks_px + clean.holes_px) + int(np.ceil(3 * clean.soften_px))
