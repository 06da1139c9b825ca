"""Primaries and whites, and the matrices between them, with the white adapted by a method of one's choice.

Sources: SMPTE RP 177 (matrices from chromaticities), Lam 1985 (Bradford), CIE 159:2004 (CAT02), von Kries in the
cone space of Hunt, Pointer and Estevez; the coefficients as colour-science prints them.
"""

from __future__ import annotations

import numpy as np

from .frames import Array

XY = {
    "bt709": (0.640, 0.330, 0.300, 0.600, 0.150, 0.060, 0.3127, 0.3290),
    "bt2020": (0.708, 0.292, 0.170, 0.797, 0.131, 0.046, 0.3127, 0.3290),
    "smpte432": (0.680, 0.320, 0.265, 0.690, 0.150, 0.060, 0.3127, 0.3290),
    "ap0": (0.7347, 0.2653, 0.0, 1.0, 0.0001, -0.0770, 0.32168, 0.33767),
    "ap1": (0.713, 0.293, 0.165, 0.830, 0.128, 0.044, 0.32168, 0.33767),
}
"""Chromaticities of R, G, B and white (x, y each): H.273 (07/2021), table 2; those of ACES, which have no code
point there, are of the Academy's TB-2014-004 and S-2014-004."""

METHODS = {
    "Bradford": ((0.8951, 0.2664, -0.1614), (-0.7502, 1.7135, 0.0367), (0.0389, -0.0685, 1.0296)),
    "CAT02": ((0.7328, 0.4296, -0.1624), (-0.7036, 1.6975, 0.0061), (0.0030, 0.0136, 0.9834)),
    "von Kries": ((0.40024, 0.70760, -0.08081), (-0.22630, 1.16532, 0.04570), (0.0, 0.0, 0.91822)),
    "none": ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)),
}
"""Cone responses from XYZ; "none" keeps XYZ, so that white takes on a tint."""


def to_xyz(primaries: str) -> Array:
    """Matrix from linear R, G, B to XYZ, white at Y = 1."""
    x, y = np.array(XY[primaries][0::2]), np.array(XY[primaries][1::2])
    columns = np.stack([x / y, np.ones(4), (1 - x - y) / y])
    matrix: Array = columns[:, :3] * np.linalg.solve(columns[:, :3], columns[:, 3])
    return matrix


def adapted(white: Array, other: Array, method: str) -> Array:
    """Matrix on XYZ that brings one white (XYZ) to another."""
    if method == "none":
        return np.eye(3)
    cones = np.array(METHODS[method])
    matrix: Array = np.linalg.inv(cones) @ np.diag((cones @ other) / (cones @ white)) @ cones
    return matrix


def between(source: str, target: str, method: str) -> Array:
    """Matrix from linear light of one set of primaries to that of another, 3×3."""
    white, other = (to_xyz(name).sum(axis=1) for name in (source, target))
    matrix: Array = np.linalg.inv(to_xyz(target)) @ adapted(white, other, method) @ to_xyz(source)
    return matrix
