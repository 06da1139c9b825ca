"""Full-reference metrics of a clip against another, frame by frame, with bounded memory."""

from __future__ import annotations

import cv2
import numpy as np
from pydantic import BaseModel

from ..errors import BadInput
from ..frames import Array, Frame, luma
from ..media import Source


class Comparison(BaseModel):
    """How far B is from A. PSNR in dB over R'G'B' (peak 1), SSIM of luma, errors in 10-bit CV."""

    frames: int
    psnr_db: float | None
    ssim: float
    rms_cv: float
    largest_cv: float
    flicker_cv: float
    identical: bool


def psnr_db(mean_square: float) -> float | None:
    """Peak signal-to-noise ratio for peak 1; None when there is no error."""
    return None if mean_square == 0 else float(-10 * np.log10(mean_square))


def ssim(a: Array, b: Array) -> float:
    """Mean structural similarity of two planes (Wang, Bovik, Sheikh, Simoncelli 2004): Gaussian
    window of sigma 1.5 and 11 pixels, K1 = 0.01, K2 = 0.03, range 1, borders left out."""

    def mean(plane: Array) -> Array:
        smooth: Array = cv2.GaussianBlur(plane, (11, 11), 1.5)
        return smooth

    a, b = a.astype(np.float64), b.astype(np.float64)
    mu_a, mu_b = mean(a), mean(b)
    var_a, var_b = mean(a * a) - mu_a**2, mean(b * b) - mu_b**2
    cov = mean(a * b) - mu_a * mu_b
    c1, c2 = 0.01**2, 0.03**2
    score = ((2 * mu_a * mu_b + c1) * (2 * cov + c2)) / ((mu_a**2 + mu_b**2 + c1) * (var_a + var_b + c2))
    inner = score[5:-5, 5:-5] if min(a.shape) > 10 else score
    return float(inner.mean())


def compare(a: Source, b: Source) -> Comparison:
    """Compare two clips of the same size and length, A being the reference.

    Flicker is the RMS of the change of the error from one frame to the next.
    """
    for what in ("width", "height", "frames"):
        left, right = getattr(a.info, what), getattr(b.info, what)
        if left != right:
            raise BadInput(f"{b.info.path}: {what} is {right}, that of {a.info.path} is {left}; they must agree.")
    squares, similar, largest, changes = 0.0, 0.0, 0.0, 0.0
    previous: Frame | None = None
    for n in range(a.info.frames):
        left, right = a.read(n), b.read(n)
        error = right - left
        squares += float(np.mean(error**2, dtype=np.float64))
        largest = max(largest, float(np.abs(error).max()))
        similar += ssim(luma(left), luma(right))
        if previous is not None:
            changes += float(np.mean((error - previous) ** 2, dtype=np.float64))
        previous = error
    count = a.info.frames
    return Comparison(
        frames=count,
        psnr_db=psnr_db(squares / count),
        ssim=similar / count,
        rms_cv=float(np.sqrt(squares / count) * 1023),
        largest_cv=largest * 1023,
        flicker_cv=float(np.sqrt(changes / max(count - 1, 1)) * 1023),
        identical=largest == 0,
    )
