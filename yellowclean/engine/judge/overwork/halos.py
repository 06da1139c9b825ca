"""Halos: lines brighter or darker than the source beside edges."""

from __future__ import annotations

import cv2
import numpy as np

from ...frames import Array, luma
from .base import Evidence, Measure, Reading, local

REACH = 12
"""Pixels on each side of an edge that are looked at."""

STRONG = 12.0
"""An edge is a step of so many sigma of the noise."""

BESIDE = 2
"""Pixels next to the edge that are left out: there every filter changes something."""


def _halos(evidence: Evidence) -> Reading:
    """The change of the result along the edges' normals, as a share of the step, averaged over many edges: the
    noise that was removed averages out, what was drawn beside the edges stays."""
    nothing = np.zeros(evidence.shape, np.float32)
    plane = luma(evidence.source)
    y, x, normal, step = _edges(plane, evidence.sigma)
    if len(y) < 50:
        return Reading(0.0, nothing, "no strong edge")
    away = np.arange(-REACH, REACH + 1, dtype=np.float32)
    at_x = (x[:, None] + normal[:, :1] * away).astype(np.float32)
    at_y = (y[:, None] + normal[:, 1:] * away).astype(np.float32)
    change = cv2.remap(luma(evidence.change), at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)
    share = change / step[:, None]
    outward = np.where(away > 0, 1, -1) * share  # over the step on the bright side, under it on the dark one
    profile = outward.mean(axis=0)
    beside = np.abs(away) > BESIDE
    value = 100 * float(np.maximum(profile[beside], 0).max())
    half = profile > max(value / 200, 1e-6)
    width = max(int((half & (away > 0)).sum()), int((half & (away < 0)).sum()))
    spread = nothing.copy()
    np.maximum.at(spread, (y, x), np.maximum(outward[:, beside], 0).max(axis=1))
    counted = np.zeros_like(spread)
    counted[y, x] = 1
    near = local(spread, 8) / np.maximum(local(counted, 8), 1e-4)
    where = 100 * near / HALOS.limit / 3 * (local(counted, 8) > 0.002)
    return Reading(value, where.astype(np.float32), f"{width} px wide, over {len(y)} edges")


def _edges(plane: Array, sigma: Array) -> tuple[Array, Array, Array, Array]:
    """Pixels on strong edges: rows, columns, unit normals towards the bright side, heights of the step."""
    soft = cv2.GaussianBlur(plane, (0, 0), 1.5)
    gx, gy = cv2.Sobel(soft, cv2.CV_32F, 1, 0) / 8, cv2.Sobel(soft, cv2.CV_32F, 0, 1) / 8
    strength = np.hypot(gx, gy)
    bright, dark = cv2.dilate(soft, np.ones((9, 9))), cv2.erode(soft, np.ones((9, 9)))
    height = bright - dark
    crest = strength >= cv2.dilate(strength, np.ones((3, 3))) - 1e-7
    y, x = np.nonzero(crest & (height > STRONG * sigma) & (strength > 0.1 * height))
    if len(y) > 20000:
        chosen = np.linspace(0, len(y) - 1, 20000).astype(int)
        y, x = y[chosen], x[chosen]
    normal = np.stack([gx[y, x], gy[y, x]], axis=1) / strength[y, x, None]
    return y, x, normal, height[y, x]


HALOS = Measure(
    "halos", "Halos", "% of the edge's step", 4.0, "Overshoot beside edges, drawn by sharpening or by a filter.", _halos
)
