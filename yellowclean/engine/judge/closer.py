"""Looking closer: one signal alone, contrast raised, differences amplified. For the eye: nothing is measured."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..frames import Frame, luma

Signal = Literal["all", "luma", "chroma", "r", "g", "b"]

MOST_CONTRAST = 8.0
"""Times that Stress raises contrast at 100 %."""

GREY = np.float32(0.5)


def signal_of(frame: Frame, signal: Signal) -> Frame:
    """One signal of a picture as grey, H×W×3; chroma keeps its hue and loses its light (on mid grey)."""
    if signal == "all":
        return frame
    plane = luma(frame)[..., None]
    if signal == "chroma":
        return (frame - plane + GREY).astype(np.float32)
    if signal != "luma":
        plane = frame[..., "rgb".index(signal)][..., None]
    return np.repeat(plane, 3, axis=2).astype(np.float32)


def stress_level(source: Frame) -> float:
    """The middle level of the source as it is shown: what Stress turns about, on every side alike."""
    return float(np.median(luma(source)))


def stressed(frame: Frame, percent: float, level: float) -> Frame:
    """Contrast raised about `level`, which moves to mid grey: bands, blotches and noise show."""
    share = np.float32(percent / 100)
    contrast = 1 + (np.float32(MOST_CONTRAST) - 1) * share
    middle = level + (GREY - level) * share
    raised: Frame = middle + contrast * (frame - np.float32(level))
    return raised


def amplified(difference: Frame, gain: float) -> Frame:
    """A difference around mid grey."""
    shown: Frame = GREY + np.float32(gain) * difference
    return shown
