"""Luma, colour differences, and the orthonormal opponent axes the noise work is done in."""

from __future__ import annotations

from collections.abc import Collection

import numpy as np

from ..frames import LUMA_WEIGHTS, Array, Frame, weighted

KR, KG, KB = (float(w) for w in LUMA_WEIGHTS)

SIGNALS = ("r", "g", "b", "luma", "cb", "cr")
"""What noise is measured in: R'G'B', then Y', Cb, Cr of ITU-R BT.709-6 items 3.2 and 3.3."""

SIGNAL_MATRIX = np.array(
    [
        [1, 0, 0],
        [0, 1, 0],
        [0, 0, 1],
        [KR, KG, KB],
        [-KR / 1.8556, -KG / 1.8556, (1 - KB) / 1.8556],
        [(1 - KR) / 1.5748, -KG / 1.5748, -KB / 1.5748],
    ],
    np.float32,
)

COLOUR_BARS = {
    "R": (1, 0, 0), "Yl": (1, 1, 0), "G": (0, 1, 0), "Cy": (0, 1, 1), "B": (0, 0, 1), "Mg": (1, 0, 1),
}  # fmt: skip
"""R'G'B' of the saturated colours, by the letters that mark them."""

OPPONENT = np.array(
    [
        [1 / np.sqrt(3), 1 / np.sqrt(3), 1 / np.sqrt(3)],
        [1 / np.sqrt(2), 0, -1 / np.sqrt(2)],
        [1 / np.sqrt(6), -2 / np.sqrt(6), 1 / np.sqrt(6)],
    ],
    np.float32,
)
"""One achromatic and two chromatic axes, orthonormal: rows of the transform from R'G'B'."""


def opponent_axes(dead: Collection[str] = ()) -> Array:
    """Orthonormal axes of the channels that live, by name ("r", "g", "b"): `OPPONENT` where all do; rows that are
    too many, and columns of the dead, are zero."""
    if not dead:
        return OPPONENT
    living = [k for k, name in enumerate("rgb") if name not in dead]
    axes = np.zeros((3, 3), np.float32)
    if len(living) == 2:
        axes[0, living], axes[1, living] = np.sqrt(0.5), (np.sqrt(0.5), -np.sqrt(0.5))
    elif living:
        axes[0, living] = 1
    return axes


def chroma_sigma(cb: Array, cr: Array) -> Array:
    """One figure for colour noise: the root mean square of Cb and Cr."""
    both: Array = np.sqrt((np.asarray(cb) ** 2 + np.asarray(cr) ** 2) / 2)
    return both


def colour_difference(frame: Frame) -> tuple[Array, Array]:
    """Cb and Cr of a picture, H×W each, nominal range -0.5 to 0.5."""
    return weighted(frame, SIGNAL_MATRIX[4]), weighted(frame, SIGNAL_MATRIX[5])
