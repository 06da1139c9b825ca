"""How the light on a scene changes from frame to frame: as a whole, and in bands of rows as mains lamps make them
under a rolling shutter.

Small pictures of two frames are laid over each other along the camera's own motion, found by phase correlation on a
picture that does not know its brightness, since motion found on brightness follows the bands. The logarithms of
their ratios in linear light, in flat places that are neither black nor clipped, tell the change: their median the
whole frame's, their medians row by row the bands'. Bands are a wave that travels: its frequencies down the picture
and over time, two harmonics, their amplitudes and phases are fitted to the changes (least squares)."""

from __future__ import annotations

import functools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt

from ..colour.encodings import Encoding, converted, linear_like
from ..frames import Array

WIDTH, ROWS = 160, 90
"""Size of the small picture."""

DARKEST, BRIGHTEST = 0.002, 0.95
"""Linear light outside of which a cell tells nothing about a gain."""

FLAT = 0.15
"""Change of the logarithm from cell to cell up to which a place is flat enough to be compared."""

APART = 1, 4, 16
"""Frames between two pictures whose levels are compared: one for what is quick, many so that errors do not add up
(one alone leaves 1.5 to 2.5 times as much error on the test camera's scenes)."""

BANDS = 30
"""Bands of rows that are told apart."""

FEWEST, FEWEST_IN_BAND = 200, 30
"""Cells that a median needs."""

CUT = 0.5
"""Spread of the log ratios (upper less lower quartile) at which the picture is another one."""

LEAST_CYCLES, MOST_CYCLES = 0.4, 12.0
"""Waves down the picture that are looked for."""

LEAST_ROLL = 0.02
"""Cycles a frame below which a wave stands, and cannot be told from the scene."""

LEAST_PASSED = 1.0
"""Waves that have to pass while one looks, for one to be told from what walks through."""

HARMONICS, DAMPING = 2, 1e-3
"""Harmonics of a wave, and what keeps those small that stand still from frame to frame and cannot be told."""

FEWEST_FRAMES, FEWEST_TOLD = 6, 0.2
"""Frames, and share of all bands in all frames, that have to tell something."""

EXPLAINED, EXPLAINED_LONG, EXPLAINED_ALIKE, SLOW_ROLL, TURNS_ROLL = 0.15, 0.2, 0.5, 0.08, 0.45
"""Share of the changes of bands that a wave has to explain: more where less than one of it goes down the picture,
as of the light of a lantern that is carried through (0.10 to 0.15; lamps of 1.5 % from 0.21 on); and most where
it moves by less than so many cycles a frame, since what walks through the picture makes slow waves too (0.23 on
films that packages carry, 0.05 for faster), and where it turns with every frame, as the quality of a codec's
pictures does (0.35 at 3 Mbit/s)."""

MOST_BENT = 3
"""Order of the polynomials that a meant course may follow."""

CORNER, SHORTEST_RAMP = 0.05, 0.5
"""Parts of the slow time: how finely corners of a meant course are told, and how quick a meant ramp may be."""

PRICE = 1.5
"""What each number of a course is charged, in those of Schwarz's criterion (set on ramps, fades and switched lamps
under twelve random flickers: above, gentle ramps are taken for flicker; below, flicker for ramps)."""

NO_ERROR = 1e-8
"""Mean square of log gains below which a course is as good as exact."""

MARGIN = 6
"""Cells at the border that are not compared: motion brings in new picture there."""


def small_light(luma: Array, encoding: Encoding) -> Array:
    """ROWS×WIDTH logarithm of the linear light of a frame's luma (H×W); NaN where a cell tells nothing."""
    small = cv2.resize(luma, (WIDTH, ROWS), interpolation=cv2.INTER_AREA)
    linear_luma = converted(np.repeat(small[..., None], 3, axis=2), encoding.space, linear_like(encoding))[..., 1]
    told = (linear_luma > DARKEST) & (linear_luma < BRIGHTEST)
    light: Array = np.where(told, np.log(np.maximum(linear_luma, DARKEST)), np.nan).astype(np.float32)
    return light


@dataclass(frozen=True, slots=True)
class Change:
    """Logarithm of the gain since the frame before: of the whole frame, and of each of `BANDS` bands of rows (NaN
    where too little tells); and by what part of the height the picture moved down."""

    whole: float
    bands: Array
    moved: float = 0.0


def change(before: Array, here: Array) -> Change | None:
    """The change between two small pictures; None where they show another scene, or too little."""
    # in smooth pictures the motion found may be far from any: then standing still explains the ratios better
    tried = [(y, _ratios(before, here, x, y)) for x, y in (_shift(before, here), (0.0, 0.0))]
    y, ratios = min(tried, key=lambda motion: _spread(motion[1]))
    if _spread(ratios) > CUT:
        return None
    told = ratios[np.isfinite(ratios)]
    by_band = ratios.reshape(BANDS, -1)
    enough = np.isfinite(by_band).sum(axis=1) >= FEWEST_IN_BAND
    bands = np.full(BANDS, np.nan, np.float32)
    bands[enough] = np.nanmedian(by_band[enough], axis=1)
    return Change(float(np.median(told)), bands, y / ROWS)


def _ratios(before: Array, here: Array, x: float, y: float) -> Array:
    """Log ratios in flat places, after a motion in cells; NaN elsewhere."""
    moved = _moved(before, x, y)
    ratios = np.where(_flat(here) & _flat(moved), here - moved, np.nan)
    ratios[:MARGIN] = ratios[-MARGIN:] = ratios[:, :MARGIN] = ratios[:, -MARGIN:] = np.nan
    return ratios


def _spread(ratios: Array) -> float:
    """Upper less lower quartile; beyond all bounds where too few are told."""
    told = ratios[np.isfinite(ratios)]
    return float(np.subtract(*np.quantile(told, (0.75, 0.25)))) if told.size >= FEWEST else np.inf


def _shift(before: Array, here: Array) -> tuple[float, float]:
    """Motion in cells, from pictures that do not know their brightness."""
    pictures = [_blind(light) for light in (before, here)]
    window = cv2.createHanningWindow((WIDTH, ROWS), cv2.CV_32F)
    (x, y), response = cv2.phaseCorrelate(pictures[0], pictures[1], window)
    return (x, y) if response > 0.05 and abs(x) < WIDTH / 4 and abs(y) < ROWS / 4 else (0.0, 0.0)


def _blind(light: Array) -> Array:
    """What is left of a picture without its brightness and that of its rows."""
    filled = np.where(np.isfinite(light), light, np.log(DARKEST)).astype(np.float32)
    high: Array = filled - cv2.GaussianBlur(filled, (0, 0), 4)
    return high - high.mean(axis=1, keepdims=True)


def _moved(light: Array, x: float, y: float) -> Array:
    if abs(x) < 0.02 and abs(y) < 0.02:
        return light
    shift = np.array([[1, 0, x], [0, 1, y]], np.float64)
    moved: Array = cv2.warpAffine(
        light, shift, (WIDTH, ROWS), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_CONSTANT, borderValue=(np.nan,)
    )
    return moved


def _flat(light: Array) -> npt.NDArray[np.bool_]:
    filled = np.where(np.isfinite(light), light, np.float32(9))
    spread = cv2.dilate(filled, np.ones((3, 3), np.uint8)) - cv2.erode(filled, np.ones((3, 3), np.uint8))
    flat: npt.NDArray[np.bool_] = np.isfinite(light) & (spread < 2 * FLAT)
    return flat


def without_drift(logs: Array, slow: int) -> Array:
    """Deviation of the logs of a gain from their own slow course, so that what is meant stays."""
    return np.array([logs[n] - drift_at(logs, n, slow) for n in range(len(logs))])


def drift_at(logs: Array, n: int, slow: int) -> float:
    """The slow course of the logs at n, seen over `slow` frames to each side, or as many where one side ends: a
    level, slopes and bends, a ramp that begins and ends, or light switched for good. Each counts by what it
    explains beyond chance (averaged with weights by Schwarz's criterion: Hoeting et al., Bayesian Model Averaging,
    1999): what flickers must not tilt what does not, and nothing may switch from one frame to the next."""
    first = int(np.clip(n - slow, 0, max(len(logs) - 2 * slow - 1, 0)))
    seen = np.asarray(logs[first : first + 2 * slow + 1], np.float64)
    bases, asked = _courses(len(seen), slow)
    fits = np.einsum("mtk,mk->mt", bases, np.einsum("mtk,t->mk", bases, seen))
    left = ((seen - fits) ** 2).sum(axis=1)
    criterion = len(seen) * np.log(np.maximum(left, NO_ERROR * len(seen))) + PRICE * np.log(len(seen)) * asked
    weights = np.exp((criterion.min() - criterion) / 2)
    return float(weights @ fits[:, n - first] / weights.sum())


@lru_cache(maxsize=8)
def _courses(length: int, slow: int) -> tuple[Array, Array]:
    """Courses that light may be meant to take over so many frames: an orthonormal basis of each, M×length×4, and
    how many numbers each asks for, places of its corners among them."""
    at = np.arange(length) / max(slow, 1)
    level, ramp = np.ones(length), functools.partial(np.maximum, 0)
    tried = [([at**k for k in range(order + 1)], order + 1) for order in range(MOST_BENT + 1)]
    corners = np.arange(at[0] + CORNER, at[-1], CORNER)
    tried += [
        ([level, at, ramp(at - k)], 4) for k in corners if min(k - at[0], at[-1] - k) >= SHORTEST_RAMP
    ]  # fmt: skip
    tried += [
        ([level, ramp(at - k) - ramp(at - j)], 4) for k in corners for j in corners if j - k >= SHORTEST_RAMP
    ]  # fmt: skip
    tried += [([level, (at >= k).astype(np.float64)], 3) for k in at[2:-1]]
    kept = [(columns, asked) for columns, asked in tried if asked <= length]
    bases = np.zeros((len(kept), length, MOST_BENT + 1))
    for basis, (columns, _) in zip(bases, kept, strict=True):
        basis[:, : len(columns)] = np.linalg.qr(np.stack(columns, axis=1))[0]
    return bases, np.array([asked for _, asked in kept], np.float64)


@dataclass(frozen=True, slots=True)
class Wave:
    """Bands of light: cycles down the picture, cycles a frame, and for each harmonic the cosine and sine of the
    logarithm of the gain. `explained` is the share of the changes that it makes."""

    cycles: float
    roll: float
    parts: tuple[tuple[float, float], ...]
    explained: float

    def at(self, n: int, down: Array) -> Array:
        """Logarithm of the gain in frame n, at heights `down` (0 at the top, 1 at the bottom)."""
        total = np.zeros(np.shape(down))
        for k, (cosine, sine) in enumerate(self.parts, 1):
            phase = 2 * np.pi * k * (self.cycles * np.asarray(down, np.float64) + self.roll * n)
            total += cosine * np.cos(phase) + sine * np.sin(phase)
        return total.astype(np.float32)

    @property
    def variation(self) -> float:
        """Standard deviation of the gain."""
        return float(np.sqrt(sum(c * c + s * s for c, s in self.parts) / 2))


def wave(changes: Sequence[Change | None], first: int) -> Wave | None:
    """The wave that best explains the changes of bands in consecutive frames, the first of them that of frame
    `first` since the one before; None where none explains enough."""
    seen = np.array([np.full(BANDS, np.nan) if c is None else c.bands for c in changes], np.float64)
    told = np.isfinite(seen)
    if told.any(axis=1).sum() < FEWEST_FRAMES or told.mean() < FEWEST_TOLD:
        return None
    seen = np.where(told, seen, 0)
    seen -= seen.sum(axis=1, keepdims=True) / np.maximum(told.sum(axis=1, keepdims=True), 1) * told
    power = np.abs(np.fft.fft2(seen * np.hanning(len(seen) + 2)[1:-1, None], (4 * len(seen), 4 * BANDS))) ** 2
    cycles, roll = np.fft.fftfreq(4 * BANDS) * BANDS, np.fft.fftfreq(4 * len(seen))
    power[:, (cycles < LEAST_CYCLES) | (cycles > MOST_CYCLES)] = 0
    power[np.abs(roll) < LEAST_ROLL] = 0
    best = np.unravel_index(int(power.argmax()), power.shape)
    moved = np.array([0.0 if c is None else c.moved for c in changes])
    fit = _Fit(seen, told, first, moved)
    return fit.near(float(cycles[best[1]]), float(roll[best[0]]), 1 / (4 * len(seen)))


def _least_explained(cycles: float, roll: float) -> float:
    if not SLOW_ROLL <= abs(roll) < TURNS_ROLL:
        return EXPLAINED_ALIKE
    return EXPLAINED if cycles >= 1 else EXPLAINED_LONG


class _Fit:
    """Changes of bands as values at frames and heights, and waves fitted to them. What all bands of a frame have in
    common is left out on both sides: it is the whole frame's."""

    def __init__(self, seen: Array, told: npt.NDArray[np.bool_], first: int, moved: Array) -> None:
        self._frame, band = np.nonzero(told)
        self._n = first + self._frame
        self._down = (band + 0.5) / BANDS
        self._before = self._down - moved[self._frame]
        self._values = seen[told]
        self._counts = np.maximum(np.bincount(self._frame, minlength=len(seen)), 1)

    def near(self, cycles: float, roll: float, grid: float) -> Wave | None:
        """The best wave about these frequencies."""
        wide, fine = 0.25, grid
        for _ in range(6):
            tried = [(cycles + i * wide, roll + j * fine) for i in (-1, 0, 1) for j in (-1, 0, 1)]
            cycles, roll = min(tried, key=lambda at: self._solved(*at)[0])
            wide, fine = wide / 2, fine / 2
        rest, parts = self._solved(cycles, roll)
        explained = 1 - rest / max(float((self._values**2).sum()), 1e-12)
        seen_whole = abs(roll) * len(self._counts) >= LEAST_PASSED and abs(roll) >= LEAST_ROLL
        if not seen_whole or cycles < LEAST_CYCLES or explained < _least_explained(cycles, roll):
            return None
        pairs = tuple((float(parts[2 * k]), float(parts[2 * k + 1])) for k in range(HARMONICS))
        return Wave(cycles, roll, pairs, explained)

    def _solved(self, cycles: float, roll: float) -> tuple[float, Array]:
        """What the best amplitudes leave unexplained, and the amplitudes."""
        now, before = (cycles * down + roll * n for down, n in ((self._down, self._n), (self._before, self._n - 1)))
        turns = [(2 * np.pi * k * now, 2 * np.pi * k * before) for k in range(1, HARMONICS + 1)]
        columns = [f(a) - f(b) for a, b in turns for f in (np.cos, np.sin)]
        matrix = np.stack([self._without_common(column) for column in columns], axis=1)
        gram = matrix.T @ matrix + DAMPING * len(self._values) * np.eye(matrix.shape[1])
        parts = np.linalg.solve(gram, matrix.T @ self._values)
        return float(((self._values - matrix @ parts) ** 2).sum()), parts

    def _without_common(self, column: Array) -> Array:
        common = np.bincount(self._frame, column, minlength=len(self._counts)) / self._counts
        rest: Array = column - common[self._frame]
        return rest


def beside_wave(change: Change, found: Wave, n: int, since: int = 1) -> float:
    """The whole frame's change in frame n since so many frames before, where a wave is known."""
    down = (np.arange(BANDS) + 0.5) / BANDS
    rest = change.bands - (found.at(n, down) - found.at(n - since, down - change.moved))
    return float(np.nanmedian(rest)) if np.isfinite(rest).any() else change.whole


def level_course(changes: Mapping[tuple[int, int], float], frames: range) -> Array:
    """Logarithm of the level in each of the frames, zero on average, from its changes by (frame before, frame):
    least squares, so that errors of neighbours do not add up where frames farther apart are known too. Where
    nothing tells a change from one frame to the next, as at a cut, none is taken."""
    pairs = {(n - 1, n): 0.0 for n in frames[1:]} | dict(changes)
    normal, right = np.full((len(frames), len(frames)), 1 / len(frames)), np.zeros(len(frames))
    for (before, here), told in pairs.items():
        a, b = before - frames.start, here - frames.start
        normal[[a, b], [a, b]] += 1
        normal[[a, b], [b, a]] -= 1
        right[[a, b]] += -told, told
    return np.linalg.solve(normal, right)
