"""The treatments. Each is one module of this package with a `TREATMENT`; they are found by themselves."""

from __future__ import annotations

import importlib
import pkgutil

from ..parameters import Parameters
from .base import Around, Course, Mark, Need, OwnView, Picture, Treatment, Window
from .case import Amount, Case, Proposal

__all__ = [
    "TREATMENTS",
    "Amount",
    "Around",
    "Case",
    "Course",
    "Mark",
    "Need",
    "OwnView",
    "Parameters",
    "Picture",
    "Proposal",
    "Treatment",
    "Window",
]


def _discovered() -> dict[str, Treatment]:
    modules = [importlib.import_module(f"{__name__}.{m.name}") for m in pkgutil.iter_modules(__path__)]
    found: list[Treatment] = [m.TREATMENT for m in modules if hasattr(m, "TREATMENT")]
    return {t.kind: t for t in sorted(found, key=lambda t: t.order)}


TREATMENTS = _discovered()
