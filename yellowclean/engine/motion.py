"""Dense motion between frames: DIS optical flow (Kroeger, Timofte, Dai, Van Gool 2016) on clean luma.

Motion belongs to the shot, not to a step: it is found once for a pair of whole frames, at a size of
at most 960 pixels across, and every region of every step reads from it.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from .frames import Array, Frame, luma

WORKING_WIDTH = 960
"""Flow is computed at no more than this width: averaging also cleans the luma it is computed on."""


@dataclass(frozen=True, slots=True)
class Flow:
    """Where each pixel of a frame is found in a neighbour: H'×W'×2 (x, y) in full-size pixels."""

    vectors: Array
    reduction: float

    def typical(self) -> float:
        """90th percentile of the displacement in pixels."""
        return float(np.percentile(np.hypot(self.vectors[..., 0], self.vectors[..., 1]), 90))


def reduction_for(width: int) -> float:
    """By how much a frame of that width is reduced for motion."""
    return max(width / WORKING_WIDTH, 1.0)


def prepared(frame: Frame) -> npt.NDArray[np.uint8]:
    """The 8-bit luma that motion is found on: reduced, square-rooted to lift shadows, softened."""
    reduction = reduction_for(frame.shape[1])
    size = round(frame.shape[1] / reduction), round(frame.shape[0] / reduction)
    small = cv2.resize(luma(frame), size, interpolation=cv2.INTER_AREA) if reduction > 1 else luma(frame)
    soft = cv2.GaussianBlur(small, (0, 0), 1.2)
    lifted = np.sqrt(np.clip(soft, 0, 1))
    return (lifted * 255).astype(np.uint8)


def flow(here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], full_width: int) -> Flow:
    """Motion from one prepared frame to another."""
    reduction = reduction_for(full_width)
    if min(here.shape) < 16:
        return Flow(np.zeros((*here.shape, 2), np.float32), reduction)
    finder = cv2.DISOpticalFlow_create(cv2.DISOpticalFlow_PRESET_MEDIUM)  # type: ignore[attr-defined]
    vectors = finder.calc(here, there, None)
    return Flow(np.ascontiguousarray(vectors * np.float32(reduction)), reduction)
