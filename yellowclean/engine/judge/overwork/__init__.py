"""The judge: what a plan has damaged, in numbers and as maps, without knowing the truth."""

from __future__ import annotations

from .base import Evidence, Reading
from .report import MEASURES, Judged, Overwork, overwork

__all__ = ["MEASURES", "Evidence", "Judged", "Overwork", "Reading", "overwork"]
