"""A range of hue sampled on the picture."""

from __future__ import annotations

import numpy as np

from ..colour.opponent import SIGNAL_MATRIX
from ..errors import BadInput
from ..frames import CV_SCALE, Frame, weighted
from .matte import as_judged
from .model import HueSample

LEAST_COLOUR_CV = 6.0
"""Shorter chroma has no hue to speak of."""

LEAST_WIDTH_DEG, MOST_WIDTH_DEG = 10.0, 60.0


def sampled_hue(piece: Frame, *, remove: bool = False) -> HueSample:
    """The hue of a small piece of the picture, as wide as the piece's own spread (two deviations), and from
    half of its colourfulness on. Raises `BadInput` where the piece is grey."""
    soft = as_judged(piece)
    cbs, crs = (weighted(soft, SIGNAL_MATRIX[k]) * CV_SCALE for k in (4, 5))
    cb, cr = float(cbs.mean()), float(crs.mean())
    length = float(np.hypot(cb, cr))
    if length < LEAST_COLOUR_CV:
        raise BadInput(
            f"that place is grey ({length:.1f} CV of colour), so it has no hue; pick a place with"
            f" {LEAST_COLOUR_CV:.0f} CV or more."
        )
    across = (crs * cb - cbs * cr) / length  # how far each pixel lies beside the mean's direction
    spread = float(np.degrees(np.arctan2(np.std(across), length)))
    return HueSample(
        hue_deg=round(float(np.degrees(np.arctan2(cr, cb)) % 360), 1) % 360,
        width_deg=round(float(np.clip(2 * spread, LEAST_WIDTH_DEG, MOST_WIDTH_DEG)), 1),
        least_cv=round(length / 2, 1),
        remove=remove,
    )
