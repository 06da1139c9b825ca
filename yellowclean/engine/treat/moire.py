"""Moiré: the coloured waves of fine cloth and grilles taken out, and what they left in luma.

Inside the patches that `measure.false_colour` finds, as sharply bounded as the cloth's own texture, colour comes
from the patch all around, by its ratio to luma, so that threads keep their tint. The threads stay in luma. What the
waves left there is told by frequency: where green, of which sensors have twice as many photosites, has less of the
waves than luma has, luma is made from green; and frequencies at which colour outweighs luma are damped."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import cv2
import numpy as np
import scipy

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import Array, Frame, Region, weighted
from ..measure.false_colour import CELL, GRID, SIDES, SLOWEST, false_colour
from ..parallel import in_bands
from ..parameters import Parameters, amount, quantity
from .base import Around, Need, OwnView, Picture, Treatment, Window, over_dimmed
from .case import Case, Proposal

SIDE, HOP = 32, 8
"""Windows in which luma's false pattern is told from the threads."""

THREADS, TYPICAL, LIKE = 1.2, 16.0, (0.3, 0.6)
"""Blur in pixels that threads do not outlive; over which their strength is averaged; and parts of that average from
which, and from which in full, a pixel belongs to the cloth."""

OWN, OTHER = 3.0, (0.6, 1.2)
"""Blur in pixels that waves hardly outlive; and amplitudes of the waves by which colour may then differ from that
of the cloth, in full and at most."""

AT_RIM = 1e-3
"""Weight of the rim of a patch beside its middle where one has both: the rim is only partly cloth."""

EDGE = 2.0
"""Pixels over which the treatment ends."""

PURE = 4
"""Power of the share of colour in a frequency by which green and luma are compared there."""

GREENER = (0.3, 0.8)
"""Measured shares of green below which none, and above which all is taken."""

OUTWEIGHS = (0.5, 2.0)
"""Energy of colour over that of luma from which a frequency of luma is damped, and is all taken out."""

MOST_RATIO = 2.0
"""Times that the colour of a place may be scaled by its luma."""

LASTING = 1.5
"""Times the share of the frames beside and the one itself in which false colour is found, for the strength: one
that misses it does not show."""

TO_RGB: Frame = np.linalg.inv(SIGNAL_MATRIX[3:].astype(np.float64)).astype(np.float32)


class Moire(Parameters):
    """Coloured waves on fine cloth and grilles."""

    colour: float = amount(100, "Colour", "How much of the false colour is taken.", most=100)
    luma: float = amount(
        100,
        "Luma",
        "How much is taken of the pattern that the false colour left in luma; the threads stay.",
        most=100,
    )
    least: float = quantity(
        4, "Weakest waves", "Amplitude from which coloured waves are taken for false.",
        unit="CV", least=1, most=64, step=0.5,
    )  # fmt: skip
    reach: int = quantity(
        12, "Colour from", "How far around the cloth's own colour is averaged; farther than the waves are long.",
        unit="px", least=4, most=32, step=1,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Seen:
    """A window as it is worked on: its place in the frame, luma, colour differences (2×H×W) and what they are on
    average over the cloth, and the share of each pixel that is treated."""

    place: Region
    luma: Array
    colours: Array
    usual: Array
    share: Array

    @property
    def waves(self) -> Array:
        """The false part of the colour differences."""
        return self.share * (self.colours - self.usual)


def need(p: Moire) -> Need:
    return Need(
        back=1, ahead=1, margin=int(4 * (p.reach + TYPICAL)) + SIDES[-1] + GRID + CELL, grid=GRID
    )  # fmt: skip


def apply(p: Moire, window: Window, around: Around) -> Picture:
    """Colour from all around, luma without the waves."""
    here = window.here.part(window.inside)
    seen = _seen(p, window, around)
    inside = window.wanted.within(seen.place).slices
    if not seen.share[inside].any():
        return here
    luma = seen.luma
    cleaned = luma + np.float32(p.luma / 100) * (_without_waves(seen) - luma) if p.luma else luma
    typical = _usual(luma, seen.share, p.reach)
    ratio = np.clip(cleaned / np.maximum(typical, np.float32(0.02)), 0, np.float32(MOST_RATIO))
    change = [seen.share * (cleaned - luma)]
    for plane, usual in zip(seen.colours, seen.usual, strict=True):
        change.append(seen.share * np.float32(p.colour / 100) * (usual * ratio - plane))
    wanted = np.stack([plane[inside] for plane in change], axis=-1).astype(np.float32)
    rgb = here.rgb + np.stack([weighted(wanted, row) for row in TO_RGB], axis=-1)
    return Picture(rgb.astype(np.float32), here.noise)


def _usual(plane: Array, share: Array, reach: float) -> Array:
    """A plane's mean all around, over what is treated."""
    weight = np.maximum(share, np.float32(1e-7))
    usual: Array = cv2.GaussianBlur(weight * plane, (0, 0), reach) / cv2.GaussianBlur(weight, (0, 0), reach)
    return usual


def _seen(p: Moire, window: Window, around: Around) -> _Seen:
    place = window.seen(GRID)
    rows, columns = place.within(window.place).slices
    picture = np.nan_to_num(window.here.rgb[rows, columns])
    luma, *colours = (weighted(picture, row) for row in SIGNAL_MATRIX[3:])

    def found(n: int) -> Array:
        def look() -> Array:
            frame = picture if n == window.n else window.pull(n).rgb[rows, columns]
            return false_colour(frame, p.least).inside.astype(np.float32)

        return around.kept(("false colour", p.least, n, place), look, lambda cells: cells.nbytes)

    cells = np.mean([found(n) for n in (window.n, *window.neighbours)], axis=0, dtype=np.float32)
    share = _share(np.minimum(LASTING * cells, 1), luma, colours, p.reach)
    usual = np.stack([_usual(plane, share, p.reach) for plane in colours])
    return _Seen(place, luma, np.stack(colours), usual, share)


def _share(cells: Array, luma: Array, colours: list[Array], reach: float) -> Array:
    """By pixels what was found by cells, as far as they are like the middle of the patch in texture and colour."""
    if not cells.any():
        return np.zeros_like(luma)
    inside = cv2.resize(cells, None, fx=CELL, fy=CELL, interpolation=cv2.INTER_NEAREST)[
        : len(luma), : luma.shape[1]
    ]
    middle = cv2.erode(inside, np.ones((2 * CELL + 1,) * 2, np.uint8)) + np.float32(AT_RIM) * inside
    like = np.minimum(_textured(luma, middle), _coloured(colours, middle, reach))
    share: Array = cv2.GaussianBlur(np.minimum(inside, like), (0, 0), EDGE)
    share[share < 1 / 256] = 0
    return share


def _textured(luma: Array, middle: Array) -> Array:
    """1 where threads are about as strong as in the cloth around, falling to 0."""
    threads = luma - cv2.GaussianBlur(luma, (0, 0), THREADS)
    strength = np.sqrt(cv2.GaussianBlur(threads * threads, (0, 0), EDGE))
    parts = strength / np.maximum(_usual(strength, middle, TYPICAL), np.float32(1e-6))
    like: Array = np.clip((parts - LIKE[0]) / (LIKE[1] - LIKE[0]), 0, 1)
    return like


def _coloured(colours: list[Array], middle: Array, reach: float) -> Array:
    """1 where colour, its waves averaged, is that of the cloth around within their amplitude, falling to 0."""
    away, swing = np.zeros((2, *middle.shape), np.float32)
    for plane in colours:
        usual = _usual(plane, middle, reach)
        away += (cv2.GaussianBlur(plane, (0, 0), OWN) - usual) ** 2
        swing += (plane - usual) ** 2
    amplitude = np.sqrt(_usual(swing, middle, reach))
    beyond = np.sqrt(away) / np.maximum(amplitude, np.float32(1e-6))
    like: Array = np.clip((OTHER[1] - beyond) / (OTHER[1] - OTHER[0]), 0, 1)
    return like


def _without_waves(seen: _Seen) -> Array:
    """Luma with its windows' false frequencies taken out where something is treated, added up again."""
    height, width = seen.share.shape
    bell = np.sin(np.pi * (np.arange(SIDE) + 0.5) / SIDE)
    both = np.outer(bell, bell).astype(np.float32)
    total, norm = np.zeros((2, height, width), np.float32)
    planes = np.stack([seen.luma, *seen.waves])
    for down, right in itertools.product(range(0, SIDE, HOP), repeat=2):
        rows, columns = (height - down) // SIDE, (width - right) // SIDE
        if rows and columns:
            part = slice(down, down + rows * SIDE), slice(right, right + columns * SIDE)
            total[part] += _tiles_cleaned(planes[:, *part], seen.share[part], both)
            norm[part] += np.tile(both * both, (rows, columns))
    return np.where(norm > 0, total / np.maximum(norm, np.float32(1e-6)), seen.luma)


def _tiles_cleaned(planes: Array, share: Array, bell: Array) -> Array:
    """Luma of tiles side by side, weighted by the bell twice; those where nothing is treated as they are."""
    rows, columns = (side // SIDE for side in share.shape)

    def tiled(plane: Array) -> Array:
        return plane.reshape(rows, SIDE, columns, SIDE).transpose(0, 2, 1, 3).reshape(-1, SIDE, SIDE)

    wanted = np.flatnonzero(tiled(share).any(axis=(1, 2)))
    tiles = [tiled(plane)[wanted] * bell for plane in planes]
    out = tiled(planes[0]) * (bell * bell)

    def clean(first: int, end: int) -> None:
        spectra = [scipy.fft.rfft2(t[first:end]) for t in tiles]
        out[wanted[first:end]] = scipy.fft.irfft2(_cleaned(*spectra), s=(SIDE, SIDE)) * bell

    in_bands(len(wanted), clean)
    return out.reshape(rows, columns, SIDE, SIDE).transpose(0, 2, 1, 3).reshape(share.shape)


def _cleaned(luma: Array, blue: Array, red: Array) -> Array:
    """Spectra of luma without what the waves, of which those of Cb and Cr tell, left in it."""
    away = np.hypot(np.fft.fftfreq(SIDE, 1 / SIDE)[:, None], np.arange(SIDE // 2 + 1))
    quick = away >= SLOWEST
    colour = _energy(blue) + _energy(red)
    weight = np.where(quick, (colour / (colour + _energy(luma) + 1e-9)) ** PURE, 0)
    to_green = TO_RGB[1, 1] * blue + TO_RGB[1, 2] * red
    told = -(weight * (to_green.conj() * luma).real).sum(axis=(1, 2))
    green = told / ((weight * _energy(to_green)).sum(axis=(1, 2)) + 1e-9)
    green = np.clip((green - GREENER[0]) / (GREENER[1] - GREENER[0]), 0, 1)[:, None, None]
    made = np.where(quick, luma + green * to_green, luma)
    over = colour / (_energy(made) + 1e-9)
    kept = 1 - np.clip((over - OUTWEIGHS[0]) / (OUTWEIGHS[1] - OUTWEIGHS[0]), 0, 1)
    cleaned: Array = made * np.where(quick, kept, 1)
    return cleaned


def _energy(spectrum: Array) -> Array:
    energy: Array = spectrum.real**2 + spectrum.imag**2
    return energy


def waves_shown(p: Moire, window: Window, around: Around) -> Frame:
    """The picture dimmed, what is treated in yellow, as strongly as it is."""
    seen = _seen(p, window, around)
    inside = window.wanted.within(seen.place).slices
    return over_dimmed(seen.luma[inside], seen.share[inside])


def propose(case: Case) -> Proposal | None:
    """Colour from all around where waves are seen."""
    finding = case.outside("moiré")
    if finding is None:
        return None
    return Proposal(
        {}, f"Coloured {finding.detail} ({finding.value:.0f} CV): colour is taken from the cloth around them, its"
        " threads stay in luma.",
    )  # fmt: skip


TREATMENT = Treatment(
    kind="moire", title="Moiré", treats=("moiré",), order=50, parameters=Moire, need=need, apply=apply,
    propose=propose, mends=True,
    views=(
        OwnView(
            "waves", "False colour", "Where colour is taken for false in yellow, over the dimmed picture.",
            waves_shown,
        ),
    ),
    early="noise hides the waves that it looks for",
)  # fmt: skip
