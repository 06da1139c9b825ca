"""How blurred the edges of a picture are, whatever way they run.

After Zhuo and Sim 2011 ("Defocus map estimation from a single image", Pattern Recognition 44): a step edge blurred
by a Gaussian of variance v falls, blurred once more by a known a and b, to gradients in the ratio
√((v + b) / (v + a)). A third blur tells edges from lines and texture, for which the ratios do not agree. The blur
of a lens is one of light: the plane has to be linear in it.
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import Array

Mask = npt.NDArray[np.bool_]

BLURS = 0.7, 1.4, 2.2
"""Deviations of the known blurs, in pixels."""

OWN = 5 / 12
"""Variance that the pixels (1/12) and central differences (1/3) add."""

CLEAR = 12.0
"""Noise deviations of the finest gradient that an edge has to stand out."""

BORDER = 8
AGREEING, ALIKE = 0.25, 0.2
"""By what share, and by how many square pixels, the variances that both ratios tell may differ."""

LEAST_RATIO = 1.01
SHARPEST = 0.45
"""Share of the edges, the sharpest first and each weighed by the square of its gradient, below which a picture's
own blur lies: those out of focus on purpose weigh little."""


class EdgeBlur(NamedTuple):
    """Edges of one picture: the variance of each one's blur in square pixels (below 0 by chance), the height of its
    gradient, and where it lies."""

    variance: Array
    gradient: Array
    x: npt.NDArray[np.intp]
    y: npt.NDArray[np.intp]


def edge_blur(light: Array, sigma: Array, clipped: Mask | None = None) -> EdgeBlur:
    """The edges of a plane of linear light, H×W, of noise `sigma` (same shape), that one blurred step explains;
    none beside what is `clipped`."""
    across = [_gradient(light, blur) for blur in BLURS]
    heights = np.hypot(*across[1])
    along_x, along_y = (part / np.maximum(heights, 1e-12) for part in across[1])
    finest, widest = (gx * along_x + gy * along_y for gx, gy in (across[0], across[2]))
    noise = cv2.blur(sigma, (3, 3)) / np.float32(np.sqrt(8 * np.pi) * BLURS[0] ** 2)
    ridge = _ridge(heights, along_x, along_y) & (heights > CLEAR * noise) & (widest > 0)
    ridge[:BORDER], ridge[-BORDER:], ridge[:, :BORDER], ridge[:, -BORDER:] = (False,) * 4
    if clipped is not None:  # what is cut off ends abruptly, however soft the light was
        around = np.ones((2 * BORDER + 1, 2 * BORDER + 1), np.uint8)
        ridge &= cv2.dilate(clipped.astype(np.uint8), around) == 0
    y, x = np.nonzero(ridge)
    fine = _variance(finest[y, x] / heights[y, x], *BLURS[:2])
    wide = _variance(heights[y, x] / widest[y, x], *BLURS[1:])
    step = np.abs(fine - wide) < AGREEING * (np.abs(fine) + np.abs(wide)) / 2 + ALIKE
    return EdgeBlur(fine[step], heights[y, x][step], x[step], y[step])


def sharpest(edges: EdgeBlur) -> float:
    """Variance of the blur, in square pixels, below which the sharpest edges have theirs; NaN without any."""
    if not edges.variance.size:
        return float("nan")
    order = np.argsort(edges.variance)
    weight = np.cumsum(edges.gradient[order].astype(np.float64) ** 2)
    return float(edges.variance[order][np.searchsorted(weight, SHARPEST * weight[-1])])


def _gradient(plane: Array, blur: float) -> tuple[Array, Array]:
    soft = cv2.GaussianBlur(plane, (0, 0), blur)
    half = np.array([-0.5, 0, 0.5], np.float32)
    return cv2.filter2D(soft, -1, half[None]), cv2.filter2D(soft, -1, half[:, None])


def _ridge(heights: Array, along_x: Array, along_y: Array) -> Array:
    """Where the gradient is higher than a pixel before and behind, along itself."""
    rows, columns = np.mgrid[: heights.shape[0], : heights.shape[1]].astype(np.float32)
    ahead, behind = (
        cv2.remap(heights, columns + turn * along_x, rows + turn * along_y, cv2.INTER_LINEAR) for turn in (1, -1)
    )
    found: Array = (heights > ahead) & (heights >= behind)
    return found


def _variance(ratio: Array, less: float, more: float) -> Array:
    """The variance v for which √((v + more²) / (v + less²)) is the ratio."""
    square = np.maximum(ratio, np.float32(LEAST_RATIO)) ** 2
    found: Array = (more**2 + OWN - square * (less**2 + OWN)) / (square - 1)
    return found
