"""What a codec took of a frame, foretold by a network that learned from drawn pictures alone.

The network (see training/codec.py) is given the frame as decoded, as merged along the motion, and as treated, less
the coarse part of the last, luma as four planes of half the size beside colour; what is far around: luma in wide
blocks, and as the mean of patches that look alike; and the error that the codec was let make. It hands back what is
still missing.
"""

from __future__ import annotations

import cv2
import numpy as np

from ..frames import Array
from ..learned import applied_both_ways, as_one, detail, of_four
from ..octaves import doubled, quartered

COARSE_PX = 4.0
"""Deviation of the blur that leaves the coarse part, in pixels of luma and of colour."""

GIVEN, FOURS, HANDED = 27, 5, 6
"""Planes that the network is given, how many times four of them are one of luma, and planes that it hands back."""

LAYERS_REACH = 14
"""Pixels of half the size to each side that the network's layers see."""

TRUSTED = 0.85
"""Part of what the network finds that is added: on some photographs it finds too much by about that (measured on
54 codings, none of which it was taught on; in their mean all of it would bring 0.01 dB more, and take more where it
errs)."""

ALIKE_PX, AROUND_PX = 7, 21
"""Sides of the patches that are compared, and of the square in which they are looked for."""

CODES = 255
"""Luma is compared in 8 bits."""

REACH = 2 * (LAYERS_REACH + 4 * int(COARSE_PX))
"""Pixels to each side that decide a pixel: OpenCV cuts the blur off at four deviations."""


def of_patches_alike(plane: Array, error: float) -> Array:
    """Luma (H×W) as the mean of patches that look alike under an error: non-local means (Buades, Coll, Morel 2005);
    what 8 bits do not hold stays as it is."""
    held = np.rint(np.clip(plane, 0, 1) * CODES).astype(np.uint8)
    strength = max(error * CODES, 1.0)
    meant = cv2.fastNlMeansDenoising(held, None, strength, ALIKE_PX, AROUND_PX)
    alike: Array = plane + (meant.astype(np.float32) - held) / np.float32(CODES)
    return alike


def seen(decoded: Array, merged: Array, treated: Array, error: Array, far: Array) -> Array:
    """What the network is given, 27 planes of half the size, of luma and colour differences (3×H×W each, multiples
    of 4), the coding error (H×W), and what tells of luma from far around (2×H×W): wide blocks, and the mean of
    patches alike."""
    luma = (detail(treated[0], COARSE_PX), *(plane - treated[0] for plane in (decoded[0], merged[0], *far)))
    halves = [[quartered(plane) for plane in planes[1:]] for planes in (decoded, merged, treated)]
    colour = [detail(plane, COARSE_PX) for plane in halves[2]]
    colour += [plane - own for given in halves[:2] for plane, own in zip(given, halves[2], strict=True)]
    return np.concatenate([*(of_four(plane) for plane in luma), np.stack([*colour, quartered(error)])])


def missing(decoded: Array, merged: Array, treated: Array, error: Array, far: Array) -> Array:
    """What is to be added to the treated planes, 3×H×W."""
    given = seen(decoded, merged, treated, error, far)
    made = np.float32(TRUSTED) * applied_both_ways("codec", given, LAYERS_REACH)
    return np.stack([as_one(made[:4]), *(doubled(np.ascontiguousarray(plane)) for plane in made[4:])])
