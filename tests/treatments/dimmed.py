"""A treatment for tests with a view of its own: it dims what lies above a level, and shows where that is."""

from __future__ import annotations

import numpy as np

from yellowclean.engine.frames import CV_SCALE, Array, luma
from yellowclean.engine.parameters import Parameters, Point, point, quantity
from yellowclean.engine.treat import Around, Need, OwnView, Picture, Treatment, Window


class Dimmed(Parameters):
    """Half of the light above a level."""

    at: Point = point((0, 0), "Mark", "A place to remember.")
    level: float = quantity(512, "Level", "What lies above is dimmed.", unit="CV", least=0, most=1023, step=1)


def need(p: Dimmed) -> Need:
    return Need()


def above(p: Dimmed, window: Window, around: Around) -> Array:
    return (luma(window.here.part(window.inside).rgb) * CV_SCALE > p.level).astype(np.float32)


def apply(p: Dimmed, window: Window, around: Around) -> Picture:
    here = window.here.part(window.inside)
    kept = 1 - above(p, window, around)[..., None] / 2
    return Picture((here.rgb * kept).astype(np.float32), here.noise)


TREATMENT = Treatment(
    kind="dimmed", title="Dimmed", treats=(), order=50, parameters=Dimmed, need=need, apply=apply,
    views=(OwnView("above", "Above", "White where it is dimmed.", above),),
)  # fmt: skip
