"""How blurred the edges of a picture are, whatever way they run.

After Zhuo and Sim 2011 ("Defocus map estimation from a single image", Pattern Recognition 44): a step edge blurred
by a Gaussian of variance v falls, blurred once more by a known a and b, to gradients in the ratio
√((v + b) / (v + a)). A third blur tells edges from lines and texture, for which the ratios do not agree. The top of
the gradient lies between pixels; that of a blurred step is a Gaussian, whose logarithm is a parabola. The blur of a
lens is one of light: the plane has to be linear in it.
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import Array, Frame

Mask = npt.NDArray[np.bool_]

BLURS = 0.85, 1.6, 2.4
"""Deviations of the known blurs, in pixels."""

PIXEL, DIFFERENCE = 1 / 12, 1 / 3
"""Variance that a pixel's own width adds, and that a central difference adds along its own direction."""

CLEAR = 12.0
"""Noise deviations of the finest gradient that an edge has to stand out."""

BORDER = 8
CUT = 0.98
"""Value from which on one may be cut off: some recordings end at white, others above."""

LINEAR_LIGHT = "linear"
"""Transfer of files that keep light itself (H.273, table 3, value 8)."""

AGREEING, ALIKE = 0.12, 0.1
"""By what share, and by how many square pixels, the variances that both ratios tell may differ."""

LEAST_RATIO = 1.01
POOLED = 5
"""Side in pixels of the square whose edge pixels are taken together."""

ROUNDS = 2
SHARPEST = 0.45
"""Share of the edges, the sharpest first and each weighed by the square of its gradient, below which a picture's
own blur lies: those out of focus on purpose weigh little."""

TENTH, SPREAD, EVEN = 0.1, (0.3, 0.6), 0.2
"""Two such shares, and by how many pixels their deviations differ where all is equally blurred. Where they differ
by more, much of the picture is soft of itself, and the sharpest lies as much lower: a blur told too large costs far
more than one told too small."""

SOFT_FROM, EVENLY_SOFT = 1.0, 0.22
"""Where the sharpest tenth of the edges, weighed so, is softer than the one, in pixels, what is told lies no more
than the other above theirs: it does where most is out of focus. What is sharper has no tenth that can be told."""


AROUND, HALF_SURE = 10.0, 0.01
"""Deviation in pixels of what lies around a place, and the share of it on edges by which it is half sure: along a
lone edge there is four times as much."""


class EdgeBlur(NamedTuple):
    """Edges of one picture: the variance of each one's blur in square pixels (below 0 by chance), the height of its
    gradient, where it lies, and the direction across it."""

    variance: Array
    gradient: Array
    x: npt.NDArray[np.intp]
    y: npt.NDArray[np.intp]
    along_x: Array
    along_y: Array

    def part(self, some: slice | Mask) -> EdgeBlur:
        """Some of the edges."""
        place, along = (self.x[some], self.y[some]), (self.along_x[some], self.along_y[some])
        return EdgeBlur(self.variance[some], self.gradient[some], *place, *along)


class EdgePoints(NamedTuple):
    """Pixels on the edges of a picture: where each lies, the direction across the edge towards the brighter side,
    the height of the gradient there, and a pixel ahead and behind in that direction."""

    x: npt.NDArray[np.intp]
    y: npt.NDArray[np.intp]
    along_x: Array
    along_y: Array
    height: Array
    ahead: Array
    behind: Array


def cut(rgb: Frame, transfer: str) -> Mask:
    """Where values may be cut off, H×W; in linear light what is brighter than white goes on."""
    at_most = np.inf if transfer == LINEAR_LIGHT else CUT
    found: Mask = (rgb[..., 0] >= at_most) | (rgb[..., 1] >= at_most) | (rgb[..., 2] >= at_most)
    return found


def edge_points(plane: Array, sigma: Array, clipped: Mask | None = None) -> EdgePoints:
    """The pixels where the gradient of a plane, H×W, of noise `sigma` (same shape), is highest across its edge;
    none beside what is `clipped`."""
    across = _gradient(plane, BLURS[1])
    heights = np.hypot(*across)
    along_x, along_y = (part / np.maximum(heights, 1e-12) for part in across)
    noise = cv2.blur(sigma, (3, 3)) / np.float32(np.sqrt(8 * np.pi) * BLURS[0] ** 2)
    ahead, behind = _beside(heights, along_x, along_y)
    ridge = (heights > ahead) & (heights >= behind) & (heights > CLEAR * noise)
    ridge[:BORDER], ridge[-BORDER:], ridge[:, :BORDER], ridge[:, -BORDER:] = (False,) * 4
    if clipped is not None:  # what is cut off ends abruptly, however soft the light was
        around = np.ones((2 * BORDER + 1, 2 * BORDER + 1), np.uint8)
        ridge &= cv2.dilate(clipped.astype(np.uint8), around) == 0
    y, x = np.nonzero(ridge)
    return EdgePoints(x, y, *(of[y, x] for of in (along_x, along_y, heights, ahead, behind)))


def edge_blur(light: Array, sigma: Array, clipped: Mask | None = None) -> EdgeBlur:
    """The edges of a plane of linear light, H×W, of noise `sigma` (same shape), that one blurred step explains;
    none beside what is `clipped`."""
    points = edge_points(light, sigma, clipped)
    own = PIXEL + DIFFERENCE * (points.along_x**4 + points.along_y**4)
    finest, widest = (_height_at(points, _gradient(light, blur)) for blur in (BLURS[0], BLURS[2]))
    tops = [finest, points.height, np.maximum(widest, np.float32(1e-9))]
    fine, wide = _variances(_pooled(tops, points, light.shape), own)
    beside_top = _beside_top(points)
    for _ in range(ROUNDS):  # a blurred step's gradient is lower by this much so far beside its top
        widths = [np.maximum(fine, 0) + blur**2 + own for blur in BLURS]
        raised = [top * np.exp(beside_top**2 / (2 * width)) for top, width in zip(tops, widths, strict=True)]
        fine, wide = _variances(_pooled(raised, points, light.shape), own)
    step = (np.abs(fine - wide) < AGREEING * (np.abs(fine) + np.abs(wide)) / 2 + ALIKE) & (widest > 0)
    every = EdgeBlur(fine, points.height, points.x, points.y, points.along_x, points.along_y)
    return every.part(step)


def _height_at(points: EdgePoints, across: tuple[Array, Array]) -> Array:
    found: Array = across[0][points.y, points.x] * points.along_x + across[1][points.y, points.x] * points.along_y
    return found


def sharpest(edges: EdgeBlur) -> float:
    """Variance of the blur, in square pixels, that the sharpest edges have; NaN without any."""
    if not edges.variance.size:
        return float("nan")
    order = np.argsort(edges.variance)
    weight = np.cumsum(edges.gradient[order].astype(np.float64) ** 2)
    at = np.searchsorted(weight, np.array([TENTH, *SPREAD, SHARPEST]) * weight[-1])
    told = edges.variance[order][at]
    tenth, low, high, found = np.sign(told) * np.sqrt(np.abs(told))
    found -= max(high - low - EVEN, 0.0)
    if tenth > SOFT_FROM:
        found = min(found, tenth + EVENLY_SOFT)
    return float(np.sign(found) * found**2)


def blur_around(edges: EdgeBlur, shape: tuple[int, int]) -> tuple[Array, Array]:
    """(deviation in pixels, how surely 0-1), both H×W: how blurred the edges around each place of a picture are,
    the clearest ones most."""
    planes = np.zeros((3, *shape), np.float32)
    clear = edges.gradient**2
    planes[:, edges.y, edges.x] = clear * np.maximum(edges.variance, 0), clear, np.ones_like(clear)
    blurred, weight, edge = (cv2.GaussianBlur(plane, (0, 0), AROUND) for plane in planes)
    return np.sqrt(blurred / np.maximum(weight, 1e-20)), edge / (edge + np.float32(HALF_SURE))


def _gradient(plane: Array, blur: float) -> tuple[Array, Array]:
    soft = cv2.GaussianBlur(plane, (0, 0), blur)
    half = np.array([-0.5, 0, 0.5], np.float32)
    return cv2.filter2D(soft, -1, half[None]), cv2.filter2D(soft, -1, half[:, None])


def _beside(heights: Array, along_x: Array, along_y: Array) -> tuple[Array, Array]:
    """The heights of the gradient a pixel ahead and behind, along itself."""
    rows, columns = np.mgrid[: heights.shape[0], : heights.shape[1]].astype(np.float32)
    ahead, behind = (
        cv2.remap(heights, columns + turn * along_x, rows + turn * along_y, cv2.INTER_LINEAR) for turn in (1, -1)
    )
    return ahead, behind


def _beside_top(points: EdgePoints) -> Array:
    """How far a gradient's top lies from the pixel, in pixels: that of a parabola through the logarithms."""
    top, left, right = (np.log(np.maximum(part, 1e-9)) for part in (points.height, points.behind, points.ahead))
    apart: Array = (right - left) / (2 * np.maximum(2 * top - left - right, 1e-6))
    return np.clip(apart, -0.6, 0.6)


def _pooled(tops: list[Array], points: EdgePoints, shape: tuple[int, ...]) -> list[Array]:
    """The heights of each pixel's edge, together with those of the edge's pixels around it: noise would make blur
    read too small, since a gradient that it raises is taken for the top."""
    found = []
    for top in tops:
        plane = np.zeros(shape, np.float32)
        plane[points.y, points.x] = top * points.height
        found.append(cv2.boxFilter(plane, -1, (POOLED, POOLED), normalize=False)[points.y, points.x])
    return found


def _variances(tops: list[Array], own: Array) -> tuple[Array, Array]:
    """The variances that the ratios of a gradient's heights tell, under the three blurs."""
    return variance_told(tops[0] / tops[1], own, *BLURS[:2]), variance_told(tops[1] / tops[2], own, *BLURS[1:])


def variance_told(ratio: Array, own: Array | float, less: float, more: float) -> Array:
    """The variance v for which √((v + own + more²) / (v + own + less²)) is the ratio."""
    square = np.maximum(ratio, np.float32(LEAST_RATIO)) ** 2
    found: Array = (more**2 - square * less**2) / (square - 1) - own
    return found
