"""A film grain table: measured noise as a player of AV1 lays it over the cleaned picture.

The player adds, block by block, autoregressive noise scaled by the level of luma (AV1 Bitstream & Decoding Process
Specification, version 1.0.0 with errata 1, sections 6.8.20 and 7.18.3; Norkin, Birkbeck 2018, "Film grain synthesis
for AV1 video codec"). What its figures must be is found by showing noise of the profile to the coding itself, at
levels from black to white: how large it is in the file's codes, and how it hangs together from pixel to pixel.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ..frames import Array, Frame, Region
from ..media.info import MediaInfo
from ..media.planes import Coding, yuv_from_rgb
from .field import grain_field
from .profile import NoiseProfile
from .stabilise import Stabiliser

SIDE = 512
"""Pixels each way of the noise that is shown: correlations come out within half a hundredth."""

POINTS = 10
"""Levels at which the size is told; the format takes as many for chroma, and 14 for luma."""

LAG = 3
"""Pixels to the left and lines above that the noise of a pixel is made of: 24 of them."""

BEHIND = tuple((y, x) for y in range(-LAG, 1) for x in range(-LAG, LAG + 1) if y < 0 or x < 0)

PLANES = "Y", "Cb", "Cr"

OF_LUMA_ALONE = "128 192 256"
"""Weights of chroma and luma in the level that chroma is scaled by, and an offset: none, one, none."""

WHITE_DEVIATION = 128
"""Of the player's white noise, in codes of 10 bits."""

CODE = 64
"""A code of 10 bits in those of 16."""

MOST_GAIN = 2.5
"""Growth of the deviation from white noise up to which the player's noise is hardly cut off at its ends."""


@dataclass(frozen=True, slots=True)
class _Shape:
    """How noise hangs together: what it takes of the pixels `BEHIND`, and for chroma of luma's noise in its place;
    and the growth of its deviation from that of the white noise that is added."""

    shares: Array
    gain: float


def grain_table(
    profile: NoiseProfile, info: MediaInfo, coding: Coding, seen: Callable[[Frame], Frame], *,
    left: tuple[float, float] = (0, 0),
) -> str:  # fmt: skip
    """The table, as the reference encoder reads it, for a picture of 4:2:0 coded so after `seen` was applied to it.
    `left` is what the picture still holds of the noise, in shares of the deviation of luma and of chroma: the
    player adds the rest."""
    missing = [max(1 - share * share, 0.0) ** 0.5 for share in (left[0], left[1], left[1])]
    levels, sizes, noise = _shown(profile, info, coding, seen)
    shapes = _shapes(noise)
    scale_down = next((k for k in range(3) if max(s.gain for s in shapes) / 2**k <= MOST_GAIN), 3)
    wanted = [
        size * share / (WHITE_DEVIATION / 2**scale_down * shape.gain)
        for size, share, shape in zip(sizes, missing, shapes, strict=True)
    ]
    finest = next((k for k in (11, 10, 9) if max(w.max() for w in wanted) * 2**k <= 255), 8)
    largest = max(np.abs(s.shares).max() for s in shapes)
    precision = next((k for k in (9, 8, 7) if largest * 2**k <= 127), 6)
    lines = ["filmgrn1", f"E 0 {2**63 - 1} 1 7391 1"]
    lines += [f"\tp {LAG} {precision} {scale_down} {finest} 0 1 {OF_LUMA_ALONE} {OF_LUMA_ALONE}"]
    for plane, size in zip(PLANES, wanted, strict=True):
        lines.append(f"\ts{plane} {_pairs(levels, np.rint(np.minimum(size * 2**finest, 255)).astype(int))}")
    for plane, shape in zip(PLANES, shapes, strict=True):
        shares = np.clip(np.rint(shape.shares * 2**precision), -128, 127).astype(int)
        lines.append(f"\tc{plane} {' '.join(map(str, shares))}")
    return "\n".join(lines) + "\n"


def _pairs(levels: Array, points: Array) -> str:
    if not points.any():
        return "0"
    return " ".join([str(len(points)), *(f"{a} {b}" for a, b in zip(levels, points, strict=True))])


def _shown(
    profile: NoiseProfile, info: MediaInfo, coding: Coding, seen: Callable[[Frame], Frame]
) -> tuple[Array, Array, list[Array]]:
    """Levels of luma in 8-bit codes, rising; the deviation of Y', Cb and Cr at each in codes of 10 bits, 3×levels;
    and the noise of the middle level, three planes."""
    fine = Coding(coding.matrix, 16, coding.full_range)
    stabiliser = Stabiliser.of(profile)
    field = grain_field(profile, 1, 0, Region(0, 0, SIDE, SIDE))
    taken = -np.ones((2, SIDE, SIDE), np.float32)
    sizes = dict[int, list[float]]()
    middle = list[Array]()
    for k, level in enumerate(np.linspace(0, 1, POINTS)):
        flat = np.full((SIDE, SIDE, 3), level, np.float32)
        before = stabiliser.opponent(flat)
        noisy = seen(stabiliser.applied(flat, before, before + field, taken))
        planes = yuv_from_rgb(noisy, fine, "4:2:0", siting=info.siting, came_from=info.chroma)
        codes = [(plane.astype(np.float32) - plane.mean(dtype=np.float64)) / np.float32(CODE) for plane in planes]
        sizes.setdefault(round(float(planes[0].mean()) / 256), [float(plane.std()) for plane in codes])
        if k == POINTS // 2:
            middle = codes
    levels = sorted(sizes)
    return np.array(levels), np.array([sizes[level] for level in levels]).T, middle


def _shapes(noise: Sequence[Array]) -> list[_Shape]:
    """Autoregression of the three planes, by least squares."""
    of_luma = _fitted(noise[0], [])
    beside = cv2.resize(noise[0], noise[1].shape[::-1], interpolation=cv2.INTER_AREA) / max(noise[0].std(), 1e-6)
    return [of_luma, *(_fitted(plane, [beside * np.float32(of_luma.gain)]) for plane in noise[1:])]


def _fitted(noise: Array, beside: list[Array]) -> _Shape:
    """`beside` are planes that the noise takes of too, in units of the white noise of their own."""
    size = noise.std()
    if size <= 1e-6:
        return _Shape(np.zeros(len(BEHIND) + len(beside)), 1.0)
    known = np.stack([*(np.roll(noise / size, (-y, -x), (0, 1)) for y, x in BEHIND), *beside]).reshape(
        -1, noise.size
    )
    wanted = (noise / size).ravel()
    square = known @ known.T / noise.size + 1e-4 * np.eye(len(known))
    shares = np.linalg.solve(square, known @ wanted / noise.size)
    white = max(float((wanted - shares @ known).std()), 0.03)
    shares[len(BEHIND) :] /= white
    return _Shape(shares, 1 / white)
