"""Which lines of an interlaced picture were seen first: the top ones (0, 2, 4 …) or the others."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ..frames import Array
from ..media import Lines

LOOKS = 8
"""Frames all over the shot by which the order of the lines is told."""

SURE = 0.03
"""Share by which one order has to fit better than the other."""


def first_lines(before: Array, here: Array, after: Array) -> Lines | None:
    """Of lumas of three consecutive frames; None where too little moves to tell. Top lines first: a frame's bottom
    lines are half a frame away from the next one's top lines, and one and a half from those of the one before;
    bottom lines first: the other way about."""
    height = min(len(here) // 2 * 2, len(before), len(after))
    if height < 4:
        return None
    bottom = (here[1 : height - 2 : 2] + here[3:height:2]) / 2  # as it would lie on the top lines between
    gone, coming = (float(np.abs(bottom - other[2:height:2]).mean()) for other in (before, after))
    if abs(gone - coming) <= SURE * (gone + coming):
        return None
    return "top" if coming < gone else "bottom"


def order_of(frames: int, plane: Callable[[int], Array]) -> Lines:
    """What most looks at a shot of `frames` frames tell, `plane` giving the luma of each; top lines where none
    does."""
    looks = sorted({int(n) for n in np.linspace(1, frames - 2, LOOKS)}) if frames > 2 else []
    told = [first_lines(*(plane(n + k) for k in (-1, 0, 1))) for n in looks]
    return "bottom" if told.count("bottom") > told.count("top") else "top"
