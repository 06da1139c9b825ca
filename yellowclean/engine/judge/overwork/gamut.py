"""Colours that a conversion brought outside of what its target holds."""

from __future__ import annotations

import cv2
import numpy as np

from ...colour.conversion import held
from ...colour.gamut import outside
from ...frames import CV_SCALE
from .base import Evidence, Measure, Reading, local

AREA, BEYOND, AROUND = 5, 2.0 / CV_SCALE, 6.0
"""Pixels over which values are averaged, so that noise about black counts for nothing; how far beyond the ends; and
blur of the map."""


def _outside(evidence: Evidence) -> Reading:
    source, result = evidence.whole_plan.formats[0].encoding.space, evidence.whole_plan.format.encoding.space
    if source == result or not held(result):
        return Reading(0.0, np.zeros(evidence.shape, np.float32), "no conversion into a space that ends anywhere")
    beyond = outside(np.asarray(cv2.blur(evidence.restored, (AREA, AREA))), BEYOND)
    share = 100 * float(beyond.mean())
    where = np.minimum(4 * local(beyond, AROUND), 2).astype(np.float32)
    return Reading(share, where, f"in {result}")


GAMUT = Measure(
    "gamut",
    "Outside the target's gamut",
    "% of the picture",
    0.5,
    "Colours that the target cannot hold: a file cuts them off. Convert can limit them and keep their hue.",
    _outside,
)
"""Limit: common practice, no source."""
