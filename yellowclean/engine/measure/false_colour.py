"""False colour (moiré): where a sensor's colour filter turned threads finer than it can tell apart into coloured
waves.

Windows of 32×32 and 64×64 pixels are looked at in frequency. Cloth and grilles under false colour show five things
together, which natural pictures do not: few frequencies hold most of the colour; luma has little at the same ones;
luma's finest octave is stronger than the next; the colours swing to both sides of grey; and so it is over a patch,
not in one place. Colours that are strong where there is no luma pattern at all need to be purer still.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
import scipy
from numpy.lib.stride_tricks import sliding_window_view

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import CV_SCALE, Array, Frame, Region, extended, weighted
from ..parallel import in_bands

Mask = npt.NDArray[np.bool_]

SIDES = (32, 64)
CELL, GRID = SIDES[0] // 2, SIDES[-1] // 2
"""Pixels a side of what is told apart, and on which all windows begin."""

LEAST_CV = 2.0
"""RMS amplitude of the waves from which they count."""

SLOWEST = 2.5
"""Waves across a window below which colour is the scene's own: longer waves than 25 px are not looked for."""

PEAKS = 4
"""Frequencies of the waves: stripes have one, woven threads four."""

HOLD, HOLD_ALONE = 0.5, 0.6
"""Share of the energy of colour beyond its noise that they hold, with fine luma under it and without."""

OVER_FLOOR = 4.0
"""Energy of the waves over that of the noise in the same frequencies."""

FINE = 0.7
"""Energy of luma's finest octave over that of the next: cloth has more, natural pictures have less."""

OVER_LUMA, LITTLE_OVER_LUMA, ALONE = 0.1, 0.03, 8.0
"""Energy of the waves over that of luma at the same frequencies: at least; with colours that swing about grey
alone; and over that of all luma, where no fine luma is under them."""

SWING, ABOUT_GREY = 0.7, 2.0
"""Twice the energy of the waves over the square of the mean colour: about 1 swings to the complement."""

TINTED_OVER_LUMA, TINTED_OVER_FINE, TINTED_SWING = 1.0, 4.0, 0.4
"""On tinted cloth, which swings less: energy over that of luma there, at most over that of luma's finest octave,
and the least swing."""

WEAKER = 0.5
"""Part of each bar that is enough next to where all are passed."""

PRESENT = 0.7
"""Part of a window's amplitude that the colours of a cell swing by, which lies at its rim otherwise."""

WINDOWS = 256
"""Windows at a time, which bounds the memory."""

TINY = 1e-12


@dataclass(frozen=True, slots=True)
class FalseColour:
    """By cells of CELL×CELL pixels: whether there is false colour, its RMS amplitude in frame units, and the period
    of its strongest wave in pixels (0 where there is none)."""

    inside: Mask
    amplitude: Array
    period: Array


@dataclass(frozen=True, slots=True)
class _Waves:
    """By windows: how far all bars are passed (1: just), RMS amplitude and period of the strongest wave."""

    degree: Array
    amplitude: Array
    period: Array


def false_colour(frame: Frame, least_cv: float = LEAST_CV) -> FalseColour:
    """False colour of an H×W×3 picture whose corner lies on the grid of the frame's windows; it is mirrored where
    the last of them reach beyond."""
    whole = Region(0, 0, frame.shape[1], frame.shape[0])
    wider = whole.snapped(GRID)
    wider = Region(0, 0, wider.width + GRID, wider.height + GRID)
    picture = extended(np.nan_to_num(frame), whole, wider)
    planes = np.stack([weighted(picture, row) for row in SIGNAL_MATRIX[3:]])
    rows, columns = (-(-side // CELL) for side in frame.shape[:2])
    inside, (amplitude, period) = np.zeros((rows, columns), bool), np.zeros((2, rows, columns), np.float32)
    seen = [_all_waves(planes, side, least_cv) for side in SIDES]
    patches = [_patches(_degree(waves, least_cv)) for waves in seen]
    if not any(found.any() for found in patches):
        return FalseColour(inside, amplitude, period)
    swing = _swing(planes[1:])[:rows, :columns]
    for side, waves, found in zip(SIDES, seen, patches, strict=True):
        for quarter in ((0, 0), (0, 1), (1, 0), (1, 1)):
            here, height, length = (
                _on_cells(plane, side // 2 // CELL, quarter, (rows, columns))
                for plane in (found, waves.amplitude, waves.period)
            )
            more = (here > 0) & (height > amplitude) & (swing > PRESENT * height)
            inside |= more
            amplitude[more], period[more] = height[more], length[more]
    return FalseColour(inside, amplitude, period)


def _swing(colours: Array) -> Array:
    """RMS by which colours differ about each cell from their means there."""
    quick = [plane - cv2.GaussianBlur(plane, (0, 0), CELL / 2) for plane in colours]
    square = cv2.GaussianBlur(quick[0] ** 2 + quick[1] ** 2, (0, 0), CELL / 2)
    swing: Array = np.sqrt(square[CELL // 2 :: CELL, CELL // 2 :: CELL])
    return swing


def _on_cells(plane: npt.NDArray[Any], size: int, quarter: tuple[int, int], shape: tuple[int, int]) -> Array:
    """Values of windows on the cells of one of their quarters."""
    cells = np.repeat(np.repeat(plane.astype(np.float32), size, axis=0), size, axis=1)
    down, right = (size * q for q in quarter)
    moved = np.pad(cells, ((down, shape[0]), (right, shape[1])))
    return moved[: shape[0], : shape[1]]


def _patches(degree: Array) -> Mask:
    """Windows that pass all bars in squares of at least four, and those beside that nearly do."""
    square = np.ones((2, 2), np.uint8)
    least = cv2.erode((degree >= 1).astype(np.uint8), square, anchor=(0, 0))
    full = cv2.dilate(least, square, anchor=(1, 1))
    beside = cv2.dilate(full, np.ones((3, 3), np.uint8)) > 0
    found: Mask = (full > 0) | (beside & (degree >= WEAKER))
    return found


def _all_waves(planes: Array, side: int, least_cv: float) -> _Waves:
    """Windows of a whole picture. In squares of at least four that pass one lies on every second row and column: of
    the others only those are looked at that are near one that passes."""
    views = [_windows(plane, side) for plane in planes]
    waves = _Waves(*np.zeros((3, *views[0].shape[:2]), np.float32))
    few = np.zeros(waves.degree.shape, bool)
    few[::2, ::2] = True
    _look(views, few, waves)
    near = cv2.dilate((_degree(waves, least_cv) >= 1).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    _look(views, near & ~few, waves)
    return waves


def _degree(waves: _Waves, least_cv: float) -> Array:
    """How far the amplitude passes its bar too."""
    return np.minimum(waves.degree, waves.amplitude * (CV_SCALE / least_cv))


def _look(views: list[Array], chosen: Mask, waves: _Waves) -> None:
    """Look at the chosen windows of luma, Cb and Cr (rows×columns×side×side each), some at a time."""
    at = np.argwhere(chosen)

    def some(first: int, end: int) -> None:
        for k in range(first, end, WINDOWS):
            rows, columns = at[k : min(k + WINDOWS, end)].T
            found = _waves(*(view[rows, columns] for view in views))
            for whole, part in zip((waves.degree, waves.amplitude, waves.period), found, strict=True):
                whole[rows, columns] = part

    in_bands(len(at), some, least=WINDOWS)


def _waves(luma: Array, blue: Array, red: Array) -> tuple[Array, Array, Array]:
    """Degree, amplitude and period, N each, of windows of luma, Cb and Cr (N×side×side) in frequency. Luma is
    looked at where colour alone would pass."""
    side = luma.shape[-1]
    away = np.hypot(np.fft.fftfreq(side, 1 / side)[:, None], np.arange(side // 2 + 1)).astype(np.float32)
    searched, finest = (away >= SLOWEST) & (away <= side / 2), away >= side / 4
    middle = (away >= side / 8) & ~finest
    colour = _power(blue) + _power(red)
    floor = np.median(colour[..., searched], axis=-1) / np.log(2)
    colour = np.maximum(colour - floor[:, None, None], 0)
    energy, taken, first = _strongest(colour * searched)
    hold = energy / (colour[..., away >= 1].sum(axis=-1) + TINY)
    base = energy / (9 * PEAKS * OVER_FLOOR * floor + TINY)
    degree, amplitude = np.minimum(base, hold / HOLD), np.sqrt(energy)
    may = degree >= WEAKER
    light = _power(luma[may])
    grain = np.median(light[..., away >= side / 8], axis=-1) / np.log(2)
    pattern = np.maximum(light - grain[:, None, None], 0)
    fine = pattern[..., finest].sum(axis=-1)
    all_luma = pattern[..., searched].sum(axis=-1)
    energy, base, hold = energy[may], base[may], hold[may]
    tint = blue[may].mean(axis=(1, 2)) ** 2 + red[may].mean(axis=(1, 2)) ** 2
    over, swing = energy / ((light * taken[may]).sum(axis=(1, 2)) + TINY), 2 * energy / (tint + TINY)
    cloth = np.minimum(degree[may], fine / (FINE * pattern[..., middle].sum(axis=-1) + TINY))
    degree[may] = np.maximum.reduce([
        np.minimum.reduce([cloth, over / OVER_LUMA, swing / SWING]),
        np.minimum.reduce([cloth, over / LITTLE_OVER_LUMA, swing / ABOUT_GREY]),
        np.minimum.reduce([
            cloth, over / TINTED_OVER_LUMA, TINTED_OVER_FINE * fine / (energy + TINY), swing / TINTED_SWING
        ]),
        np.minimum.reduce([base, hold / HOLD_ALONE, energy / (ALONE * all_luma + TINY), swing / ABOUT_GREY]),
    ])  # fmt: skip
    return degree, amplitude, side / np.maximum(away.ravel()[first], 1)


def _windows(plane: Array, side: int) -> Array:
    """rows×columns×side×side, each overlapping the next by half."""
    return sliding_window_view(plane, (side, side))[:: side // 2, :: side // 2]


def _power(windows: Array) -> Array:
    """Power of windows (…×side×side) by frequency, …×side×(side/2+1), such that a sine of RMS amplitude a sums to
    a². Levels and slopes are taken out first."""
    side = windows.shape[-1]
    wave = np.sin(np.pi * (np.arange(side) + 0.5) / side) ** 2
    bell = np.outer(wave, wave).astype(np.float32)
    slope = np.linspace(-1, 1, side, dtype=np.float32)
    norm = side * float((slope**2).sum())
    across, down = windows.sum(axis=-2) @ slope / norm, windows.sum(axis=-1) @ slope / norm
    flat = windows - windows.mean(axis=(-2, -1), keepdims=True)
    flat -= across[..., None, None] * slope
    flat -= down[..., None, None] * slope[:, None]
    spectrum = scipy.fft.rfft2(flat * bell)
    power: Array = (spectrum.real**2 + spectrum.imag**2) / (side * side * float((bell**2).sum()))
    power[..., 1:-1] *= 2
    return power


def _strongest(colour: Array) -> tuple[Array, Mask, npt.NDArray[np.intp]]:
    """Energy of colour in the 3×3 frequencies about each of its `PEAKS` strongest, the width of a window's own
    line; which frequencies those are; and the index of the first peak."""
    count, high, wide = colour.shape
    each = np.arange(count)
    rest, energy = colour.copy(), np.zeros(count)
    first = rest.reshape(count, -1).argmax(axis=1)
    for _ in range(PEAKS):
        y, x = np.divmod(rest.reshape(count, -1).argmax(axis=1), wide)
        for dy, dx in itertools.product((-1, 0, 1), repeat=2):
            there = (x + dx >= 0) & (x + dx < wide)
            at = each, (y + dy) % high, np.clip(x + dx, 0, wide - 1)
            energy += np.where(there, rest[at], 0)
            rest[at] = np.where(there, 0, rest[at])
    return energy, rest < colour, first
