"""When a frame is the one before once more."""

from __future__ import annotations

import numpy as np

from ..frames import Array

STEP = 4
SAME = 0.08
"""A change below this share of the usual one is a repeat (a codec may touch a repeat lightly)."""


def change_between(here: Array, before: Array) -> float:
    """Mean difference of two planes of luma, on every fourth pixel."""
    return float(np.abs(here[::STEP, ::STEP] - before[::STEP, ::STEP]).mean())


def repeated(change: float, usual: float, same: float = SAME) -> bool:
    """Whether so small a change is none, where frames usually change by `usual`."""
    return usual > 0 and change <= same * usual
