"""Compression: how many times smaller the file is than its picture."""

from __future__ import annotations

from collections.abc import Sequence

from ...media import MediaInfo
from .base import Detector, Finding, Look

SAMPLES = {"4:2:0": 1.5, "4:1:1": 1.5, "4:2:2": 2.0, "4:4:0": 2.0, "4:4:4": 3.0, "rgb": 3.0, "gray": 1.0}
"""Samples a pixel."""

EFFICIENCY = {"hevc": 2.0, "av1": 2.5, "vp9": 2.0, "h264": 1.0, "mpeg2video": 0.5}
"""How far a codec may go for the same picture, against H.264 (common practice, no source)."""


def observe(look: Look) -> None:
    """Nothing: the container tells."""


def conclude(seen: Sequence[tuple[int, None]], info: MediaInfo) -> Finding:
    if not info.bit_rate or info.kind != "video":
        return DETECTOR.finding(1.0, seen[0][0], confidence=0.5)
    bits = info.bit_rate / float(info.fps) / (info.width * info.height)
    ratio = SAMPLES[info.chroma] * info.bit_depth / bits / EFFICIENCY.get(info.codec, 1.0)
    detail = f"{bits:.2f} bits a pixel in {info.codec}, {info.bit_rate / 1e6:.1f} Mbit/s"
    return DETECTOR.finding(ratio, seen[0][0], detail=detail)


DETECTOR = Detector(
    "compression", "times", 80.0, 4, observe, conclude, about_source=True,
    instead="Ask for a less compressed copy: what was thrown away does not come back.",
)  # fmt: skip
"""Value: raw size over file size, as H.264 would need it. Tolerance: 0.15 bits a pixel for 8-bit 4:2:0
(common practice, no source)."""
