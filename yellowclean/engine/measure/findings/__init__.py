"""The detectors. Each is one module of this package with a `DETECTOR`; they are found by themselves."""

from __future__ import annotations

import importlib
import pkgutil

from .base import Detector, Finding, Glance, Look, Place, Said, said_of

__all__ = ["DETECTORS", "Detector", "Finding", "Glance", "Look", "Place", "Said", "said_of"]


def _discovered() -> tuple[Detector, ...]:
    modules = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
    found: list[Detector] = [m.DETECTOR for m in modules if hasattr(m, "DETECTOR")]
    return tuple(sorted(found, key=lambda d: d.order))


DETECTORS = _discovered()
