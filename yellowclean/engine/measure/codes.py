"""Which integer codes a picture uses: what tells 8-bit content in a 10-bit file."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import scipy

from ..frames import Array, Frame
from ..media import MediaInfo
from ..media.planes import Coding
from ..media.tags import KR_KB

Histogram = npt.NDArray[np.int64]

FEWEST = 12.0
"""Mean count about a code from which its emptiness says something."""


NARROWEST = 24
"""Codes that a picture spreads over before their evenness says anything."""

MOST_BITS, SEEN_BITS = 16, 10
"""Combs finer than this are of no consequence."""


def code_bits(info: MediaInfo) -> int:
    """Bits by which codes are counted: those recorded; floating point has none, and is looked at as 10 bits."""
    return SEEN_BITS if info.is_float else min(info.bit_depth, MOST_BITS)


def code_histogram(frame: Frame, info: MediaInfo) -> Histogram:
    """How often each code of the recorded luma (or of green, where R'G'B' is recorded) occurs."""
    bits = code_bits(info)
    coding = Coding(info.matrix, bits, info.range == "full")
    offset, span = coding.luma_scale
    if info.chroma in {"rgb", "gray"} or info.matrix not in KR_KB:
        plane = frame[..., 1]
    else:
        kr, kb = KR_KB[info.matrix]
        plane = frame @ np.array([kr, 1 - kr - kb, kb], np.float32)
    codes = np.rint(plane * np.float32(span) + np.float32(offset))
    top = (1 << bits) - 1
    return np.bincount(np.clip(codes, 0, top).astype(np.int64).ravel(), minlength=top + 1)


def used_range(histogram: Histogram) -> slice:
    """The codes between the first and the last percent of the pixels."""
    reached = np.cumsum(histogram) / max(int(histogram.sum()), 1)
    return slice(int(np.searchsorted(reached, 0.01)), int(np.searchsorted(reached, 0.99)) + 1)


def fill(histogram: Histogram) -> float:
    """Share of the codes in use, of those that as many pixels would use if none were missing (0-1)."""
    depth = int(np.log2(len(histogram)))
    expected = _local_mean(histogram, max(33, 4 << max(depth - 8, 0)) | 1)
    inside = used_range(histogram)
    likely = float((1 - np.exp(-expected[inside])).sum())
    return float(np.clip((histogram[inside] > 0).sum() / max(likely, 1e-9), 1e-4, 1.0))


def combs(histogram: Histogram) -> float:
    """Share of the well-filled codes that stand empty or doubled among even neighbours (0-1)."""
    finer = max(len(histogram) >> SEEN_BITS, 1)
    histogram = histogram.reshape(-1, finer).sum(axis=1)
    inside = used_range(histogram)
    if inside.stop - inside.start < NARROWEST:
        return 0.0
    counts = histogram.astype(np.float64)
    around = (np.roll(counts, 1) + np.roll(counts, -1) + np.roll(counts, 2) + np.roll(counts, -2)) / 4
    even = np.maximum(_local_mean(histogram, 33), around)
    judged = np.zeros(len(counts), bool)
    judged[inside] = even[inside] > FEWEST * 4
    odd = (counts < 0.3 * around) | (counts > 1.7 * around)
    # neighbours of an odd code look odd against it: half of the runs are counted at most once
    first = odd & ~np.roll(odd, 1)
    return float((first & judged).sum() / max(judged.sum(), 1))


def _local_mean(histogram: Histogram, width: int) -> Array:
    mean: Array = scipy.ndimage.uniform_filter1d(histogram.astype(np.float64), width, mode="nearest")
    return mean
