"""Pixels as boxes of light: a picture through larger ones, and what they show laid back over finer ones."""

from __future__ import annotations

from fractions import Fraction

import cv2
import numpy as np

from ..frames import Array


def through_larger(planes: Array, times: Fraction) -> Array:
    """Planes, C×H×W, in pixels `times` as large: the mean of what each of them covers."""
    size = round(planes.shape[2] / times), round(planes.shape[1] / times)
    return np.stack([cv2.resize(plane, size, interpolation=cv2.INTER_AREA) for plane in planes])


def through_finer(planes: Array, times: Fraction) -> Array:
    """Planes, C×H×W, in pixels the `times`-th part as large: the mean of what each of them lies in."""
    return np.stack([_finer(plane, times) for plane in planes])


def _finer(plane: Array, times: Fraction) -> Array:
    """Each pixel repeated, and means of as many as are one again; across first, then down."""
    (height, width), many = plane.shape, times.numerator
    if times.denominator == 1:
        return cv2.resize(plane, (width * many, height * many), interpolation=cv2.INTER_NEAREST)
    wide = round(width * times)
    for repeated, averaged in (
        ((width * many, height), (wide, height)),
        ((wide, height * many), (wide, round(height * times))),
    ):
        plane = cv2.resize(plane, repeated, interpolation=cv2.INTER_NEAREST)
        plane = cv2.resize(plane, averaged, interpolation=cv2.INTER_AREA)
    return plane
