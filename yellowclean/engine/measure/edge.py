"""Sharpness from a slanted edge: the spatial frequency response of ISO 12233:2017, annex D.

The edge is found in every row to a fraction of a pixel, a line is laid through it, and all pixels are
put into quarter-pixel bins of their distance from it. The derivative of that profile, windowed and
transformed, is the response; 50 % of it is the usual figure for sharpness.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ..frames import CV_SCALE, Array

TILE, STEP = 32, 16
MOST_TILES = 64
LEAST_CONTRAST = 40 / CV_SCALE
CONTRAST_SIGMAS = 10
COHERENCE = 0.80
LONE = 0.12
"""Ripple against contrast above which the profile is no edge between two plain sides but a pattern."""

OVERSAMPLING = 4
LEAST_DRIFT = 1.0
"""Pixels by which an edge has to wander over its rows, so that all fractions of a pixel are seen."""

LARGEST_SLOPE = 1.0
OVERSHOOT = 1.4
"""Range of the profile against its ends: more is no edge, but a line or a pattern."""

BESIDE = 8.0
"""Pixels beside an edge in which a block of 8 leaves its ripples."""

NEAR, ENOUGH_BESIDE = 6.0, 48
"""Pixels beside an edge that are compared with as many next to them, and how many samples each needs."""

STRAIGHT = 0.6
"""Pixels of scatter about the line beyond which an edge is not straight."""


@dataclass(frozen=True, slots=True)
class EdgeResponse:
    """`mtf50` in cycles a pixel, `rise` the 10-90 % width in pixels, `contrast` and `ripple` (RMS of the
    profile beside the edge about straight lines) in the plane's units; `slanted` is whether the edge
    wandered enough for the response to be oversampled. `sides` holds, for each side that is wide enough, how much
    the pixels nearest to the edge vary about a bent plane, and those next to them (variances)."""

    mtf50: float
    rise: float
    contrast: float
    ripple: float
    slanted: bool
    sides: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, slots=True)
class Edge:
    """An edge found in a picture: the corner of its tile (side TILE), and its response."""

    x: int
    y: int
    response: EdgeResponse


def find_edges(plane: Array, sigma: Array) -> list[Edge]:
    """The straight, lone edges of a picture whose noise is `sigma` (same shape): at most `MOST_TILES`,
    the strongest first, looked for where the gradient has one direction (structure tensor)."""
    if min(plane.shape) < TILE:
        return []
    edges = []
    for y, x in _candidates(plane):
        response = edge_response(plane[y : y + TILE, x : x + TILE])
        noise = float(sigma[y : y + TILE, x : x + TILE].mean())
        if response is None or response.contrast < max(LEAST_CONTRAST, CONTRAST_SIGMAS * noise):
            continue
        if response.ripple < LONE * response.contrast:
            edges.append(Edge(x, y, response))
    return edges


def _candidates(plane: Array) -> list[tuple[int, int]]:
    soft = cv2.GaussianBlur(plane, (0, 0), 0.8)
    gx, gy = cv2.Scharr(soft, cv2.CV_32F, 1, 0) / 32, cv2.Scharr(soft, cv2.CV_32F, 0, 1) / 32
    xx, yy, xy = (_tile_sums(product) for product in (gx * gx, gy * gy, gx * gy))
    energy = xx + yy
    coherence = np.hypot(xx - yy, 2 * xy) / np.maximum(energy, 1e-12)
    score = np.where(coherence > COHERENCE, energy, 0)
    order = np.argsort(score, axis=None)[::-1][:MOST_TILES]
    rows, columns = np.unravel_index(order[score.ravel()[order] > 0], score.shape)
    return [(int(r) * STEP, int(c) * STEP) for r, c in zip(rows, columns, strict=True)]


def _tile_sums(plane: Array) -> Array:
    """Sums over tiles of TILE² that start every STEP pixels."""
    rows, columns = plane.shape[0] // STEP, plane.shape[1] // STEP
    cells = plane[: rows * STEP, : columns * STEP].reshape(rows, STEP, columns, STEP).sum(axis=(1, 3))
    sums: Array = cells[:-1, :-1] + cells[1:, :-1] + cells[:-1, 1:] + cells[1:, 1:]
    return sums


def edge_response(plane: Array) -> EdgeResponse | None:
    """The response of the one straight edge that crosses an H×W plane; None where there is none such."""
    across, down = (np.abs(np.diff(plane, axis=a)).sum() for a in (1, 0))
    upright = np.asarray(plane if across >= down else plane.T, np.float64)
    line = _line(upright)
    if line is None:
        return None
    slope, offset = line
    rows, columns = np.mgrid[: upright.shape[0], : upright.shape[1]]
    # distance along the normal, not along the row
    distance = (columns - slope * rows - offset) / np.hypot(1, slope)
    profile, start = _binned(distance, upright)
    if profile.size < 8 * OVERSAMPLING:
        return None
    ends = profile[: 2 * OVERSAMPLING].mean(), profile[-2 * OVERSAMPLING :].mean()
    contrast = ends[1] - ends[0]
    mtf50 = _half_response(profile, -start)
    if contrast == 0 or mtf50 is None or np.ptp(profile) > OVERSHOOT * abs(contrast):
        return None
    rise = _rise((profile - ends[0]) / contrast)
    drift = abs(slope) * (upright.shape[0] - 1)
    ripple = _ripple(profile, -start, rise)
    return EdgeResponse(
        mtf50, rise, float(abs(contrast)), ripple, bool(drift >= LEAST_DRIFT), _sides(distance, rows, upright, rise)
    )


def _line(plane: Array) -> tuple[float, float] | None:
    """(slope, offset) of an upright edge: its column in row y is slope·y + offset."""
    steps = np.diff(plane, axis=1)
    steps = steps * np.sign(steps.sum())
    at = np.arange(steps.shape[1]) + 0.5
    rows = np.arange(plane.shape[0])
    # from the whole width at first, then about the line found, so that noise far off does not pull
    centre, width = np.full(len(rows), at.mean()), float(steps.shape[1])
    slope = offset = 0.0
    for _ in range(4):
        window = np.clip(np.cos(np.pi * np.clip((at - centre[:, None]) / width, -0.5, 0.5)), 0, None) ** 2
        weight = steps * window
        total = weight.sum(axis=1)
        if (total <= 0).any():
            return None
        found = (weight * at).sum(axis=1) / total
        slope, offset = np.polyfit(rows, found, 1)
        centre, width = slope * rows + offset, max(width / 1.6, 8.0)
    inside = centre.min() > 2 and centre.max() < plane.shape[1] - 3
    straight = np.std(found - centre) < STRAIGHT
    return (float(slope), float(offset)) if inside and straight and abs(slope) <= LARGEST_SLOPE else None


def _binned(distance: Array, plane: Array) -> tuple[Array, float]:
    """Mean over quarter-pixel bins, as far on both sides as there are pixels, and the first bin's place."""
    reach = min(-distance.min(), distance.max())
    count = int(2 * reach * OVERSAMPLING)
    if count <= 0:
        return np.empty(0), 0.0
    bins = np.floor((distance + count / (2 * OVERSAMPLING)) * OVERSAMPLING).astype(int)
    inside = (bins >= 0) & (bins < count)
    sums = np.bincount(bins[inside], plane[inside], count)
    seen = np.bincount(bins[inside], minlength=count)
    known = np.flatnonzero(seen)
    profile = np.interp(np.arange(count), known, sums[known] / seen[known])
    return profile, -count / 2


def _half_response(profile: Array, centre: float) -> float | None:
    """Cycles a pixel at which the response falls to one half."""
    spread = np.diff(profile)
    at = np.arange(len(spread)) + 0.5 - centre
    # flat in its middle (Tukey's window): one that falls from the middle on would make a wide blur look narrower
    spread = spread * (0.5 + 0.5 * np.cos(np.pi * np.clip(4 * np.abs(at) / len(spread) - 1, 0, 1)))
    padded = 16 * len(spread)
    response = np.abs(np.fft.rfft(spread, padded))
    frequency = np.fft.rfftfreq(padded, 1 / OVERSAMPLING)
    # binning and differencing both average over one bin
    response /= np.sinc(frequency / OVERSAMPLING) ** 2
    if response[0] <= 0:
        return None
    below = np.flatnonzero(response < 0.5 * response[0])
    if not below.size:
        return None
    k = int(below[0])
    a, b = response[k - 1] / response[0], response[k] / response[0]
    return float(frequency[k - 1] + (frequency[k] - frequency[k - 1]) * (a - 0.5) / max(a - b, 1e-12))


def _ripple(profile: Array, centre: float, rise: float) -> float:
    """RMS of what is left of both sides of the edge, nearest `BESIDE` pixels, about a straight line each."""
    away = (np.arange(len(profile)) + 0.5 - centre) / OVERSAMPLING
    clear = 1.2 * rise + 0.5
    squares = []
    for side in (-1, 1):
        inside = (side * away > clear) & (side * away < clear + BESIDE)
        if inside.sum() < 2 * OVERSAMPLING:
            continue
        at, values = away[inside], profile[inside]
        squares.append(np.mean((values - np.polyval(np.polyfit(at, values, 1), at)) ** 2))
    return float(np.sqrt(np.mean(squares))) if squares else 0.0


def _sides(distance: Array, rows: Array, plane: Array, rise: float) -> tuple[tuple[float, float], ...]:
    clear, found = 1.2 * rise + 0.5, []
    for side in (-1, 1):
        variances = []
        for start in (clear, clear + NEAR):
            inside = (side * distance > start) & (side * distance < start + NEAR)
            if inside.sum() >= ENOUGH_BESIDE:
                values = plane[inside]
                away, along = distance[inside], rows[inside]
                level = np.stack([np.ones_like(values), away, along, away**2, away * along, along**2], axis=-1)
                about = values - level @ np.linalg.lstsq(level, values, rcond=None)[0]
                variances.append(float((about * about).mean()))
        if len(variances) == 2:
            found.append((variances[0], variances[1]))
    return tuple(found)


def _rise(profile: Array) -> float:
    """10-90 % width in pixels of a profile that goes from 0 to 1."""
    top = int(np.argmax(profile > 0.5))
    low = np.flatnonzero(profile[:top] < 0.1)
    high = np.flatnonzero(profile[top:] > 0.9)
    if not (low.size and high.size):
        return len(profile) / OVERSAMPLING

    def crossing(k: int, level: float) -> float:
        step = profile[k + 1] - profile[k]
        return k + float(np.clip((level - profile[k]) / step if step else 0.5, 0, 1))

    first = crossing(int(low[-1]), 0.1)
    last = crossing(max(top + int(high[0]) - 1, 0), 0.9)
    return max(last - first, 0.0) / OVERSAMPLING
