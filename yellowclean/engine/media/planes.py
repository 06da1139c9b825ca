"""Between the planes of a video frame and encoded R'G'B' in float32.

Level and matrix equations: ITU-T H.273 (07/2021), section 8.3, derived from K_R and K_B alone, so
that the two directions cannot drift apart. Where chroma has half the samples it is interpolated
linearly between them on the way up. On the way down, chroma that came from halved samples goes back
by the least-squares inverse of that interpolation, which returns the very samples it came from; chroma
that never was halved is low-passed, so that sharp edges do not overshoot.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numba as nb
import numpy as np
import numpy.typing as npt
import scipy

from ..frames import Array, Frame
from ..parallel import in_bands
from ..simd import unsigned as _u
from .dither import Dither
from .tags import KR_KB

Plane = npt.NDArray[np.uint8] | npt.NDArray[np.uint16]


@dataclass(frozen=True, slots=True)
class Coding:
    """How integers stand for R'G'B': matrix name (or "rgb"), depth in bits, full or limited range."""

    matrix: str
    bits: int
    full_range: bool

    @property
    def luma_scale(self) -> tuple[float, float]:
        """(offset, span) of Y' or of R', G' and B'."""
        if self.full_range:
            return 0.0, float((1 << self.bits) - 1)
        unit = 1 << (self.bits - 8)
        return 16.0 * unit, 219.0 * unit

    @property
    def chroma_scale(self) -> tuple[float, float]:
        """(offset, span) of Cb and Cr, whose nominal range is ±0.5."""
        middle = float(1 << (self.bits - 1))
        return middle, float((1 << self.bits) - 1) if self.full_range else 224.0 * (1 << (self.bits - 8))


SITINGS = {
    "left": (0.0, 0.5), "center": (0.5, 0.5), "topleft": (0.0, 0.0),
    "top": (0.5, 0.0), "bottomleft": (0.0, 1.0), "bottom": (0.5, 1.0),
}  # fmt: skip
"""Where the first chroma sample lies, in luma pixels across and down: chroma sample location types 0 to 5 of
ITU-T H.273 (07/2021), figure 7, in their order. "left" is the default of H.264 and HEVC."""

HALVED = {"4:2:0": (True, True), "4:2:2": (True, False), "4:4:4": (False, False)}
"""Whether chroma is halved across, and down."""


def _between(size: int, samples: int, phase: float) -> tuple[npt.NDArray[np.uint64], npt.NDArray[np.uint64], Array]:
    """For every pixel along an axis: the chroma samples before and behind it, edges repeated, and the share of the
    latter. Shares are quarters, so that no order of sums rounds."""
    place = (np.arange(size) - phase) / 2 if samples < size else np.arange(size, dtype=np.float64)
    first = np.floor(place)
    before, behind = (np.clip(first + k, 0, samples - 1).astype(np.uint64) for k in (0, 1))
    return before, behind, (place - first).astype(np.float32)


@nb.njit(nogil=True, cache=True)
def _chroma_row(plane, above, below, down, across, offset, gain, between, row):  # type: ignore[no-untyped-def]
    before, behind, share = across
    for x in range(_u(between.size)):
        high, low = np.float32(plane[above, x]), np.float32(plane[below, x])
        between[x] = (high + down * (low - high) - offset) * gain
    for x in range(_u(row.size)):
        left = between[before[x]]
        row[x] = left + share[x] * (between[behind[x]] - left)


@nb.njit(nogil=True, cache=True)
def _yuv_rows(luma, cb, cr, down, across, scales, k, out, first, end):  # type: ignore[no-untyped-def]
    y_offset, y_gain, c_offset, c_gain = scales
    width = luma.shape[1]
    blue, red, between = np.empty(width, np.float32), np.empty(width, np.float32), np.empty(cb.shape[1], np.float32)
    above, below, share = down
    for y in range(first, end):
        _chroma_row(cb, above[y], below[y], share[y], across, c_offset, c_gain, between, blue)
        _chroma_row(cr, above[y], below[y], share[y], across, c_offset, c_gain, between, red)
        row = _u(y)
        for x in range(_u(width)):
            level = (np.float32(luma[row, x]) - y_offset) * y_gain
            out[row, x, 0] = level + k[0] * red[x]
            out[row, x, 1] = level + k[1] * blue[x] + k[2] * red[x]
            out[row, x, 2] = level + k[3] * blue[x]


def rgb_from_yuv(luma: Plane, cb: Plane, cr: Plane, coding: Coding, siting: str = "left") -> Frame:
    """R'G'B' of three planes; the chroma planes may be half as wide, or half as wide and high, with their
    first sample where `siting` (a key of `SITINGS`) says."""
    height, width = luma.shape
    y_offset, y_span = coding.luma_scale
    c_offset, c_span = coding.chroma_scale
    scales = np.array([y_offset, 1 / y_span, c_offset, 1 / c_span], np.float32)
    kr, kb = KR_KB[coding.matrix]
    kg = 1 - kr - kb
    k = np.array([2 * (1 - kr), -2 * kb * (1 - kb) / kg, -2 * kr * (1 - kr) / kg, 2 * (1 - kb)], np.float32)
    across, down = (
        _between(size, samples, phase)
        for size, samples, phase in zip((width, height), cb.shape[::-1], SITINGS[siting], strict=True)
    )
    out = np.empty((height, width, 3), np.float32)
    in_bands(height, lambda a, b: _yuv_rows(luma, cb, cr, down, across, scales, k, out, a, b))
    return out


def levels(plane: Plane, coding: Coding) -> Array:
    """A plane of Y' (or of R', G' or B') in frame values."""
    offset, span = coding.luma_scale
    return (plane.astype(np.float32) - np.float32(offset)) * np.float32(1 / span)


def rgb_from_gbr(green: Plane, blue: Plane, red: Plane, coding: Coding) -> Frame:
    """R'G'B' of three full planes in the order in which FFmpeg stores them."""
    result: Frame = np.stack([levels(plane, coding) for plane in (red, green, blue)], axis=-1).astype(np.float32)
    return result


def yuv_from_rgb(
    rgb: Frame,
    coding: Coding,
    chroma: str,
    *,
    siting: str = "left",
    came_from: str = "4:4:4",
    dither: Dither | None = None,
) -> tuple[Plane, Plane, Plane]:
    """Y'CbCr planes as uint16 (uint8 for 8 bits) with chroma "4:4:4", "4:2:2" or "4:2:0".

    `came_from` is the sampling of the picture's source: along an axis that was halved there, chroma goes
    down by the exact inverse of how it came up. Odd sizes round the chroma planes up.
    """
    kr, kb = KR_KB[coding.matrix]
    rgb = np.nan_to_num(rgb)
    luma = rgb @ np.array([kr, 1 - kr - kb, kb], np.float32)
    cb = (rgb[..., 2] - luma) / np.float32(2 * (1 - kb))
    cr = (rgb[..., 0] - luma) / np.float32(2 * (1 - kr))
    were = HALVED.get(came_from, (False, False))
    for axis, (halve, was, phase) in enumerate(zip(HALVED[chroma], were, SITINGS[siting], strict=True)):
        if halve:
            down = _inverted if was else averaged
            cb, cr = (_along(1 - axis, down, plane, phase) for plane in (cb, cr))
    y_offset, y_span = coding.luma_scale
    c_offset, c_span = coding.chroma_scale
    return (
        quantised(luma * y_span + y_offset, coding.bits, dither),
        quantised(cb * c_span + c_offset, coding.bits, dither, 1),
        quantised(cr * c_span + c_offset, coding.bits, dither, 2),
    )


def gbr_from_rgb(rgb: Frame, coding: Coding, dither: Dither | None = None) -> tuple[Plane, Plane, Plane]:
    """Green, blue and red planes of full resolution."""
    offset, span = coding.luma_scale
    rgb = np.nan_to_num(rgb)
    red, green, blue = (quantised(rgb[..., c] * span + offset, coding.bits, dither) for c in range(3))
    return green, blue, red


def quantised(values: Array, bits: int, dither: Dither | None = None, plane: int = 0) -> Plane:
    """A plane in codes, rounded to whole ones (uint8 up to 8 bits), dithered where that is asked for."""
    most = (1 << bits) - 1
    codes = values if dither is None else dither.on(values, most, plane)
    whole = np.rint(np.clip(codes, 0, most))
    return whole.astype(np.uint16) if bits > 8 else whole.astype(np.uint8)


def _along(axis: int, down: Callable[[Array, float], Array], plane: Array, phase: float) -> Array:
    """A plane halved along one axis by a function that halves its rows."""
    return down(plane, phase) if axis == 0 else np.ascontiguousarray(down(plane.T, phase).T)


def averaged(lines: Array, phase: float) -> Array:
    """Half of the rows, low-passed about where each lies: [1 1]/2 between two (`phase` 0.5), [1 2 1]/4 on one (the
    first: 0, the second: 1)."""
    kernel = [0.5, 0.5] if phase == 0.5 else [0.25, 0.5, 0.25]
    above = 1 if phase == 0 else 0
    padded = cv2.copyMakeBorder(lines, above, 2, 0, 0, cv2.BORDER_REPLICATE)
    count = (len(lines) + 1) // 2
    return sum(  # type: ignore[return-value]
        padded[k : k + 2 * count - 1 : 2] * np.float32(weight) for k, weight in enumerate(kernel)
    )


def _inverted(lines: Array, phase: float) -> Array:
    """The rows whose interpolation comes closest to `lines`, in the least-squares sense: where `lines` were
    interpolated from such rows, those rows themselves."""
    count = (len(lines) + 1) // 2
    if count == 1:
        return lines.mean(axis=0, keepdims=True)
    place = (np.arange(len(lines)) - phase) / 2
    before = np.floor(place).astype(int)
    share = (place - before).astype(np.float32)
    rows, columns = np.tile(np.arange(len(lines)), 2), np.clip(np.append(before, before + 1), 0, count - 1)
    up = scipy.sparse.csr_array((np.append(1 - share, share), (rows, columns)), (len(lines), count))
    gram = up.T @ up
    banded = np.stack([np.append(0, gram.diagonal(1)), gram.diagonal()])
    solved: Array = scipy.linalg.solveh_banded(banded, up.T @ lines, check_finite=False)
    return solved
