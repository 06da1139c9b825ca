"""Pixels as boxes of light: a picture through larger ones, and what they show laid back over finer ones."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction

import cv2
import numpy as np

from ..frames import Array


def through_larger(planes: Array, times: Fraction) -> Array:
    """Planes, C×H×W, in pixels `times` as large: the mean of what each of them covers."""
    size = round(planes.shape[2] / times), round(planes.shape[1] / times)
    return _each(planes, size, lambda plane, into: cv2.resize(plane, size, into, interpolation=cv2.INTER_AREA))


def through_finer(planes: Array, times: Fraction) -> Array:
    """Planes, C×H×W, in pixels the `times`-th part as large: the mean of what each of them lies in."""
    (_, height, width), many = planes.shape, times.numerator
    wide, _ = size = round(width * times), round(height * times)

    def repeated_and_averaged(plane: Array, into: Array) -> None:
        """Each pixel as often as makes a whole number, and means of as many as are one again; across, then down."""
        across = cv2.resize(plane, (width * many, height), interpolation=cv2.INTER_NEAREST)
        across = cv2.resize(across, (wide, height), interpolation=cv2.INTER_AREA)
        down = cv2.resize(across, (wide, height * many), interpolation=cv2.INTER_NEAREST)
        cv2.resize(down, size, into, interpolation=cv2.INTER_AREA)

    def repeated(plane: Array, into: Array) -> None:
        cv2.resize(plane, size, into, interpolation=cv2.INTER_NEAREST)

    return _each(planes, size, repeated if times.denominator == 1 else repeated_and_averaged)


def _each(planes: Array, size: tuple[int, int], made: Callable[[Array, Array], object]) -> Array:
    """Planes of a size (width, height), each made of one."""
    found = np.empty((len(planes), size[1], size[0]), np.float32)
    for plane, into in zip(planes, found, strict=True):
        made(plane, into)
    return found
