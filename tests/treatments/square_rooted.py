"""A treatment for tests that hands on another colour encoding: the square root of every value."""

from __future__ import annotations

import numpy as np

from yellowclean.engine.colour.encodings import Encoding
from yellowclean.engine.format import Format
from yellowclean.engine.parameters import Parameters, switch
from yellowclean.engine.treat import Around, Need, Picture, Treatment, Window


class SquareRooted(Parameters):
    """Values that rise steeply from black."""

    signed: bool = switch(True, "Signed", "What lies below black stays below it.")


def need(p: SquareRooted) -> Need:
    return Need()


def hands_on(p: SquareRooted, given: Format) -> Format:
    return given.converted(Encoding("Square root", "bt709", "gamma22", "bt709"))


def apply(p: SquareRooted, window: Window, around: Around) -> Picture:
    here = window.here.part(window.inside)
    root = np.sqrt(np.abs(here.rgb))
    return Picture(np.where(here.rgb < 0, -root if p.signed else 0, root).astype(np.float32), here.noise)


TREATMENT = Treatment(
    kind="square root", title="Square root", treats=(), order=86, parameters=SquareRooted, need=need,
    apply=apply, hands_on=hands_on,
)  # fmt: skip
