"""Matrices between primaries, with the white adapted by a method of one's choice.

Sources: SMPTE RP 177 (matrices from chromaticities), Lam 1985 (Bradford), CIE 159:2004 (CAT02), von Kries in the
cone space of Hunt, Pointer and Estevez; the coefficients as colour-science prints them.
"""

from __future__ import annotations

import numpy as np

from ..frames import Array
from ..media.tags import XY
from .encodings import encoding_named

METHODS = {
    "Bradford": ((0.8951, 0.2664, -0.1614), (-0.7502, 1.7135, 0.0367), (0.0389, -0.0685, 1.0296)),
    "CAT02": ((0.7328, 0.4296, -0.1624), (-0.7036, 1.6975, 0.0061), (0.0030, 0.0136, 0.9834)),
    "von Kries": ((0.40024, 0.70760, -0.08081), (-0.22630, 1.16532, 0.04570), (0.0, 0.0, 0.91822)),
    "none": ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)),
}
"""Cone responses from XYZ; "none" keeps XYZ, so that white takes on a tint."""


def primaries_of(space: str) -> str:
    """The name in `XY` of a space's primaries; empty where they are not known here."""
    found = encoding_named(space).primaries
    return found if found in XY else ""


def to_xyz(primaries: str) -> Array:
    """Matrix from linear R, G, B to XYZ, white at Y = 1."""
    x, y = np.array(XY[primaries][0::2]), np.array(XY[primaries][1::2])
    columns = np.stack([x / y, np.ones(4), (1 - x - y) / y])
    matrix: Array = columns[:, :3] * np.linalg.solve(columns[:, :3], columns[:, 3])
    return matrix


def adapting_matrix(source: str, target: str, method: str) -> Array:
    """Matrix from linear light of one set of primaries to that of another, 3×3."""
    cones = np.array(METHODS[method])
    whites = [to_xyz(name).sum(axis=1) for name in (source, target)]
    before, after = (cones @ white for white in whites)
    adapted = np.eye(3) if method == "none" else np.linalg.solve(cones, np.diag(after / before) @ cones)
    matrix: Array = np.linalg.solve(to_xyz(target), adapted @ to_xyz(source))
    return matrix
