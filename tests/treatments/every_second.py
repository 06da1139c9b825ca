"""A treatment for tests that hands on another size: every second pixel, each way."""

from __future__ import annotations

from yellowclean.engine.format import Format
from yellowclean.engine.parameters import Parameters
from yellowclean.engine.treat import Around, Need, Picture, Treatment, Window


class EverySecond(Parameters):
    """Half of the pixels each way."""


def need(p: EverySecond) -> Need:
    return Need(margin=1)


def hands_on(p: EverySecond, given: Format) -> Format:
    return given.resized(given.width // 2, given.height // 2)


def apply(p: EverySecond, window: Window, around: Around) -> Picture:
    rows = slice(2 * window.wanted.y - window.place.y, 2 * window.wanted.bottom - window.place.y, 2)
    columns = slice(2 * window.wanted.x - window.place.x, 2 * window.wanted.right - window.place.x, 2)
    return Picture(window.here.rgb[rows, columns].copy(), window.here.noise[:, rows, columns].copy())


TREATMENT = Treatment(
    kind="every second", title="Every second pixel", treats=(), order=81, parameters=EverySecond, need=need,
    apply=apply, hands_on=hands_on,
)  # fmt: skip
