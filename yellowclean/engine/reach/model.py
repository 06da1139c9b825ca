"""What a Reach may be made of: tones, hues, drawn shapes, detail, and the cleaning of the matte."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from ..frames import CV_SCALE, Array
from ..parameters import Parameters, quantity

SOFTENED_SIGMA = 2.0
"""Pixels by which the picture is softened before it is judged, so that noise does not speckle the matte."""

MOST_SOFTEN, MOST_GROWTH, MOST_SPECK = 20.0, 20, 10

Point = Annotated[list[float], Field(min_length=2, max_length=2)]


class Tones(Parameters):
    """A range of luma, full inside and fading out over a shoulder beyond both ends."""

    low_cv: float = quantity(
        0, "From", "Lowest luma; 0 has no lower end.", unit="CV", least=0, most=CV_SCALE, step=8
    )
    high_cv: float = quantity(
        CV_SCALE, "To", "Highest luma; 1023 has no upper end.", unit="CV", least=0, most=CV_SCALE, step=8
    )
    soft_cv: float = quantity(
        64, "Shoulder", "Over how much it fades out at each end.", unit="CV", least=1, most=CV_SCALE, step=8
    )

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.low_cv > self.high_cv:
            raise ValueError("low_cv must not lie above high_cv")
        return self


class HueSample(Parameters):
    """A range of hue in the Cb Cr plane, as sampled on the picture; `remove` takes it away from the others."""

    hue_deg: float = quantity(
        0, "Hue", "Angle from the Cb axis towards the Cr axis.", unit="°", least=0, most=360, step=1
    )
    width_deg: float = quantity(
        15, "Width", "Half of the range that is taken fully.", unit="°", least=1, most=180, step=1
    )
    soft_deg: float = quantity(15, "Shoulder", "Over how much it fades out.", unit="°", least=1, most=90, step=1)
    least_cv: float = quantity(
        8, "Least colour", "Length of (Cb, Cr) from which on a place counts: greys have no hue.",
        unit="CV", least=0, most=512, step=1,
    )  # fmt: skip
    remove: bool = False


class ShapeKey(Parameters):
    """The points of a shape at a frame, in source pixels (x, y)."""

    frame: int = Field(ge=0)
    points: list[Point]

    @model_validator(mode="after")
    def _finite(self) -> Self:
        if not np.isfinite(np.array(self.points)).all():
            raise ValueError("points must be finite")
        return self


class Shape(Parameters):
    """An ellipse (its centre and the ends of two half-axes) or a polygon. Between keys the points move along
    straight lines; before the first and after the last they rest."""

    kind: Literal["ellipse", "polygon"]
    keys: list[ShapeKey] = Field(min_length=1)
    soft_px: float = quantity(
        24, "Soft edge", "Its width, half of it on each side.", unit="px", least=1, most=500, step=1
    )
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


class Detail(Parameters):
    """Edges, or the flat areas between them."""

    where: Literal["edges", "flats"]
    steepness: float = quantity(
        1.0, "Steepness", "Rise a pixel, in sigma of the noise, from which on it is an edge.",
        unit="σ", least=0.1, most=20, step=0.1,
    )  # fmt: skip
    growth_px: int = quantity(
        3, "Growth", "By how much edges are widened.", unit="px", least=0, most=MOST_GROWTH, step=1
    )


class Cleanup(Parameters):
    """Cleaning of the finished matte, in this order."""

    specks_px: int = quantity(
        0, "Drop specks", "Radius up to which lone spots go.", unit="px", least=0, most=MOST_SPECK, step=1
    )
    holes_px: int = quantity(
        0, "Fill holes", "Radius up to which holes are filled.", unit="px", least=0, most=MOST_SPECK, step=1
    )
    floor: float = quantity(0, "Floor", "What lies below counts as none.", unit="%", least=0, most=99, step=1)
    ceiling: float = quantity(100, "Ceiling", "What lies above counts as all.", unit="%", least=1, most=100, step=1)
    soften_px: float = quantity(
        0, "Soften", "Deviation of the blur at the end.", unit="px", least=0, most=MOST_SOFTEN, step=0.5
    )

    @model_validator(mode="after")
    def _ordered(self) -> Self:
        if self.floor >= self.ceiling:
            raise ValueError("floor must lie below ceiling")
        return self


class Reach(Parameters):
    """Where a step acts: the product of its parts. Nothing asked for is everywhere."""

    tones: Tones | None = None
    hues: list[HueSample] = Field(default_factory=list)
    shapes: list[Shape] = Field(default_factory=list)
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
