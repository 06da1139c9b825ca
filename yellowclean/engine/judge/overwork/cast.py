"""Casts: colour and level that the work has shifted."""

from __future__ import annotations

import cv2
import numpy as np

from ...colour.difference import ciede2000, lab
from ...frames import CV_SCALE
from .base import Evidence, Measure, Reading

BLUR = 20.0
"""Pixels over which both pictures are averaged first, so that the removed noise itself is no shift."""

HIGH = 98.0
"""Percentile that stands for the picture."""


def _cast(evidence: Evidence) -> Reading:
    source, result = (cv2.GaussianBlur(f, (0, 0), BLUR) for f in (evidence.source, evidence.result))
    apart = ciede2000(lab(source), lab(result)).astype(np.float32)
    shift = evidence.change.mean(axis=(0, 1)) * CV_SCALE
    detail = "on average " + " ".join(f"{c} {v:+.2f}" for c, v in zip("RGB", shift, strict=True)) + " CV"
    return Reading(float(np.percentile(apart, HIGH)), apart / CAST.limit, detail)


CAST = Measure("cast", "Cast", "ΔE00", 1.0, "Colour or level of areas that has moved.", _cast)
