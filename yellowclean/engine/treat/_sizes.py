"""The size that a step gives a frame: by a factor, or to a width and height."""

from __future__ import annotations

from ..format import Format
from ..parameters import Parameters, quantity

MOST_ENLARGED = 4.0
"""Times the width and height that a step makes of several frames; beyond that a plain kernel does as well."""


class Sized(Parameters):
    """What steps that change the size have in common; each sets its own limits of the factor."""

    factor: float = 1.0
    width: int = quantity(
        0, "Width", "Of the result; 0 goes by the height, or by the factor.", unit="px", least=0, most=16384, step=2
    )
    height: int = quantity(
        0, "Height", "Of the result; 0 goes by the width, or by the factor.", unit="px", least=0, most=16384, step=2
    )


def sized(p: Sized, given: Format) -> Format:
    """The asked size; a side that is not given follows the other."""
    if not (p.width or p.height):
        return given.resized(max(round(given.width * p.factor), 1), max(round(given.height * p.factor), 1))
    width = p.width or max(round(given.width * p.height / given.height), 1)
    return given.resized(width, p.height or max(round(given.height * p.width / given.width), 1))


def settings_for(scale: float | tuple[int, int]) -> dict[str, float]:
    """The settings that ask for a factor, or for a width and height."""
    return {"width": scale[0], "height": scale[1]} if isinstance(scale, tuple) else {"factor": scale}


def larger(scale: float | tuple[int, int], given: Format) -> bool:
    """Whether a size asks for more pixels both ways, and no more than several frames can give."""
    across, down = (scale[0] / given.width, scale[1] / given.height) if isinstance(scale, tuple) else (scale, scale)
    return min(across, down) >= 1 and 1 < max(across, down) <= MOST_ENLARGED
