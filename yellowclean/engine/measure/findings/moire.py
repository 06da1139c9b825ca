"""Moiré: a narrow spectral peak in chroma that luma does not share in strength.

Sampling that is too coarse turns fine cloth and grilles into slow coloured waves. In tiles the spectra
of Cb and Cr are searched for one frequency that holds most of the energy. Coloured texture of the scene has its
chroma from its luma, or, as brick and mortar, changes between more and less of one colour; moiré
swings through grey to the opposite one.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
import scipy.fft

from ...colour.opponent import SIGNAL_MATRIX
from ...frames import CV_SCALE, Array
from ...media import MediaInfo
from .base import Detector, Finding, Look, Place

TILE = 64
SLOWEST = 2.5
"""Waves across a tile below which chroma is the scene's own colour."""

CONCENTRATION = 0.5
"""Share of the energy beyond noise, slow waves included, that the one frequency holds: signs and other
coloured things have theirs in the slow ones."""

OVER_LUMA = 1.0
"""Chroma against luma at that frequency; colour texture of a scene stays below one half."""

LEAST_AMPLITUDE = 2.0 / CV_SCALE
OVER_NOISE = 40.0
"""Energy of the peak against the median of the spectrum: noise reaches about 12 among 2000 frequencies."""


WORST = 0.75
"""Of the tiles of an area: those at its rim are only partly covered."""


@dataclass(frozen=True, slots=True)
class Fringes:
    """The largest area with moiré: RMS amplitude (frame units), period in pixels, share in percent."""

    amplitude: float
    period: float
    area: float
    place: Place | None


def observe(look: Look) -> Fringes:
    height, width = (side // TILE * TILE for side in look.luma.shape)
    if not (height and width):
        return Fringes(0.0, 0.0, 0.0, None)
    chroma = look.frame[:height, :width] @ SIGNAL_MATRIX[4:].T
    powers = [_tile_power(chroma[..., k]) for k in range(2)]
    tint = chroma.reshape(height // TILE, TILE, width // TILE, TILE, 2).mean(axis=(1, 3))
    return _fringes(
        powers[0] + powers[1], _tile_power(look.luma[:height, :width]), np.hypot(*tint.transpose(2, 0, 1))
    )


def _tile_power(plane: Array) -> Array:
    """rows×columns×TILE×(TILE/2+1) power such that a sine of RMS amplitude a sums to a²."""
    rows, columns = plane.shape[0] // TILE, plane.shape[1] // TILE
    tiles = plane.reshape(rows, TILE, columns, TILE).transpose(0, 2, 1, 3)
    tiles = tiles - tiles.mean(axis=(2, 3), keepdims=True)
    window = np.outer(np.hanning(TILE), np.hanning(TILE)).astype(np.float32)
    spectrum = scipy.fft.rfft2(tiles * window, workers=2)
    power: Array = 2 * (spectrum.real**2 + spectrum.imag**2) / (TILE * TILE * float((window**2).sum()))
    return power


def _fringes(chroma: Array, luma: Array, tint: Array) -> Fringes:
    fy = np.abs(np.fft.fftfreq(TILE)) * TILE
    fx = np.arange(TILE // 2 + 1)
    radius = np.hypot(fy[:, None], fx[None, :])
    outside = (radius >= SLOWEST) & (radius <= TILE / 2)
    seen = np.where(outside, chroma, 0)
    rows, columns = chroma.shape[:2]
    flat = seen.reshape(rows, columns, -1)
    peak = flat.argmax(axis=2)
    noise = np.median(chroma[..., outside], axis=-1) / np.log(2)
    beyond = np.maximum(chroma - noise[..., None, None], 0)[..., radius >= 1].sum(axis=-1)
    energy, shared = _around(chroma, peak), _around(luma, peak)
    strongest = np.take_along_axis(flat, peak[..., None], axis=2)[..., 0]
    found = (
        (energy > CONCENTRATION * beyond)
        & (energy > OVER_LUMA**2 * shared)
        & (2 * energy > tint**2)
        & (energy > LEAST_AMPLITUDE**2)
        & (strongest > OVER_NOISE * noise)
    )
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(found.astype(np.uint8), connectivity=8)
    if count < 2:
        return Fringes(0.0, 0.0, 0.0, None)
    largest = 1 + int(boxes[1:, cv2.CC_STAT_AREA].argmax())
    if boxes[largest, cv2.CC_STAT_AREA] < 2:
        return Fringes(0.0, 0.0, 0.0, None)
    inside = labels == largest
    x, y, wide, high = (int(v) for v in boxes[largest, :4])
    place = Place(x=x * TILE, y=y * TILE, width=wide * TILE, height=high * TILE)
    period = float(np.median(TILE / radius.ravel()[peak[inside]]))
    return Fringes(float(np.sqrt(np.quantile(energy[inside], WORST))), period, 100 * float(found.mean()), place)


def _around(power: Array, peak: Array) -> Array:
    """Energy in the 3×3 frequencies about each tile's peak: the width of the window's own line."""
    rows, columns = peak.shape
    high, wide = power.shape[2:]
    y, x = np.divmod(peak, wide)
    r, c = np.mgrid[:rows, :columns]
    total = np.zeros(peak.shape)
    for dy in (-1, 0, 1):
        for dx in (-1, 0, 1):
            inside = (x + dx >= 0) & (x + dx < wide)
            total += np.where(inside, power[r, c, (y + dy) % high, np.clip(x + dx, 0, wide - 1)], 0)
    return total


def conclude(seen: Sequence[tuple[int, Fringes]], info: MediaInfo) -> Finding:
    worst, fringes = max(seen, key=lambda item: item[1].amplitude * np.sqrt(item[1].area))
    lasting = sum(f.area > 0 for _, f in seen) / len(seen)
    detail = f"waves of {fringes.period:.1f} px over {fringes.area:.0f} % of the frame" if fringes.area else ""
    return DETECTOR.finding(
        fringes.amplitude * CV_SCALE, worst, region=fringes.place, confidence=0.5 + 0.5 * lasting, detail=detail
    )


DETECTOR = Detector("moiré", "CV", 4.0, 70, observe, conclude)
"""Value: RMS chroma amplitude of the waves. Tolerance: common practice, no source."""
