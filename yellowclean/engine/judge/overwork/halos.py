"""Halos: lines brighter or darker than the source beside edges."""

from __future__ import annotations

import cv2
import numpy as np
import numpy.typing as npt

from ...frames import Array, luma
from .base import Evidence, Measure, Reading, local

REACH = 12
"""Pixels on each side of an edge that are looked at."""

Where = npt.NDArray[np.intp]

MOST_EDGES, AROUND = 20000, 8.0
"""Pixels of edges that are looked at, spread over all; and the blur of the map."""

STRONG = 4.0
"""An edge is a step of so many sigma of the noise."""

BESIDE = 2
"""Pixels next to the edge that are left out: there every filter changes something."""

ALONG, CHANCE = 4, 2.0
"""Pixels along an edge that tell the same, and deviations of the mean over all edges that count as chance."""


def _halos(evidence: Evidence) -> Reading:
    """The change of the result along the edges' normals as a share of the step, by least squares over all edges:
    the noise that was removed averages out, what was drawn beside the edges stays."""
    nothing = np.zeros(evidence.shape, np.float32)
    y, x, normal, step = _edges(luma(evidence.result), evidence.sigma)
    if not len(y):
        return Reading(0.0, nothing, "no edge above the noise")
    away = np.arange(-REACH, REACH + 1, dtype=np.float32)
    at_x = (x[:, None] + normal[:, :1] * away).astype(np.float32)
    at_y = (y[:, None] + normal[:, 1:] * away).astype(np.float32)
    change = cv2.remap(luma(evidence.change), at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
    outward = np.where(away > 0, 1, -1) * change  # over the step on the bright side, under it on the dark one
    weight = float((step**2).sum())
    profile = (outward * step[:, None]).sum(axis=0) / weight
    chance = CHANCE * outward.std(axis=0) * np.sqrt(ALONG / weight)
    beside = np.abs(away) > BESIDE
    value = 100 * float(np.maximum(profile - chance, 0)[beside].max())
    half = profile > max(value / 200, 1e-6)
    width = max(int((half & (away > 0)).sum()), int((half & (away < 0)).sum()))
    above, below = nothing.copy(), nothing.copy()
    above[y, x], below[y, x] = (outward[:, beside].max(axis=1) * step), step**2
    near = local(above, AROUND) / np.maximum(local(below, AROUND), 1e-9)
    where = 100 * near / HALOS.limit / 3 * (local((below > 0).astype(np.float32), AROUND) > 0.002)
    return Reading(value, np.maximum(where, 0).astype(np.float32), f"{width} px wide, over {len(y)} px of edges")


def _edges(plane: Array, sigma: Array) -> tuple[Where, Where, Array, Array]:
    """Pixels on edges: rows, columns, unit normals towards the bright side, heights of the step."""
    soft = cv2.GaussianBlur(plane, (0, 0), 1.5)
    gx, gy = cv2.Sobel(soft, cv2.CV_32F, 1, 0) / 8, cv2.Sobel(soft, cv2.CV_32F, 0, 1) / 8
    strength = np.hypot(gx, gy)
    height = cv2.dilate(soft, np.ones((9, 9))) - cv2.erode(soft, np.ones((9, 9)))
    crest = strength >= cv2.dilate(strength, np.ones((3, 3))) - 1e-7
    y, x = np.nonzero(crest & (height > STRONG * sigma) & (strength > 0.1 * height))
    if len(y) > MOST_EDGES:
        chosen = np.linspace(0, len(y) - 1, MOST_EDGES).astype(int)
        y, x = y[chosen], x[chosen]
    normal = np.stack([gx[y, x], gy[y, x]], axis=1) / strength[y, x, None]
    return y, x, normal, height[y, x]


HALOS = Measure(
    "halos",
    "Halos",
    "% of the edge's step",
    5.0,
    "Overshoot beside edges, drawn by sharpening or by a filter.",
    _halos,
)
