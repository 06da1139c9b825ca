"""What a codec took of a frame, foretold by a network that learned from drawn pictures alone.

The network (see training/codec.py) is given the frame as decoded, as merged along the motion, and as treated, less
the coarse part of the last, luma as four planes of half the size beside colour; and the error that the codec was
let make. It hands back what is still missing.
"""

from __future__ import annotations

import numpy as np

from ..frames import Array
from ..learned import applied_both_ways, as_one, detail, of_four
from ..octaves import doubled, quartered

COARSE_PX = 4.0
"""Deviation of the blur that leaves the coarse part, in pixels of luma and of colour."""

GIVEN, FOURS, HANDED = 19, 3, 6
"""Planes that the network is given, how many times four of them are one of luma, and planes that it hands back."""

LAYERS_REACH = 7
"""Pixels of half the size to each side that the network's layers see."""

TRUSTED = 0.85
"""Part of what the network finds that is added: on photographs it finds too much by about that (measured on 45
codings of 13 photographs and two scenes, none of which it was taught on)."""

REACH = 2 * (LAYERS_REACH + 4 * int(COARSE_PX))
"""Pixels to each side that decide a pixel: OpenCV cuts the blur off at four deviations."""


def seen(decoded: Array, merged: Array, treated: Array, error: Array) -> Array:
    """What the network is given, 19 planes of half the size, of luma and colour differences (3×H×W each, even
    sides) and the coding error (H×W)."""
    luma = (detail(treated[0], COARSE_PX), decoded[0] - treated[0], merged[0] - treated[0])
    halves = [[quartered(plane) for plane in planes[1:]] for planes in (decoded, merged, treated)]
    colour = [detail(plane, COARSE_PX) for plane in halves[2]]
    colour += [plane - own for given in halves[:2] for plane, own in zip(given, halves[2], strict=True)]
    return np.concatenate([*(of_four(plane) for plane in luma), np.stack([*colour, quartered(error)])])


def missing(decoded: Array, merged: Array, treated: Array, error: Array) -> Array:
    """What is to be added to the treated planes, 3×H×W."""
    given = seen(decoded, merged, treated, error)
    made = np.float32(TRUSTED) * applied_both_ways("codec", given, LAYERS_REACH)
    return np.stack([as_one(made[:4]), *(doubled(np.ascontiguousarray(plane)) for plane in made[4:])])
