"""What a measure of overwork looks at, and what it says."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import CV_SCALE, Array, Frame, Region, luma
from ...motion import Track
from ...noise.profile import NoiseProfile
from ...pipeline import Pipeline
from ..risk import Nudge, RiskAt
from .foretold import Foretold, Large, Small, foretold

Mask = npt.NDArray[np.bool_]

BANDS = 1.0, 2.0, 4.0
"""Blur in pixels that ends the fine, the medium and the coarse band."""

LEAST_SIGMA = 0.05 / CV_SCALE
"""Noise is taken for no less."""

SEEN = 0.5
"""Deviations of the noise from which on detail that was added counts."""

CALM, CALM_AROUND = 1.4, 7.0
"""Times the noise's own power that a place has at most which shows nothing else, and the blur in pixels over which
that is told: water that sparkles is not the same twice either."""

ENOUGH_PLAIN = 0.005
"""Share of the picture that has to be plain for anything to be told."""


@dataclass(frozen=True, slots=True)
class Reading:
    """One measure at one place: the value in its unit, a map over the region (H×W in units of the limit: from 1 on
    it is too much), and a word on what was found."""

    value: float
    map: Array
    detail: str = ""


@dataclass(frozen=True, slots=True)
class Measure:
    """A measure: from `limit` on the work is too much, from half of it on it deserves a look."""

    kind: str
    title: str
    unit: str
    limit: float
    says: str
    read: Callable[[Evidence], Reading]


class Evidence:
    """A frame and region of source and result, with what several measures need computed once. The source is
    brought into the format of the result, by the steps that reshape, and what no scene shows is mended in it;
    `untouched` still has its single things."""

    def __init__(
        self, pipeline: Pipeline, n: int, region: Region | None = None, *, risk: RiskAt | None = None
    ) -> None:
        """`region` is in pixels of the source, `place` and maps in those of the result. `risk` may be shared by
        several results of the same footage, profile, format, frame and region."""
        self.n, self._risk, self.whole_plan = n, risk, pipeline
        self.restores = pipeline.plan.restores
        self.pipeline = pipeline.following(pipeline.plan.taking()) if self.restores else pipeline
        self.reference, self.around = pipeline.mended, pipeline.around
        self.region = region or pipeline.footage.whole
        self.place = pipeline.covered(self.region)
        self.shape = self.place.height, self.place.width

    @cached_property
    def source(self) -> Frame:
        return self.reference.frame(self.n, self.region)

    @cached_property
    def but_specks(self) -> Pipeline:
        """The reference with all mended in it but single things."""
        wanted = self.pipeline.plan.only(lambda t: t.reshapes or (t.mends and not t.marks))
        return Pipeline(self.pipeline.footage, wanted)

    @cached_property
    def untouched(self) -> Frame:
        return self.but_specks.frame(self.n, self.region)

    @cached_property
    def result(self) -> Frame:
        return self.pipeline.frame(self.n, self.region)

    @cached_property
    def restored(self) -> Frame:
        """The result with the steps that restore detail."""
        return self.whole_plan.frame(self.n, self.region)

    @cached_property
    def change(self) -> Frame:
        """Result less source."""
        return self.result - self.source

    @property
    def neighbour(self) -> int | None:
        """The frame before, or the one after the first; none in a shot of one frame."""
        if self.pipeline.footage.info.frames < 2:
            return None
        return self.n - 1 if self.n else 1

    @cached_property
    def witnesses(self) -> list[tuple[Frame, Track]]:
        """The two nearest frames of the source that had no part in this one's result, and the motion to each; fewer
        in a shot that has no more."""
        far = self.whole_plan.around.without_part_in(self.n)[:2]
        return [(self.reference.frame(k, self.region), self.track(k)) for k in far]

    @cached_property
    def before_enlarging(self) -> Pipeline | None:
        """The steps before the last one that enlarges; None where none does."""
        pixels = [form.width * form.height for form in self.pipeline.formats]
        larger = [k for k, (given, made) in enumerate(pairwise(pixels)) if made > given]
        return self.pipeline.first(larger[-1]) if larger else None

    @cached_property
    def enlarged(self) -> list[Foretold]:
        """What that step added, held against the two nearest frames of the source that had no part in it; fewer in
        a shot that has no more, and none where no step enlarges."""
        before = self.before_enlarging
        if before is None:
            return []
        source, after = before.mended, self.pipeline.first(len(before.plan.steps) + 1)
        small = Small(luma(before.frame(self.n, self.region)), before.covered(self.region))
        times = after.format.per_pixel_of(before.format)
        large = Large(luma(after.frame(self.n, self.region)), after.covered(self.region), times)
        around = before.around
        return [
            foretold(
                small, large, luma(source.frame(k, self.region)), around.profile,
                around.motion(k, self.n), around.motion(self.n, k),
            )
            for k in after.around.without_part_in(self.n, reshaping=True)[:2]
        ]  # fmt: skip

    @cached_property
    def sigma(self) -> Array:
        """Luma noise at each pixel in frame units, by the profile, H×W."""
        return sigma_of(luma(self.source), self.around.profile)

    @cached_property
    def nudge(self) -> Nudge:
        """How source and result look and follow in the stabilised domain."""
        risk = self._risk or RiskAt(self.pipeline.footage, self.pipeline.plan, self.n, self.region)
        return risk.nudge_of(self.pipeline)

    def fetched(self, picture: Frame, track: Track) -> tuple[Frame, Mask]:
        """A neighbour's picture of the region brought here along the motion, and where that can be trusted."""
        y, x = np.indices(self.shape, np.float32)
        field = track.over(self.place)
        to_x, to_y = x + field[..., 0], y + field[..., 1]
        inside = (to_x >= 0) & (to_y >= 0) & (to_x <= self.shape[1] - 1) & (to_y <= self.shape[0] - 1)
        # the edge repeats: mirroring a picture of few pixels as far as motion leads would take for ever
        brought = cv2.remap(picture, to_x, to_y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
        return brought, inside & (field[..., 2] < 1)

    def track(self, neighbour: int) -> Track:
        return self.around.motion(self.n, neighbour)


def sigma_of(plane: Array, profile: NoiseProfile) -> Array:
    """Luma noise at each pixel of a plane, in its units."""
    return np.maximum(profile.curve.sigma_at(cv2.GaussianBlur(plane, (0, 0), 3), "luma"), np.float32(LEAST_SIGMA))


def bands(plane: Array) -> list[Array]:
    """Fine, medium and coarse detail of a plane, which add up to all but its blur of four pixels."""
    found, rest = [], plane
    for blur in BANDS:
        softer = cv2.GaussianBlur(plane, (0, 0), blur)
        found.append(rest - softer)
        rest = softer
    return found


def noise_in_bands(spectrum: Array) -> list[float]:
    """The share of noise's power that each band shows, by how its deviation lies over the coefficients of a DCT
    (8×8)."""
    squared = np.add.outer(*2 * [(np.arange(8) / 16) ** 2])
    through = [np.ones_like(squared), *(np.exp(-2 * (np.pi * blur) ** 2 * squared) for blur in BANDS)]
    power = spectrum**2 / np.mean(spectrum**2)
    return [float(np.mean(power * (finer - coarser) ** 2)) for finer, coarser in pairwise(through)]


def local(plane: Array | Mask, blur: float) -> Array:
    """Mean around each pixel."""
    mean: Array = cv2.GaussianBlur(plane.astype(np.float32), (0, 0), blur)
    return mean
