"""The judge: what a plan has damaged, in numbers and as maps, without knowing the truth."""

from __future__ import annotations

from .base import Evidence, Reading
from .report import MEASURES, Overwork, map_of, overwork

__all__ = ["MEASURES", "Evidence", "Overwork", "Reading", "map_of", "overwork"]
