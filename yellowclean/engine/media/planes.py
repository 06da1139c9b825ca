"""Between the planes of a video frame and encoded R'G'B' in float32.

Level and matrix equations: ITU-T H.273 (07/2021), section 8.3, derived from K_R and K_B alone, so
that the two directions cannot drift apart. Chroma sits at the left of its luma pair and, in 4:2:0,
half way between two lines (chroma sample location type 0, the default of H.264 and HEVC).
"""

from __future__ import annotations

from dataclasses import dataclass

import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import Array, Frame
from ..parallel import in_bands
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


@nb.njit(nogil=True, cache=True)
def _upsampled(plane, y, x, vertical, horizontal):  # type: ignore[no-untyped-def]
    """Bilinear value of a chroma plane at luma position (y, x), edges repeated."""
    rows, columns = plane.shape
    fy = (y - 0.5) * 0.5 if vertical else float(y)
    fx = x * 0.5 if horizontal else float(x)
    y0 = int(np.floor(fy))
    x0 = int(np.floor(fx))
    wy = np.float32(fy - y0)
    wx = np.float32(fx - x0)
    ya, yb = min(max(y0, 0), rows - 1), min(max(y0 + 1, 0), rows - 1)
    xa, xb = min(x0, columns - 1), min(x0 + 1, columns - 1)
    top = plane[ya, xa] * (1 - wx) + plane[ya, xb] * wx
    low = plane[yb, xa] * (1 - wx) + plane[yb, xb] * wx
    return top * (1 - wy) + low * wy


@nb.njit(nogil=True, cache=True)
def _yuv_rows(luma, cb, cr, vertical, horizontal, scales, k, out, first, end):  # type: ignore[no-untyped-def]
    y_offset, y_gain, c_offset, c_gain = scales
    for y in range(first, end):
        for x in range(luma.shape[1]):
            level = (np.float32(luma[y, x]) - y_offset) * y_gain
            blue = (_upsampled(cb, y, x, vertical, horizontal) - c_offset) * c_gain
            red = (_upsampled(cr, y, x, vertical, horizontal) - c_offset) * c_gain
            out[y, x, 0] = level + k[0] * red
            out[y, x, 1] = level + k[1] * blue + k[2] * red
            out[y, x, 2] = level + k[3] * blue


def rgb_from_yuv(luma: Plane, cb: Plane, cr: Plane, coding: Coding) -> Frame:
    """R'G'B' of three planes; the chroma planes may be half as wide, or half as wide and high."""
    height, width = luma.shape
    y_offset, y_span = coding.luma_scale
    c_offset, c_span = coding.chroma_scale
    scales = np.array([y_offset, 1 / y_span, c_offset, 1 / c_span], np.float32)
    kr, kb = KR_KB[coding.matrix]
    kg = 1 - kr - kb
    k = np.array([2 * (1 - kr), -2 * kb * (1 - kb) / kg, -2 * kr * (1 - kr) / kg, 2 * (1 - kb)], np.float32)
    halved = cb.shape[0] < height, cb.shape[1] < width
    out = np.empty((height, width, 3), np.float32)
    in_bands(height, lambda a, b: _yuv_rows(luma, cb, cr, *halved, scales, k, out, a, b))
    return out


def levels(plane: Plane, coding: Coding) -> Array:
    """A plane of Y' (or of R', G' or B') in frame values."""
    offset, span = coding.luma_scale
    return (plane.astype(np.float32) - np.float32(offset)) * np.float32(1 / span)


def rgb_from_gbr(green: Plane, blue: Plane, red: Plane, coding: Coding) -> Frame:
    """R'G'B' of three full planes in the order in which FFmpeg stores them."""
    result: Frame = np.stack([levels(plane, coding) for plane in (red, green, blue)], axis=-1).astype(np.float32)
    return result


def yuv_from_rgb(rgb: Frame, coding: Coding, chroma: str) -> tuple[Plane, Plane, Plane]:
    """Y'CbCr planes as uint16 (uint8 for 8 bits) with chroma "4:4:4", "4:2:2" or "4:2:0".

    Chroma is low-passed with [1 2 1]/4 across the pair it stands for and, in 4:2:0, averaged over
    two lines. Odd sizes round the chroma planes up.
    """
    kr, kb = KR_KB[coding.matrix]
    rgb = np.nan_to_num(rgb)
    luma = rgb @ np.array([kr, 1 - kr - kb, kb], np.float32)
    cb = (rgb[..., 2] - luma) / np.float32(2 * (1 - kb))
    cr = (rgb[..., 0] - luma) / np.float32(2 * (1 - kr))
    if chroma != "4:4:4":
        cb, cr = _half_width(cb), _half_width(cr)
    if chroma == "4:2:0":
        cb, cr = _half_height(cb), _half_height(cr)
    y_offset, y_span = coding.luma_scale
    c_offset, c_span = coding.chroma_scale
    return (
        _quantised(luma * y_span + y_offset, coding),
        _quantised(cb * c_span + c_offset, coding),
        _quantised(cr * c_span + c_offset, coding),
    )


def gbr_from_rgb(rgb: Frame, coding: Coding) -> tuple[Plane, Plane, Plane]:
    """Green, blue and red planes of full resolution."""
    offset, span = coding.luma_scale
    rgb = np.nan_to_num(rgb)
    red, green, blue = (_quantised(rgb[..., c] * span + offset, coding) for c in range(3))
    return green, blue, red


def _quantised(values: Array, coding: Coding) -> Plane:
    whole = np.rint(np.clip(values, 0, (1 << coding.bits) - 1))
    return whole.astype(np.uint16) if coding.bits > 8 else whole.astype(np.uint8)


def _half_width(plane: Array) -> Array:
    padded = np.pad(plane, ((0, 0), (1, 1)), mode="edge")
    smooth = (padded[:, :-2] + 2 * padded[:, 1:-1] + padded[:, 2:]) * np.float32(0.25)
    half: Array = smooth[:, ::2]
    return half


def _half_height(plane: Array) -> Array:
    if plane.shape[0] % 2:
        plane = np.pad(plane, ((0, 1), (0, 0)), mode="edge")
    half: Array = (plane[::2] + plane[1::2]) * np.float32(0.5)
    return half
