"""Cuts: frames with which another picture begins.

How far two frames are apart is told by the correlation of their coarse luma, which is blind to gain and lift, so
that lights and flashes are no cuts. A cut stands out from the frames around it (as in adaptive content detection,
common practice, no source), and what it parts stays parted a frame later.
"""

from __future__ import annotations

from array import array

import cv2
import numpy as np

from ..frames import Array

COARSE = 32, 18
"""Cells across and down: a quick pan moves few of them, and noise is gone."""

FLAT = 0.004**2
"""Variance of a picture in which there is nothing to compare: four of 1023 codes."""

APART, AROUND, TIMES = 0.3, 4, 3.0
"""Least distance of a cut; frames each way that it is compared with, and how many times their distance it has."""

SHORTEST = 4
"""Frames; of cuts that are nearer to each other the larger is one, as where a picture goes through black."""


class Cuts:
    """Takes the luma of a shot's frames in their order; two numbers of each are kept."""

    def __init__(self) -> None:
        self._before: Array | None = None
        self._here: Array | None = None
        self._frames = array("q")
        self._apart = array("d")
        self._after = array("d")

    def see(self, n: int, plane: Array) -> None:
        coarse = _coarse(plane)
        if self._here is not None:
            self._apart.append(_distance(self._here, coarse))
            if self._before is not None:
                self._after.append(_distance(self._before, coarse))
        self._frames.append(n)
        self._before, self._here = self._here, coarse

    def found(self) -> list[int]:
        """Numbers of the frames with which another picture begins."""
        apart = np.array(self._apart)
        after = np.append(self._after, np.inf)[: len(apart)]  # of the last step nothing is known a frame later
        found = list[int]()
        for k in np.flatnonzero((apart > APART) & (after > APART)):
            around = np.concatenate([apart[max(k - AROUND, 0) : k], apart[k + 1 : k + 1 + AROUND]])
            if len(around) and apart[k] <= TIMES * np.median(around):
                continue
            if found and k - found[-1] < SHORTEST:
                found[-1] = max(found[-1], int(k), key=lambda step: apart[step])
            else:
                found.append(int(k))
        return [self._frames[k + 1] for k in found]


def _coarse(plane: Array) -> Array:
    small = np.asarray(cv2.resize(plane, COARSE, interpolation=cv2.INTER_AREA), np.float32)
    less: Array = small - small.mean()
    return less


def _distance(one: Array, other: Array) -> float:
    """0 for pictures alike but for gain and lift, 1 for such as have nothing in common, up to 2."""
    power = (float((one * one).mean()) + FLAT) * (float((other * other).mean()) + FLAT)
    return 1 - (float((one * other).mean()) + FLAT) / power**0.5
