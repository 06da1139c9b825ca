"""Earlier compression: a block grid that the file's own codec cannot have left.

Codecs lay their blocks from the first pixel on. A grid that starts elsewhere, has another period, or
lies in a file that is coded without blocks, is that of an earlier generation: cropped, moved or scaled.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ...frames import CV_SCALE
from ...media import MediaInfo
from ...media.info import INTRA_CODECS
from .base import Detector, Finding, Look
from .blocking import LEAST_CERTAIN, PERIOD, grid_of

PERIODS = (PERIOD, 12)
"""Blocks of eight, and of eight made larger by one half."""

WITHOUT_BLOCKS = INTRA_CODECS - {"prores", "dnxhd", "mjpeg", "dvvideo", "hap"}


@dataclass(frozen=True, slots=True)
class Ghost:
    strength: float
    period: int
    offset: tuple[int, int]
    certain: float


def observe(look: Look) -> Ghost:
    ghosts = []
    for period in PERIODS:
        own = (0, 0) if period == PERIOD and look.info.codec not in WITHOUT_BLOCKS else None
        grid = grid_of(look.luma, period, own)
        certain = min(grid.certain)
        ghosts.append(Ghost(min(grid.strength) if certain >= LEAST_CERTAIN else 0.0, period, grid.offset, certain))
    return max(ghosts, key=lambda ghost: ghost.strength)


def conclude(seen: Sequence[tuple[int, Ghost]], info: MediaInfo) -> Finding:
    strengths = sorted(ghost.strength for _, ghost in seen)
    strength = strengths[len(strengths) // 2]
    worst, ghost = max(seen, key=lambda item: item[1].strength)
    detail = f"blocks of {ghost.period} px from x {ghost.offset[0]}, y {ghost.offset[1]}" if strength else ""
    return DETECTOR.finding(strength * CV_SCALE, worst, confidence=min(ghost.certain / 20, 1.0), detail=detail)


DETECTOR = Detector(
    "earlier compression", "CV", 0.8, 5, observe, conclude, about_source=True,
    instead="Ask for the first generation: an earlier codec's error is now part of the picture.",
)  # fmt: skip
"""Value: mean extra jump at the grid. Tolerance: as for blocking (common practice, no source)."""
