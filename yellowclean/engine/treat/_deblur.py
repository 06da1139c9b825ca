"""What undoes a blur: a filter after Wiener (1949), made for the picture's own spectrum and noise.

The signal's spectrum is taken ring by ring, as falling towards fine detail, as that of pictures does (Field 1987).
What the filter brings up of noise is left to a sliding DCT with thresholds for that very noise (Neelamani, Choi,
Baraniuk 2004: regularised inverse, then shrinkage).
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np

from ..frames import Array, Region
from ..measure.lens import transfer
from ..measure.pieces import ring_numbers
from ..octaves import DCT
from ..shrinking import shrunk
from ._fir import HALF, alike, fitted, through_the_middle

TILE, MOST_TILES = 256, 24
"""Pixels a side of the tiles whose spectrum is taken, and how many at most."""

NOISE_SHARE = 0.4
"""Share of the noise that the filter is made for; the rest falls to the shrinkage, which sees where detail is. At
0.5 edges are 5 % less sharp (MTF50) for the same error within 0.03 dB."""

CLEAR = 2.0
"""Times the noise's power that a ring must have for its signal to be measured."""

FALL = 2.5
"""Power of the frequency by which the spectrum of pictures falls (Field 1987: 2; the finest detail of what lenses
and sensors hand on falls faster)."""

MOST_GAIN = 30.0

LEAST_THROUGH = 1e-4
"""What a blur lets through below which it lets through nothing."""


ANGLES = np.pi * np.arange(16) / 16
"""Directions over which what a blur lets through is averaged."""

AS_TOLD = np.linspace(0.8, 1.2, 9)
"""Shares of the way that is told over which something may have moved: nobody knows it to the pixel, and what is
made for one way alone does harm along any other."""


class Blur(NamedTuple):
    """A Gaussian of that deviation in pixels, or the disc of the same (of twice its radius), of what moved by so
    many pixels to the right and down while it was exposed."""

    deviation: float
    disc: bool = False
    moved: tuple[float, float] = (0.0, 0.0)

    def through(self, down: Array, across: Array, part: float = 1.0) -> Array:
        """What that part of it lets through at frequencies in cycles a pixel: the mean of all ways it may be."""
        found: Array = self._lens(down, across, part) * self._motion(down, across, part).mean(axis=0)
        return found

    def power_through(self, down: Array, across: Array) -> Array:
        """What it lets through of power: the mean of the same ways."""
        found: Array = self._lens(down, across, 1) ** 2 * (self._motion(down, across, 1) ** 2).mean(axis=0)
        return found

    def of_power(self, away: Array) -> Array:
        """The same in all directions together, by cycles a pixel."""
        down, across = np.outer(away, np.sin(ANGLES)), np.outer(away, np.cos(ANGLES))
        return self.power_through(down, across).mean(axis=1)

    def _lens(self, down: Array, across: Array, part: float) -> Array:
        return transfer(np.hypot(down, across), self.deviation * part, disc=self.disc)

    def _motion(self, down: Array, across: Array, part: float) -> Array:
        """One plane for each way."""
        found: Array = np.sinc(np.multiply.outer(part * AS_TOLD, down * self.moved[1] + across * self.moved[0]))
        return found


def rings(plane: Array) -> Array:
    """Power of a plane's detail, ring by ring from 0 to 0.5 cycles a pixel in steps of 1/TILE, each no higher than
    the one before; from tiles spread over it."""
    side = min(TILE, plane.shape[0] // 2 * 2, plane.shape[1] // 2 * 2)
    window = np.outer(np.hanning(side), np.hanning(side)).astype(np.float32)
    window /= np.sqrt((window**2).mean())
    power = np.zeros((side, side // 2 + 1))
    places = _spread(plane.shape[0] - side, plane.shape[1] - side, side)
    for y, x in places:
        tile = plane[y : y + side, x : x + side]
        power += np.abs(np.fft.rfft2((tile - tile.mean()) * window)) ** 2 / side**2
    ring = ring_numbers(side, TILE)
    count = np.maximum(np.bincount(ring.ravel()), 1e-9)
    mean = np.bincount(ring.ravel(), power.ravel()) / count / len(places)
    known = np.flatnonzero(np.bincount(ring.ravel()))[1:]  # the mean is no detail
    whole = np.interp(np.arange(TILE // 2 + 1), known, mean[known])
    falling: Array = np.minimum.accumulate(whole)
    return falling


def _spread(down: int, across: int, side: int) -> list[tuple[int, int]]:
    """Corners of at most MOST_TILES tiles, spread evenly over a plane."""
    rows, columns = (np.linspace(0, room, max(2 * room // side + 1, 1)).astype(int) for room in (down, across))
    places = [(int(y), int(x)) for y in rows for x in columns]
    return places[:: max(-(-len(places) // MOST_TILES), 1)]


def undoing(power: Array, noise: float, blur: Blur, share: float, by_size: tuple[float, ...]) -> Array:
    """The change that undoes a `share` (0-1) of a blur, as a filter of SIDE×SIDE: what it adds to the picture.

    `power` is told at `rings`, `noise` is the variance of the noise in it, `by_size` how much of the change is
    wanted at details of 1 to 2, 2 to 4 and more pixels (1: all)."""
    taps = through_the_middle() if any(blur.moved) else alike()
    signal = _sharp_signal(power, noise, blur, taps.away)
    through, seen = blur.through(taps.down, taps.across), blur.power_through(taps.down, taps.across) * signal
    sure = through**2 * signal / (seen + NOISE_SHARE * noise)
    inverse = sure / np.where(np.abs(through) < LEAST_THROUGH, np.inf, through)
    kept = blur.through(taps.down, taps.across, 1 - share)
    raised = np.clip(inverse * kept - 1, 0, MOST_GAIN)  # nothing is taken: that is not sharpening
    turned = np.clip(inverse * kept - sure, -MOST_GAIN, MOST_GAIN)  # a disc turns what is fine upside down
    wanted = np.where(through < 0, turned, raised) * _wanted(taps.away, by_size)
    return fitted(wanted, seen + noise, taps)


def _sharp_signal(power: Array, noise: float, blur: Blur, away: Array) -> Array:
    """Power of the picture before it was blurred: measured where it stands out of the noise, only falling, and from
    there on by the law that pictures follow."""
    ring = np.linspace(0, 0.5, len(power))
    through = np.maximum(blur.of_power(ring), 1e-6)
    clear = power > CLEAR * noise
    last = max(int(np.argmin(clear)) - 1 if not clear.all() else len(ring) - 1, 2)
    known = np.minimum.accumulate(np.maximum(power - noise, 0)[: last + 1] / through[: last + 1])
    beyond = known[-1] * (np.maximum(ring[last:], 1e-6) / ring[last]) ** -FALL
    return _at(np.concatenate([known[:-1], beyond]), away)


def unsharp(radius: float, amount: float, by_size: tuple[float, ...]) -> Array:
    """The change of an unsharp mask: `amount` times what a Gaussian of deviation `radius` takes away."""
    away = alike().away
    return fitted(amount * (1 - transfer(away, radius)) * _wanted(away, by_size), _usual(away), alike())


def giving_back(passed: Array, share: float, by_size: tuple[float, ...]) -> Array:
    """The change that gives back a `share` (0-1) of what steps took of contrast, where they let through so much of
    detail (`passed`, from 0 to 0.5 cycles a pixel)."""
    away = alike().away
    return fitted(share * (1 / _at(passed, away) - 1) * _wanted(away, by_size), _usual(away), alike())


def _wanted(away: Array, by_size: tuple[float, ...]) -> Array:
    """Amounts by the size of detail as a smooth curve over the frequency: a detail of s pixels is half a wave."""
    middles = np.log2([1 / 16, 1 / 6, 1 / 3])
    wanted: Array = np.interp(np.log2(np.maximum(away, 1e-6)), middles, by_size[::-1])
    return wanted


def _at(told: Array, away: Array) -> Array:
    """What is told ring by ring, from 0 to 0.5 cycles a pixel, at some frequencies."""
    return np.interp(away, np.linspace(0, 0.5, len(told)), told)


def _usual(away: Array) -> Array:
    """Power as pictures have it (Field 1987)."""
    found: Array = np.maximum(away, away[away > 0].min()) ** -2.0
    return found


def deviations(kernel: Array) -> Array:
    """What a filter makes of white noise of deviation 1, for each of the 64 coefficients of an 8×8 DCT."""
    power = np.abs(np.fft.rfft2(kernel, (64, 64))) ** 2
    twice = np.full(33, 2.0)
    twice[[0, -1]] = 1
    response = np.abs(np.fft.fft(DCT, 64, axis=1)) ** 2 / 64
    down, across = response, response[:, :33] * twice
    found: Array = np.sqrt(np.einsum("uf,vg,fg->uv", down, across, power)).astype(np.float32)
    return found


def added(
    plane: Array, noise: Array, spectrum: Array, kernel: Array, threshold: float, inside: Region
) -> tuple[Array, Array]:
    """What a filter adds to a plane, without the noise that it brings up, and with it: `noise` (same shape) is the
    plane's own deviation, `spectrum` (8×8) how that lies over the coefficients of a DCT (white: all 1), and what
    does not stand out of it `threshold` times is not added. The sides of the plane are even, and `inside` is no
    nearer to them than `REACH`."""
    change = cv2.filter2D(plane, cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT_101)
    flat = np.ascontiguousarray((deviations(kernel) * spectrum).reshape(-1))
    local = np.ascontiguousarray(cv2.blur(noise, (9, 9))[::2, ::2])
    guide = shrunk(change, None, flat, local, threshold).plane
    return shrunk(change, guide, flat, local, threshold).plane[inside.slices], change[inside.slices]


REACH = HALF + 16 + 6
"""Pixels around what is wanted that decide it: the filter's own, 8 for each pass of the DCT, and those over which
the noise is taken."""
