"""What a treatment is: a parameter model, what it needs around a pixel, and a function."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ..frames import Array, Frame, Region
from ..measure.profile import NoiseProfile
from ..motion import Track
from ..parameters import Parameters
from .stabilise import Stabiliser


@dataclass(frozen=True, slots=True)
class Picture:
    """A frame on its way through a plan, with the noise that is left in it.

    `noise` (2×H×W) is the variance left in luma and in chroma as a share of the profile's: 1 is
    untouched. Later steps work only as hard as is still needed.
    """

    rgb: Frame
    noise: Array

    @staticmethod
    def untouched(rgb: Frame) -> Picture:
        return Picture(rgb, np.ones((2, *rgb.shape[:2]), np.float32))

    def part(self, region: Region) -> Picture:
        """A copy of a region."""
        rows, columns = region.slices
        return Picture(self.rgb[rows, columns].copy(), self.noise[:, rows, columns].copy())


@dataclass(frozen=True, slots=True)
class Need:
    """What a step asks of the step before: frames back and ahead, pixels around, block grid."""

    back: int = 0
    ahead: int = 0
    margin: int = 0
    grid: int = 1


class Around(Protocol):
    """What a treatment may ask the pipeline for, besides the pictures it was handed."""

    @property
    def profile(self) -> NoiseProfile: ...

    @property
    def stabiliser(self) -> Stabiliser: ...

    def motion(self, n: int, neighbour: int) -> Track:
        """Motion of the source from frame n to a neighbour."""


@dataclass(frozen=True, slots=True)
class Window:
    """What a treatment works on: frame n over a region whose corner is at (x, y) of the frame, and the
    numbers of the neighbours there are. A neighbour is pulled only when asked for, so that a step
    holds one at a time; beyond the ends of the shot there are none. `wanted` is the part of `here`
    that the step must deliver, in coordinates of the window; the rest is its margin.
    """

    n: int
    x: int
    y: int
    here: Picture
    wanted: Region
    neighbours: tuple[int, ...]
    pull: Callable[[int], Picture]


@dataclass(frozen=True, slots=True)
class Treatment:
    """One kind of step. `apply` returns the wanted part of its window."""

    kind: str
    title: str
    treats: tuple[str, ...]
    order: int
    parameters: type[Parameters]
    need: Callable[[Any], Need]
    apply: Callable[[Any, Window, Around], Picture]
