"""The matte of a Reach: 0 where a step does nothing, 1 where it acts fully.

The picture that a step starts from is softened a little and judged pixel by pixel. Everything is
computed in an order that depends on the position in the frame alone, so that a region's matte is
that of the whole frame, bit for bit.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numba as nb
import numpy as np

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import CV_SCALE, Array, Frame, weighted
from ..noise.profile import NoiseCurve
from ..parallel import in_bands
from .model import SOFTENED_SIGMA, Cleanup, Detail, HueSample, Reach, Shape, Tones

LEAST_SIGMA = 0.5 / CV_SCALE
"""Noise below this is taken for this when edges are looked for: clean footage has no end of edges."""


def matte(
    reach: Reach, frame: Frame, curve: NoiseCurve, n: int, x: int, y: int, per_pixel: tuple[float, float] = (1, 1)
) -> Array:
    """H×W float32, 0-1, of frame n over a piece whose corner is at (x, y); `reach.margin` pixels at the
    borders of the piece are not valid. `per_pixel` are the frame's pixels to one of the source, across and down:
    shapes are drawn in those of the source."""
    height, width = frame.shape[:2]
    result: Array = np.ones((height, width), np.float32)
    if reach.tones or reach.hues or reach.detail:
        soft = as_judged(frame)
        luma, cb, cr = (weighted(soft, SIGNAL_MATRIX[k]) for k in (3, 4, 5))
        if reach.tones:
            result *= _of_tones(reach.tones, luma * CV_SCALE)
        if reach.hues:
            result *= _of_hues(reach.hues, cb * CV_SCALE, cr * CV_SCALE)
        if reach.detail:
            result *= _of_detail(reach.detail, luma, curve)
    if reach.shapes:
        result *= _of_shapes(reach.shapes, height, width, n, (x, y), per_pixel)
    if reach.invert:
        result = 1 - result
    return _cleaned(reach.cleanup, result)


def as_judged(frame: Frame) -> Frame:
    """The picture softened so that noise neither speckles a matte nor widens a sample."""
    planes = [softened(np.ascontiguousarray(frame[..., c]), SOFTENED_SIGMA) for c in range(3)]
    return np.stack(planes, axis=-1).astype(np.float32)


def rising(position: Array) -> Array:
    """0 to 1 over positions 0 to 1, smooth at both ends (3t² - 2t³)."""
    t = np.clip(position, 0, 1).astype(np.float32)
    ramp: Array = t * t * (3 - 2 * t)
    return ramp


def _of_tones(tones: Tones, luma_cv: Array) -> Array:
    inside = np.ones_like(luma_cv)
    if tones.low_cv > 0:
        inside = inside * rising(1 - (tones.low_cv - luma_cv) / tones.soft_cv)
    if tones.high_cv < CV_SCALE:
        inside = inside * rising(1 - (luma_cv - tones.high_cv) / tones.soft_cv)
    return inside


def _of_hues(samples: Sequence[HueSample], cb_cv: Array, cr_cv: Array) -> Array:
    """The strongest of the samples, less those that remove; everything where all of them remove."""
    angle = np.degrees(np.arctan2(cr_cv, cb_cv))
    length = np.hypot(cb_cv, cr_cv)

    def one(sample: HueSample) -> Array:
        off = np.abs((angle - sample.hue_deg + 180) % 360 - 180)
        near = rising(1 - (off - sample.width_deg) / sample.soft_deg)
        return near * rising((length - sample.least_cv) / max(sample.least_cv / 2, 2) + 1)

    return _united([one(s) for s in samples if not s.remove], [one(s) for s in samples if s.remove], angle.shape)


def _united(added: Sequence[Array], removed: Sequence[Array], shape: tuple[int, ...]) -> Array:
    result: Array = np.max(added, axis=0) if added else np.ones(shape, np.float32)
    for part in removed:
        result = result * (1 - part)
    return result.astype(np.float32)


def _of_detail(detail: Detail, luma: Array, curve: NoiseCurve) -> Array:
    sigma = np.maximum(curve.sigma_at(luma, "luma"), LEAST_SIGMA)
    padded = np.pad(luma, 1, mode="edge")
    across = (padded[1:-1, 2:] - padded[1:-1, :-2]) / 2
    down = (padded[2:, 1:-1] - padded[:-2, 1:-1]) / 2
    steep = np.sqrt(across * across + down * down) / sigma
    edges = rising(steep / np.float32(detail.steepness) - 1)
    if detail.growth_px:
        edges = cv2.dilate(edges, _disc(detail.growth_px))
    return edges if detail.where == "edges" else 1 - edges


def _of_shapes(
    shapes: Sequence[Shape],
    height: int,
    width: int,
    n: int,
    corner: tuple[int, int],
    per_pixel: tuple[float, float],
) -> Array:
    soft = np.sqrt(per_pixel[0] * per_pixel[1])

    def one(shape: Shape) -> Array:
        points = shape.points_at(n) * per_pixel - corner
        distance = np.empty((height, width), np.float32)
        kernel = _ellipse_rows if shape.kind == "ellipse" else _polygon_rows
        in_bands(height, lambda a, b: kernel(points, distance, a, b))
        return rising(np.float32(0.5) - distance / np.float32(shape.soft_px * soft))

    return _united([one(s) for s in shapes if not s.invert], [one(s) for s in shapes if s.invert], (height, width))


def _cleaned(cleanup: Cleanup, plane: Array) -> Array:
    if cleanup.specks_px:
        plane = cv2.morphologyEx(plane, cv2.MORPH_OPEN, _disc(cleanup.specks_px))
    if cleanup.holes_px:
        plane = cv2.morphologyEx(plane, cv2.MORPH_CLOSE, _disc(cleanup.holes_px))
    if cleanup.floor > 0 or cleanup.ceiling < 100:
        floor, span = np.float32(cleanup.floor / 100), np.float32((cleanup.ceiling - cleanup.floor) / 100)
        plane = np.clip((plane - floor) / span, 0, 1)
    return softened(plane, cleanup.soften_px) if cleanup.soften_px else plane


def _disc(radius: int) -> Array:
    shape: Array = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1))
    return shape


def softened(plane: Array, sigma: float) -> Array:
    """Gaussian blur out to three sigma, borders repeated; sums run in one order everywhere."""
    radius = int(np.ceil(3 * sigma))
    taps = np.exp(-0.5 * (np.arange(-radius, radius + 1) / sigma) ** 2)
    weights = (taps / taps.sum()).astype(np.float32)
    across, done = np.empty_like(plane), np.empty_like(plane)
    in_bands(plane.shape[0], lambda a, b: _across_rows(plane, weights, across, a, b))
    in_bands(plane.shape[0], lambda a, b: _down_rows(across, weights, done, a, b))
    return done


@nb.njit(nogil=True, cache=True)
def _across_rows(plane, weights, out, first, end):  # type: ignore[no-untyped-def]
    radius = weights.shape[0] // 2
    width = plane.shape[1]
    for y in range(first, end):
        for x in range(width):
            total = np.float32(0)
            for k in range(weights.shape[0]):
                total += weights[k] * plane[y, min(max(x + k - radius, 0), width - 1)]
            out[y, x] = total


@nb.njit(nogil=True, cache=True)
def _down_rows(plane, weights, out, first, end):  # type: ignore[no-untyped-def]
    radius = weights.shape[0] // 2
    height = plane.shape[0]
    for y in range(first, end):
        for x in range(plane.shape[1]):
            out[y, x] = 0
        for k in range(weights.shape[0]):
            line = min(max(y + k - radius, 0), height - 1)
            for x in range(plane.shape[1]):
                out[y, x] += weights[k] * plane[line, x]


@nb.njit(nogil=True, cache=True)
def _ellipse_rows(points, distance, first, end):  # type: ignore[no-untyped-def]
    """Signed distance to an ellipse to first order: (|q| - 1) / |grad |q||, q in units of the half-axes."""
    ax, ay = points[1, 0] - points[0, 0], points[1, 1] - points[0, 1]
    bx, by = points[2, 0] - points[0, 0], points[2, 1] - points[0, 1]
    determinant = ax * by - ay * bx
    if abs(determinant) < 1e-6:
        distance[first:end] = 1e6
        return
    for y in range(first, end):
        for x in range(distance.shape[1]):
            px, py = x + 0.5 - points[0, 0], y + 0.5 - points[0, 1]
            u = (by * px - bx * py) / determinant
            v = (ax * py - ay * px) / determinant
            length = max(np.sqrt(u * u + v * v), 1e-6)
            gx = (u * by - v * ay) / (determinant * length)
            gy = (v * ax - u * bx) / (determinant * length)
            distance[y, x] = (length - 1) / max(np.sqrt(gx * gx + gy * gy), 1e-9)


@nb.njit(nogil=True, cache=True)
def _polygon_rows(points, distance, first, end):  # type: ignore[no-untyped-def]
    """Signed distance to the outline, negative inside (even-odd rule)."""
    count = points.shape[0]
    for y in range(first, end):
        py = y + 0.5
        for x in range(distance.shape[1]):
            px = x + 0.5
            nearest = 1e18
            inside = False
            for k in range(count):
                x0, y0 = points[k, 0], points[k, 1]
                x1, y1 = points[(k + 1) % count, 0], points[(k + 1) % count, 1]
                ex, ey = x1 - x0, y1 - y0
                along = ((px - x0) * ex + (py - y0) * ey) / max(ex * ex + ey * ey, 1e-12)
                along = min(max(along, 0.0), 1.0)
                dx, dy = px - x0 - along * ex, py - y0 - along * ey
                nearest = min(nearest, dx * dx + dy * dy)
                if (y0 > py) != (y1 > py) and px < x0 + (py - y0) / (y1 - y0) * ex:
                    inside = not inside
            distance[y, x] = -np.sqrt(nearest) if inside else np.sqrt(nearest)
