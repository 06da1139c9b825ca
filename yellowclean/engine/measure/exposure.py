"""How long each frame was exposed, told by what moved meanwhile.

An edge that moves across itself while it is exposed is smeared over that way: an even run of so many pixels, on top
of what the lens does to all. The blur of edges therefore grows with how fast they move across themselves, and those
that move along themselves stay as they are. What share of the motion from frame to frame explains that best is the
exposure. Pictures whose edges are softer one way than the other by themselves mislead it where all moves one way.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
import scipy

from ..frames import Array
from .blur import BLURS, DIFFERENCE, PIXEL, EdgeBlur, variance_told

DOUBT_PX, DOUBT_SHARE = 0.5, 0.1
"""How far from home may end what goes along its motion to the frame before and after, for that to be sure: in
pixels, and as a share of the motion."""

SPEEDS, ENOUGH = 10, 300
"""Classes of speed, of equally many edges, and edges from which on they say something."""

SHARP = 0.2
"""Share of a class's edges, the sharpest first and each weighed by the square of its gradient, below which its blur
lies."""

EXPOSURES = np.arange(0, 1.01, 0.02)
OWN = np.arange(-0.2, 6, 0.1)
"""Exposures, in parts of the time between frames, and variances of all other blur, in square pixels, to try."""

LONGEST, AMISS = 7.0, 0.15
"""Pixels over which an edge may be smeared and still be told as one, and what a class counts, in pixels, whose
edges would be smeared over more."""

MOST_AMISS, LEAST_AMISS = 0.5, 0.01
"""Between which pixels the mean of what is left unexplained is held: one class alone may be far off, and none is
known more closely."""

LEAST_VARIANCE = 0.1
"""Square pixels that are added before widths are compared: those of sharp edges vary most by chance."""

ACROSS_THE_GRID = PIXEL + DIFFERENCE * 0.75
"""Variance of a pixel and of the difference, of all directions on the mean."""


class Moving(NamedTuple):
    """Edges: the variance of each one's blur in square pixels, how many pixels it moves across itself from frame to
    frame, and its weight."""

    variance: Array
    speed: Array
    weight: Array


class Exposure(NamedTuple):
    """The part of the time between frames that each was exposed, how many times better it explains the edges than
    none would, and the way in pixels of the fastest edges."""

    share: float
    better: float
    way: float


def sure(apart: Array, length: Array) -> npt.NDArray[np.bool_]:
    """Whether motion of that length is to be believed that ends so far from home."""
    found: npt.NDArray[np.bool_] = apart < DOUBT_PX + DOUBT_SHARE * length
    return found


def moving(edges: EdgeBlur, motion: Array) -> Moving:
    """Edges (N) with their motion (N×2, pixels from frame to frame)."""
    speed = np.abs(motion[:, 0] * edges.along_x + motion[:, 1] * edges.along_y)
    return Moving(edges.variance, speed, edges.gradient**2)


def exposure(seen: Sequence[Moving]) -> Exposure | None:
    """The exposure of a shot from the edges of some of its frames; None with too few of them."""
    every = Moving(*(np.concatenate(parts) for parts in zip(*seen, strict=True)))
    if len(every.variance) < ENOUGH:
        return None
    speeds, widths = _by_speed(every)
    way = EXPOSURES[:, None, None] * speeds
    told = _width(_as_read(way, OWN[None, :, None]))
    apart = np.where(way < LONGEST, np.minimum(np.abs(told - widths), MOST_AMISS), AMISS)
    left = np.maximum(apart.mean(axis=2).min(axis=1), LEAST_AMISS)
    best = int(left.argmin())
    return Exposure(float(EXPOSURES[best]), float(left[0] / left[best]), float(EXPOSURES[best] * speeds.max()))


def _by_speed(edges: Moving) -> tuple[Array, Array]:
    """Speeds of some classes of edges, and how wide their sharper ones are."""
    order = np.argsort(edges.speed)
    speeds, widths = [], []
    for part in np.array_split(order, SPEEDS):
        sharpest = part[np.argsort(edges.variance[part])]
        weight = np.cumsum(edges.weight[sharpest].astype(np.float64))
        widths.append(_width(edges.variance[sharpest[np.searchsorted(weight, SHARP * weight[-1])]]))
        speeds.append(np.sqrt(np.mean(edges.speed[part] ** 2)))
    return np.array(speeds), np.array(widths)


def _width(variance: Array) -> Array:
    found: Array = np.sqrt(np.maximum(variance, 0) + LEAST_VARIANCE)
    return found


def _as_read(way: Array, own: Array) -> Array:
    """The variance that is read off an edge with some of its own that is smeared over so many pixels: its gradient
    is an even run, blurred, and not the Gaussian that it is taken for."""
    way = np.maximum(way, 1e-3)
    spread = [8 * np.maximum(own + blur**2 + ACROSS_THE_GRID, 0.05) for blur in BLURS[:2]]
    less, more = (scipy.special.erf(way / np.sqrt(each)) for each in spread)
    return variance_told(less / more, ACROSS_THE_GRID, *BLURS[:2])
