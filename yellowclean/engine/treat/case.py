"""What a treatment is told of a shot when it is asked how it would treat it, and what it answers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..format import Format
from ..measure.findings import Finding
from ..media import MediaInfo
from ..motion import Movement
from ..noise.profile import NoiseProfile
from ..reach.model import Reach

WORTH_MERGING = 0.02
"""Least share of the error that a merge over time has to save, since it costs several times the work."""


@dataclass(frozen=True, slots=True)
class Amount:
    """How many percent of a noise to take, and why, in one sentence."""

    percent: float
    reason: str


@dataclass(frozen=True, slots=True)
class Case:
    """A surveyed shot: its findings by kind, each with its tolerance, its noise and motion, and what was judged
    before any treatment is asked: how much of luma and of colour noise is worth taking, where the noise lives, how
    far a neighbour may differ, in σ, and whether noise reduction has to be gentle with what a codec did."""

    media: MediaInfo
    format: Format
    findings: dict[str, Finding]
    profile: NoiseProfile
    movement: Movement
    luma: Amount
    chroma: Amount
    reach: Reach
    where: str
    difference: float = 1.0
    gentle: bool = False
    merging_leaves: float | None = None
    """Estimated error of merging neighbours as a share of that of one frame alone; None where it was not judged."""
    scale: float | tuple[int, int] | None = None
    """Size asked for: a factor, or width and height in pixels."""
    space: str | None = None
    """Colour encoding asked for, by its name."""

    sharpen: bool = False
    """Whether the measured blur is to be undone even where it lies inside its tolerance."""
    by_hand: bool = False
    """Whether a step is added by hand, and only asks what was measured."""

    @property
    def worth_merging(self) -> bool:
        """Whether a merge over time leaves enough less for the work of reading and moving neighbours."""
        return self.frames > 1 and (self.merging_leaves is None or self.merging_leaves <= 1 - WORTH_MERGING)

    @property
    def frames(self) -> int:
        return self.media.frames

    def outside(self, kind: str) -> Finding | None:
        """The finding of a kind where it lies outside its tolerance."""
        finding = self.findings.get(kind)
        return finding if finding is not None and finding.outside else None


@dataclass(frozen=True, slots=True)
class Proposal:
    """How a treatment would treat a shot: settings, the reason in one sentence, and where."""

    settings: dict[str, Any]
    reason: str
    reach: Reach = field(default_factory=Reach)
