"""Chromaticities of a picture, CIE 1931 and u'v', with the outlines of gamuts; and the ladder of light of HDR."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import numpy.typing as npt

from ..colour.conversion import LIGHT_SEEN, LIGHT_SHOWN, SCREEN_WHITE, kind_of
from ..colour.encodings import converted
from ..frames import CV_SCALE, Array, Frame
from ..primaries import XY

Diagram = Literal["xy", "uv"]

SIDE = 256
"""Cells of a diagram each way."""

EXTENT: dict[Diagram, tuple[float, float]] = {"xy": (0.8, 0.9), "uv": (0.65, 0.65)}
"""How far a diagram reaches, from 0."""

LEAST_LIGHT = 1e-3
"""Of white: what is darker has no chromaticity that noise would leave."""

OUTLINED = {"BT.709": "bt709", "P3": "smpte432", "BT.2020": "bt2020"}

LOCUS = (
    (0.1741, 0.0050), (0.1733, 0.0048), (0.1714, 0.0051), (0.1644, 0.0109), (0.1566, 0.0177), (0.1440, 0.0297),
    (0.1241, 0.0578), (0.0913, 0.1327), (0.0687, 0.2007), (0.0454, 0.2950), (0.0235, 0.4127), (0.0082, 0.5384),
    (0.0039, 0.6548), (0.0139, 0.7502), (0.0389, 0.8120), (0.0743, 0.8338), (0.1142, 0.8262), (0.1547, 0.8059),
    (0.1929, 0.7816), (0.2296, 0.7543), (0.3016, 0.6923), (0.3731, 0.6245), (0.4441, 0.5547), (0.5125, 0.4866),
    (0.5752, 0.4242), (0.6270, 0.3725), (0.6658, 0.3340), (0.6915, 0.3083), (0.7190, 0.2809), (0.7347, 0.2653),
)  # fmt: skip
"""Chromaticities (x, y) of light of one wavelength, 380 to 700 nm, as colour-science derives them from the CIE 1931
observer: closer together where the line bends."""

RUNGS_PQ, RUNGS_HLG = (0, 1, 10, 100, 203, 1000, 4000, 10000), (0, 10, 50, 203, 500, 1000)
"""cd/m² at which lines are drawn."""


@dataclass(frozen=True, slots=True)
class Rung:
    """A level in CV, and what is written beside it."""

    level_cv: float
    label: str


def rungs(space: str) -> tuple[str, list[Rung]]:
    """The unit of a scope's level axis for values of a space, and the lines across it: cd/m² for HDR video, of HLG
    on a display of 1000, else CV."""
    if kind_of(space) != "hdr":
        return "CV", [Rung(level, f"{level}") for level in (0, 256, 512, 768, 1023)]
    nits = RUNGS_HLG if "HLG" in space else RUNGS_PQ
    light = np.array(nits, np.float32)[None, :, None] / np.float32(SCREEN_WHITE)
    neutral = converted(light.repeat(3, axis=2), "Linear Rec.2020", LIGHT_SEEN)
    levels = converted(neutral, LIGHT_SHOWN, space)[0, :, 1] * CV_SCALE
    return "cd/m²", [Rung(float(level), f"{n}") for level, n in zip(levels, nits, strict=True)]


def chromaticities(frame: Frame, space: str, diagram: Diagram) -> Array:
    """N×2 coordinates of the pixels of a frame that are bright enough to have any."""
    xyz = converted(frame, space, LIGHT_SEEN).reshape(-1, 3)
    xyz = xyz[np.isfinite(xyz).all(axis=1) & (xyz[:, 1] > LEAST_LIGHT)].astype(np.float64)
    x, y, z = xyz.T
    total = x + y + z if diagram == "xy" else x + 15 * y + 3 * z
    rows = (x, y) if diagram == "xy" else (4 * x, 9 * y)
    return np.stack(rows, axis=1) / np.maximum(total, 1e-9)[:, None]


def diagram_counts(frame: Frame, space: str, diagram: Diagram) -> npt.NDArray[np.int64]:
    """Pixels by chromaticity, SIDE×SIDE, the second coordinate upwards."""
    points = chromaticities(frame, space, diagram) / np.array(EXTENT[diagram])
    cells = np.clip(np.floor(points * SIDE), 0, SIDE - 1).astype(np.int64)
    counts = np.bincount((SIDE - 1 - cells[:, 1]) * SIDE + cells[:, 0], minlength=SIDE * SIDE)
    return counts.reshape(SIDE, SIDE)


def outlines(diagram: Diagram) -> dict[str, list[tuple[float, float]]]:
    """Corners of known gamuts (R, G, B), and the line of pure colours."""
    found: dict[str, list[tuple[float, float]]] = {}
    for name, primaries in OUTLINED.items():
        xy = XY[primaries]
        found[name] = [_placed(xy[k], xy[k + 1], diagram) for k in (0, 2, 4)]
    found["all colours"] = [_placed(x, y, diagram) for x, y in LOCUS]
    return found


def white(diagram: Diagram) -> tuple[float, float]:
    """D65."""
    return _placed(*XY["bt709"][6:], diagram)


def _placed(x: float, y: float, diagram: Diagram) -> tuple[float, float]:
    """A chromaticity in a diagram (CIE 15:2018, section 8.1, u' and v')."""
    if diagram == "xy":
        return x, y
    below = -2 * x + 12 * y + 3
    return 4 * x / below, 9 * y / below
