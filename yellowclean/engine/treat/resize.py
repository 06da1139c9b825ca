"""Resizing by a kernel, in the values as they are or in linear light."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..colour.encodings import converted
from ..colour.grey import LINEAR
from ..frames import Array
from ..parameters import choice, quantity, switch
from ._resampling import resampled
from ._sizes import Sized, larger, settings_for, sized
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

MARGIN = 4
"""Pixels that the widest kernel looks at on either side, of the larger of the two frames, and one for rounding."""

OF_NOISE = "triangle"
"""Kernel of the map of what is left of the noise: without negative lobes."""


class Resize(Sized):
    """Another number of pixels for the same picture: by a factor, or, where width or height is not 0, to a size."""

    factor: float = quantity(
        0.5, "Factor", "Of the width and height, where neither is given below.",
        unit="×", least=0.1, most=8, step=0.05,
    )  # fmt: skip
    kernel: Literal["lanczos3", "catmull-rom", "mitchell", "triangle"] = choice(
        "lanczos3", "Kernel", "How pixels are weighed: sharper ones ring more beside edges.",
        names={"lanczos3": "Lanczos, 3 lobes", "catmull-rom": "Catmull-Rom", "mitchell": "Mitchell",
               "triangle": "Linear"},
    )  # fmt: skip
    linear: bool = switch(
        False, "In linear light", "Averages light instead of values: fine bright detail keeps its brightness."
    )


def need(p: Resize) -> Need:
    return Need(margin=MARGIN, beyond=MARGIN)


def apply(p: Resize, window: Window, around: Around) -> Picture:
    rgb = window.here.rgb
    space = window.given.encoding.space
    if p.linear:
        rgb = converted(rgb, space, LINEAR)
    result = resized(rgb, window, p.kernel)
    if p.linear:
        result = converted(result, LINEAR, space)
    if window.here.even:
        return Picture(result, np.broadcast_to(window.here.noise[:, :1, :1], (2, *result.shape[:2])))
    noise = resized(np.moveaxis(window.here.noise, 0, 2), window, OF_NOISE)
    return Picture(result, np.ascontiguousarray(np.moveaxis(noise, 2, 0)))


def resized(picture: Array, window: Window, kernel: str) -> Array:
    """The wanted part of a picture (H×W×C over the window) in the format handed on."""
    given, handed = window.given, window.handed
    sizes = (given.width, given.height), (handed.width, handed.height)
    return resampled(picture, window.place, sizes[0], window.wanted, sizes[1], kernel)


def propose(case: Case) -> Proposal | None:
    """The size that was asked for, if any, unless it is one that several frames can be enlarged to."""
    if case.scale is None or larger(case.scale, case.format):
        return None
    settings = settings_for(case.scale)
    size = sized(Resize.model_validate(settings), case.format)
    return Proposal(settings, f"{size.width}×{size.height} pixels, as asked.")


TREATMENT = Treatment(
    kind="resize", title="Resize", treats=(), order=80, parameters=Resize, need=need, apply=apply,
    hands_on=sized, propose=propose,
    early="resized noise and faults no longer have the size that was measured",
)  # fmt: skip
