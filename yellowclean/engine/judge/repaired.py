"""What a repair leaves of its fault and what it breaks, at one frame and region: the fault by its own detector, the
damage by the measures of overwork that watch over repairs; likewise softness, where detail is restored."""

from __future__ import annotations

from dataclasses import dataclass

from ..footage import Footage
from ..frames import Region
from ..measure.findings import Detector
from ..pipeline import Pipeline
from ..plan import Plan
from ..treat import Treatment
from .again import MEASURED, Treated, read_by
from .overwork.base import Evidence
from .overwork.repairs import DRAINED, ERRORS, FADES, GHOSTS, POINTS, SHAPES
from .overwork.restored import CRAWLING, INVENTED, NOISE, OVERSHOOT

WIDE, TALL = 640, 360
"""Pixels that a region is grown to, so that a detector finds in it what it finds in the frame."""

OVER_TIME = 24
"""Frames to each side that a fault over time is read from."""

MENDING = POINTS, GHOSTS, FADES, SHAPES, ERRORS, DRAINED
RESTORING = OVERSHOOT, NOISE, CRAWLING, INVENTED


@dataclass(frozen=True, slots=True)
class Repaired:
    """The finding's value, in its unit; and the damage, where 1 is too much, by the measure that found most."""

    left: float
    damage: float
    most: str


class RepairAt:
    """A frame and region at which settings of one step are judged: one that mends alone, one that restores detail
    with the work before it, since it acts on what that leaves."""

    def __init__(self, footage: Footage, plan: Plan, treatment: Treatment, n: int, region: Region) -> None:
        self._footage, self._n, self._region = footage, n, _grown(region, footage.whole)
        self._treatment, self._watching = treatment, RESTORING if treatment.restores else MENDING
        untouched = Pipeline(footage, plan.only(self._before))
        self._curve = Pipeline(footage, plan).around.profile.curve
        able = [MEASURED[kind] for kind in treatment.treats if kind in MEASURED]
        found = [(self._read(detector, untouched), detector) for detector in able]
        self.before, self.detector = max(found, key=lambda told: told[0] / told[1].tolerance)

    def of(self, plan: Plan) -> Repaired:
        """What a plan's step leaves and breaks."""
        judged = plan.only(lambda treatment: treatment is self._treatment or self._before(treatment))
        pipeline = Pipeline(self._footage, judged)
        left = self.before
        told = [(0.0, self._watching[0].title)]
        if pipeline.plan.steps:
            left = self._read(self.detector, pipeline)
            evidence = Evidence(pipeline, self._n, self._region)
            told = [(m.read(evidence).value / m.limit, m.title) for m in self._watching]
        damage, most = max(told)
        return Repaired(left, damage, most)

    def _before(self, other: Treatment) -> bool:
        """Whether another treatment's work belongs to what the judged one is handed."""
        return self._treatment.restores and not (other.restores or other.reshapes)

    def _read(self, detector: Detector, pipeline: Pipeline) -> float:
        side = OVER_TIME if detector.every_frame else detector.beside
        return read_by(detector, Treated(pipeline, self._region), self._n, side, self._curve).value


def _grown(region: Region, frame: Region) -> Region:
    """A region of at least WIDE×TALL around, as far as the frame holds one."""
    width, height = (max(a, min(b, c)) for a, b, c in (
        (region.width, WIDE, frame.width), (region.height, TALL, frame.height)
    ))  # fmt: skip
    x = min(max(region.x - (width - region.width) // 2, 0), frame.width - width)
    y = min(max(region.y - (height - region.height) // 2, 0), frame.height - height)
    return Region(x, y, width, height)
