"""Overshoot: how far edges go beyond their two sides, as sharpening leaves them; seen as halos.

Lenses and pixels only soften an edge (its profile rises from one side to the other); a sharpener makes the bright
side brighter and the dark side darker next to it, both at once. What lies on one side only, as a rim or a contact
shadow, is of the scene: of each edge the lesser side counts. The value is the median of many edges, of any shape,
that have two plain sides.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from ..blur import Mask, cut, edge_points
from .base import Detector, Finding, Look, Place

AWAY = np.arange(-9, 9.01, 0.5, dtype=np.float32)
"""Distances in pixels from an edge at which its profile is taken."""

SIDE = 5.0
"""Pixels from which on a side is taken for plain, and in which a halo lies."""

LEAST_CONTRAST = 60 / CV_SCALE
CLEAR = 8.0
"""Noise deviations that an edge has to be high."""

PLAIN = 0.05
"""Deviation of a side as a share of the edge's height up to which it is plain."""

STEEP, STEEPLY = 2.0, 0.75
"""Pixels beside the middle between which an edge has to rise by that share of its height."""

NOISE_TOPS = 0.3
"""Deviations of the noise by which it raises the lesser of the two (set on photographs under 12 and 30 CV)."""

ENOUGH, SURE_FROM = 100, 600
LOOKED_AT, KEPT = 16000, 4000
"""Pixels on edges of a frame whose profiles are taken, and of those on true ones how many are kept."""

LARGE = 64


class Edges(NamedTuple):
    """Profiles over AWAY from 0 on the dark side to 1 on the bright one, an edge each, the noise in the same unit,
    and where they lie."""

    profile: Array
    noise: Array
    x: npt.NDArray[np.intp]
    y: npt.NDArray[np.intp]


def observe(look: Look) -> Edges:
    plane, sigma = look.calmed
    edges, _ = edges_of(plane, sigma, cut(look.frame, look.info.transfer), plane)
    return edges


def edges_of(plane: Array, sigma: Array, clipped: Mask, other: Array) -> tuple[Edges, Edges]:
    """The edges of a plane, H×W, of noise `sigma`, with two plain sides, away from what is `clipped`; and those of
    another plane at the same places, in units of the first one's."""
    points = edge_points(plane, sigma, clipped)
    every = _spread(np.arange(len(points.x)), LOOKED_AT)
    x, y = points.x[every], points.y[every]
    if not x.size:
        nothing = Edges(np.empty((0, len(AWAY)), np.float32), np.empty(0, np.float32), x, y)
        return nothing, nothing
    at_x = (x[:, None] + AWAY * points.along_x[every, None]).astype(np.float32)
    at_y = (y[:, None] + AWAY * points.along_y[every, None]).astype(np.float32)
    values, others = (
        cv2.remap(p, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101) for p in (plane, other)
    )
    dark, bright = values[:, AWAY <= -SIDE], values[:, AWAY >= SIDE]
    low, noise = dark.mean(axis=1), sigma[y, x]
    height = bright.mean(axis=1) - low
    rise = (values[:, AWAY == STEEP] - values[:, AWAY == -STEEP])[:, 0]
    plain = np.maximum(dark.std(axis=1), bright.std(axis=1)) < PLAIN * height + noise
    step = plain & (rise > STEEPLY * height) & (height > np.maximum(LEAST_CONTRAST, CLEAR * noise))
    kept = _spread(np.flatnonzero(step), KEPT)
    first, second = (
        Edges((of[kept] - low[kept, None]) / height[kept, None], noise[kept] / height[kept], x[kept], y[kept])
        for of in (values, others)
    )
    return first, second


def _spread(numbers: npt.NDArray[np.intp], most: int) -> npt.NDArray[np.intp]:
    """At most so many of the numbers, from all over the picture."""
    return numbers[:: max(-(-len(numbers) // most), 1)]


def conclude(seen: Sequence[tuple[int, Edges]], info: MediaInfo) -> Finding:
    profiles = np.concatenate([edges.profile for _, edges in seen])
    by_chance = NOISE_TOPS * np.concatenate([edges.noise for _, edges in seen])
    if len(profiles) < ENOUGH:
        return DETECTOR.finding(0.0, seen[0][0], confidence=0.0, detail="no edges with two plain sides to look at")
    bright, dark = (side - by_chance for side in beyond(profiles))
    n, edges = max(seen, key=lambda item: len(item[1].x))
    return DETECTOR.finding(
        100 * max(float(np.median(np.minimum(bright, dark))), 0.0), n, region=_place(edges, info),
        confidence=min(len(profiles) / SURE_FROM, 1.0),
        detail=f"{100 * np.median(bright):.1f} % on the bright side, {100 * np.median(dark):.1f} % on the dark side"
        f" of {len(profiles)} edges",
    )  # fmt: skip


def beyond(profiles: Array) -> tuple[Array, Array]:
    """How far profiles go beyond their bright and their dark side, as a share of the edge's height."""
    return (
        profiles[:, (AWAY > 0) & (AWAY < SIDE)].max(axis=1) - 1,
        -profiles[:, (AWAY < 0) & (AWAY > -SIDE)].min(axis=1),
    )


def _place(edges: Edges, info: MediaInfo) -> Place:
    """Around an edge with more of it than most."""
    both = np.minimum(*beyond(edges.profile))
    k = int(np.argsort(both)[9 * len(both) // 10])
    width, height = min(LARGE, info.width), min(LARGE, info.height)
    left, top = int(edges.x[k]) - width // 2, int(edges.y[k]) - height // 2
    return Place(
        x=min(max(left, 0), info.width - width),
        y=min(max(top, 0), info.height - height),
        width=width,
        height=height,
    )


DETECTOR = Detector(
    "overshoot", "%", 5.0, 82, observe, conclude,
    instead="The footage was sharpened already: leave Sharpen out, and ask for a recording without sharpening.",
)  # fmt: skip
"""Value: how far the median edge goes beyond both its sides, as a share of its height.
Tolerance: common practice, no source."""
