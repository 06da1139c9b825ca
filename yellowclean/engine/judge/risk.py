"""How far a plan's result is from the truth, estimated without knowing the truth.

Stein's unbiased risk estimate (Stein 1981) in its Monte-Carlo form (Ramani, Blu, Unser 2008), for
correlated noise: with noise of covariance C, E|f(y) - x|² = E|f(y) - y|² - tr C + 2 tr(C·J), and the last
term is found by nudging the source with noise of the same covariance. What it says holds noise left and
structure lost alike, so its lowest point is where more strength begins to cost more than it brings.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..frames import Array, Frame, Region
from ..measure.profile import NoiseProfile
from ..motion import Track
from ..pipeline import Footage, Pipeline
from ..plan import Plan
from ..treat.grain import grain_field
from ..treat.stabilise import Stabiliser

NUDGE = 0.25
"""Size of the nudge in sigma: small beside the noise, large beside what rounding does."""

SURROUNDINGS = 96
"""Pixels around the region that are nudged too."""


@dataclass(frozen=True, slots=True)
class Risk:
    """Estimated mean square error as a share of the noise's own: 1 is untouched, 0 the truth."""

    luma: float
    chroma: float


class RiskAt:
    """One frame and region at which plans of one profile are judged, in its stabilised domain; what they share
    is computed once."""

    def __init__(self, footage: Footage, profile: NoiseProfile, n: int, region: Region, *, seed: int = 1) -> None:
        self._footage, self._n, self._region = footage, n, region
        stabiliser = Stabiliser.of(profile)
        self._stabilised = stabiliser.opponent
        self._variance = (profile.spectrum_array()[:, 0] ** 2).mean(axis=(1, 2))
        frame = footage.frame(n)
        wide = region.grown(SURROUNDINGS).clipped(footage.info.width, footage.info.height)
        field = grain_field(profile, seed, n, wide)
        self._nudge = field[(slice(None), *region.within(wide).slices)]
        before = stabiliser.opponent(frame[wide.slices])
        nothing = np.zeros((2, wide.height, wide.width), np.float32)
        nudged = frame.copy()
        nudged[wide.slices] = stabiliser.applied(
            np.ascontiguousarray(frame[wide.slices]), before, before + np.float32(NUDGE) * field, nothing
        )
        self._source = stabiliser.opponent(np.ascontiguousarray(frame[region.slices]))
        self._nudged = _Nudged(footage, n, nudged)

    def of(self, plan: Plan) -> Risk:
        """The risk of a plan whose steps are measured by that profile."""
        plain, moved = (self._result(footage, plan) for footage in (self._footage, self._nudged))
        taken = ((plain - self._source) ** 2).mean(axis=(1, 2))
        follows = (self._nudge * (moved - plain)).mean(axis=(1, 2)) / NUDGE
        error = taken - self._variance + 2 * follows
        return Risk(
            float(error[0] / self._variance[0]),
            float((error[1] + error[2]) / (self._variance[1] + self._variance[2])),
        )

    def _result(self, footage: Footage, plan: Plan) -> Array:
        return self._stabilised(Pipeline(footage, plan).frame(self._n, self._region))


class _Nudged(Footage):
    """Footage with one frame replaced; decoded frames and motion are those of the original."""

    def __init__(self, footage: Footage, n: int, frame: Frame) -> None:
        super().__init__(footage.source)
        self._original, self._n, self._frame = footage, n, frame

    def frame(self, n: int) -> Frame:
        return self._frame if n == self._n else self._original.frame(n)

    def motion(self, n: int, neighbour: int) -> Track:
        return self._original.motion(n, neighbour)
