"""How far a plan's result is from the truth, estimated without knowing the truth.

Stein's unbiased risk estimate (Stein 1981) in its Monte-Carlo form (Ramani, Blu, Unser 2008), for
correlated noise: with noise of covariance C, E|f(y) - x|² = E|f(y) - y|² - tr C + 2 tr(C·J), and the last
term is found by nudging the source with noise of the same covariance. What follows the nudge bounds from above
how much of the noise is left (Poincaré's inequality); the rest of the error is structure. Where their sum is
lowest, more strength begins to cost more than it brings. Where a codec made the noise of one frame from that of
others, that term is instead read from frames held out (`held_out`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ..footage import Footage
from ..frames import Array, Frame, Region
from ..motion import Track
from ..noise.field import grain_field
from ..noise.stabilise import Stabiliser
from ..pipeline import Pipeline
from ..plan import Plan
from .held_out import HeldOut, held_out

NUDGE = 0.12
"""Size of the nudge in sigma: small beside the noise, large beside what rounding does."""

SURROUNDINGS = 96
"""Pixels around the region that are nudged too."""


@dataclass(frozen=True, slots=True)
class Share:
    """Parts of the noise's own power: what the result is off the truth, and how much of that is noise."""

    error: float
    noise: float

    @property
    def structure(self) -> float:
        """The rest of the error: detail that was lost, and what was drawn in its place."""
        return max(self.error - self.noise, 0.0)


@dataclass(frozen=True, slots=True)
class Risk:
    """Estimates for luma and chroma: 1 is untouched, 0 the truth."""

    luma: Share
    chroma: Share


@dataclass(frozen=True, slots=True)
class Nudge:
    """How a region looks and follows, axes×H×W in the stabilised domain: source, result, noise of the profile's
    covariance (variance as measured), and what the result does when the source is moved by it; with what the source
    is held against, where a codec carries its noise."""

    source: Array
    result: Array
    field: Array
    follows: Array
    held: HeldOut | None = None


class RiskAt:
    """One frame and region of the source at which plans of one profile and format are judged, in the stabilised
    domain behind their steps that reshape or mend; what they share is computed once."""

    def __init__(self, footage: Footage, plan: Plan, n: int, region: Region, *, seed: int = 1) -> None:
        """`plan` is any of those that will be judged."""
        self._footage, self._n, self._region = footage, n, region
        reference = Pipeline(footage, plan.mending())
        profile, self._stabiliser = reference.around.profile, reference.around.stabiliser
        self._variance = (profile.spectrum_array()[:, 0] ** 2).mean(axis=(1, 2))
        wider = max(SURROUNDINGS, round(SURROUNDINGS / min(reference.format.per_pixel_of(reference.formats[0]))))
        self._nudged = _Nudged(footage, plan, region.grown(wider), seed)
        self._source = self._result(reference)
        self._field = (self._result(reference.over(self._nudged)) - self._source) / np.float32(NUDGE)
        self._held = held_out(reference, n, region) if profile.carried else None

    @property
    def held_out(self) -> bool:
        """Whether frames held out tell the error; else Stein's estimate does."""
        return self._held is not None

    def typical_apart(self) -> float:
        """What frames held out typically differ by in luma, in parts of what the noise of both explains."""
        assert self._held is not None
        return self._held.typical() / (2 * float(self._variance[0]))

    def of(self, plan: Plan) -> Risk:
        """The risk of a plan of that profile and format."""
        found = self.nudge_of(Pipeline(self._footage, plan))
        taken = found.source - found.result
        if self._held:
            explained = self._held.explained(taken)
        else:
            explained = self._variance - (self._field * found.follows).mean(axis=(1, 2))
        error = self._variance - 2 * explained + (taken**2).mean(axis=(1, 2))
        noise = (found.follows**2).mean(axis=(1, 2))
        return Risk(self._share(error, noise, [0]), self._share(error, noise, [1, 2]))

    def nudge_of(self, pipeline: Pipeline) -> Nudge:
        """How a pipeline of that profile and format answers to the nudge."""
        plain, moved = (self._result(p) for p in (pipeline, pipeline.over(self._nudged)))
        return Nudge(self._source, plain, self._field, (moved - plain) / np.float32(NUDGE), self._held)

    def _share(self, error: Array, noise: Array, axes: list[int]) -> Share:
        power = self._variance[axes].sum()
        return Share(float(error[axes].sum() / power), float(noise[axes].sum() / power))

    def _result(self, pipeline: Pipeline) -> Array:
        return self._stabilised(pipeline.frame(self._n, self._region))

    def _stabilised(self, rgb: Frame) -> Array:
        return self._stabiliser.opponent(np.ascontiguousarray(rgb))


class _Nudged(Footage):
    """Footage with a little more of its own noise around a place, other noise in every frame, so that what is
    left of it shows what is left of the noise. Motion is that of the original."""

    def __init__(self, footage: Footage, plan: Plan, around: Region, seed: int) -> None:
        super().__init__(footage.source)
        assert plan.profile is not None  # a plan with steps has one, by its schema
        self._original, self._profile, self._seed = footage, plan.profile, seed
        self._stabiliser = Stabiliser.of(plan.profile)
        self._around = around.clipped(footage.info.width, footage.info.height)

    def _read(self, n: int) -> Frame:
        frame = self._original.frame(n).copy()
        place = self._around.slices
        piece = np.ascontiguousarray(frame[place])
        before = self._stabiliser.opponent(piece)
        after = before + np.float32(NUDGE) * grain_field(self._profile, self._seed, n, self._around)
        nothing = np.zeros((2, *piece.shape[:2]), np.float32)
        frame[place] = self._stabiliser.applied(piece, before, after, nothing)
        return frame

    def motion(self, n: int, neighbour: int) -> Track:
        return self._original.motion(n, neighbour)

    def steadied(self, n: int, neighbour: int, among: Sequence[int] = (), error: float = 0.0) -> Track:
        return self._original.steadied(n, neighbour, among, error)
