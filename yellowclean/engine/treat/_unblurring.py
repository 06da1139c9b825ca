"""What undoing a blur leaves missing, foretold by a network that learned from drawn pictures alone.

The network (see training/sharpen.py) is given a plane as sharpened less its coarse part, what sharpening changed,
and what it withheld since noise might be in it, each as four planes of half the size; and the deviation of the
noise. It hands back what is missing still.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ..frames import Array
from ..learned import applied_both_ways, as_one, detail, of_four
from ..octaves import quartered

COARSE_PX = 4.0
"""Deviation of the blur that leaves the coarse part."""

GIVEN, FOURS, HANDED = 13, 3, 4
"""Planes that the network is given, how many times four of them are one, and planes that it hands back."""

LAYERS_REACH = 7
"""Pixels of half the size to each side that the network's layers see."""

REACH = 2 * LAYERS_REACH + 4 * int(COARSE_PX)
"""Pixels to each side that decide a pixel: OpenCV cuts the blur off at four deviations."""


class Undone(NamedTuple):
    """A plane (even sides), what undoing a blur changes in it, what it withheld since noise might be in it, and the
    deviation of the noise, all H×W."""

    plane: Array
    change: Array
    withheld: Array
    sigma: Array


def seen(undone: Undone) -> Array:
    """What the network is given, 13 planes of half the size."""
    sharpened = detail(undone.plane + undone.change, COARSE_PX)
    fours = [of_four(plane) for plane in (sharpened, -undone.change, undone.withheld)]
    return np.concatenate([*fours, quartered(undone.sigma)[None]]).astype(np.float32)


def missing(undone: Undone) -> Array:
    """What is to be added to the change, H×W."""
    return as_one(applied_both_ways("sharpen", seen(undone), LAYERS_REACH))
