"""Neighbours brought along the motion: each pixel fetched by bicubic interpolation from where it is found.

Sixteen pixels of a row are fetched at once. What moves alike does so by loads of whole lines; where their motion
parts them by whole pixels, each of the displacements is fetched for all of them and taken where it belongs. The
value of a pixel does not depend on the pixels beside it.
"""

from __future__ import annotations

import numba as nb
import numpy as np
import numpy.typing as npt

from ..frames import Array
from ..motion import Track
from ..parallel import in_bands
from ..simd import COUNT, chosen, load, root, spread, store, whole_below
from ..simd import unsigned as _u

DOUBT_PX, DOUBT_SHARE = 2.0, 0.1
"""How far from home a pixel may end, there and back: in pixels, and as a share of its motion."""

SURE_PX = 0.5
"""How far from home a pixel may end, there and back, to be compared: after long motion too."""


def filled_up(width: int) -> int:
    """The least width, not smaller, that whole lines make up."""
    return -(-width // COUNT) * COUNT


def fetched(other: Array, track: Track, place: Array, shape: tuple[int, ...]) -> tuple[Array, Array, Array]:
    """A neighbour (planes×H×W) as it lies at each pixel's motion; the variance of its noise that interpolation
    keeps, 0 where motion leads out of range; and the doubt about the motion, in units in which trust falls to 1/e
    at 1.

    `shape` is that of the result; `place` holds where it begins in the frame (x, y) and in `other` (x, y), and the
    search range."""
    planes, height, width = shape
    wide = filled_up(width)
    warped = np.empty((planes, height, wide), np.float32)
    gain, doubt = np.empty((height, wide), np.float32), np.empty((height, wide), np.float32)
    other, reduction = np.ascontiguousarray(other), np.array(track.reduction, np.float32)
    in_bands(height, lambda a, b: _fetch_rows(other, track.field, reduction, place, warped, gain, doubt, a, b))
    if wide == width:
        return warped, gain, doubt
    first, second, third = (np.ascontiguousarray(made[..., :width]) for made in (warped, gain, doubt))
    return first, second, third


def surely_fetched(
    other: Array, track: Track, place: Array, shape: tuple[int, ...]
) -> tuple[Array, npt.NDArray[np.bool_]]:
    """The same neighbour, and where the motion leads there and back so exactly that both show the same."""
    moved, gain, doubt = fetched(other, track, place, shape)
    typical_px = float(np.median(np.hypot(track.field[..., 0], track.field[..., 1])))
    return moved, (doubt < SURE_PX / (DOUBT_PX + DOUBT_SHARE * typical_px)) & (gain > 0)


_LINE = _u(COUNT)


@nb.njit(nogil=True, cache=True)
def _cubic(t):  # type: ignore[no-untyped-def]
    """Catmull-Rom weights for fractions."""
    half, square = np.float32(0.5) * t, t * t
    cube = square * t
    return (
        square - half - np.float32(0.5) * cube,
        np.float32(1.5) * cube - np.float32(2.5) * square + np.float32(1),
        half + np.float32(2) * square - np.float32(1.5) * cube,
        np.float32(0.5) * cube - np.float32(0.5) * square,
    )


@nb.njit(nogil=True, cache=True)
def _line_of(source, at, step, w):  # type: ignore[no-untyped-def]
    return (
        w[0] * load(source, at)
        + w[1] * load(source, at + step)
        + w[2] * load(source, at + _u(2) * step)
        + w[3] * load(source, at + _u(3) * step)
    )


@nb.njit(nogil=True, cache=True)
def _interpolated(source, at, row, step, across, down):  # type: ignore[no-untyped-def]
    return (
        down[0] * _line_of(source, at, step, across)
        + down[1] * _line_of(source, at + row, step, across)
        + down[2] * _line_of(source, at + _u(2) * row, step, across)
        + down[3] * _line_of(source, at + _u(3) * row, step, across)
    )


@nb.njit(nogil=True, cache=True)
def _gathered(plane, line, column, taps):  # type: ignore[no-untyped-def]
    """The pixels around sixteen places, one by one, those beyond the plane from its rim."""
    height, width = plane.shape
    for j in range(4):
        y = min(max(line + j, 0), height - 1)
        for i in range(4):
            for lane in range(COUNT):
                taps[(4 * j + i) * COUNT + lane] = plane[y, min(max(column + i + lane, 0), width - 1)]


@nb.njit(nogil=True, cache=True)
def _field_row(field, row, nearest, part, line):  # type: ignore[no-untyped-def]
    """Motion and doubt (3×W) of a row of the field at each column of the frame, between the places that it has."""
    last = field.shape[1] - 1
    for x in range(_u(line.shape[1])):
        a = nearest[x]
        b, share = _u(min(a + 1, last)), part[x]
        for k in range(_u(3)):
            here = field[_u(row), _u(a), k]
            line[k, x] = here + share * (field[_u(row), b, k] - here)


@nb.njit(nogil=True, cache=True)
def _motion_row(lines, share, x):  # type: ignore[no-untyped-def]
    """Sixteen of each of the three between two rows of the field (2×3×W)."""
    wide = _u(lines.shape[2])
    return (
        load(lines, x) + share * (load(lines, _u(3) * wide + x) - load(lines, x)),
        load(lines, wide + x) + share * (load(lines, _u(4) * wide + x) - load(lines, wide + x)),
        load(lines, _u(2) * wide + x) + share * (load(lines, _u(5) * wide + x) - load(lines, _u(2) * wide + x)),
    )


@nb.njit(nogil=True, cache=True)
def _fetch_rows(other, field, reduction, place, warped, gain, doubt, first, end):  # type: ignore[no-untyped-def]
    planes, height, width = other.shape
    rows, columns = field.shape[:2]
    wide = warped.shape[2]
    left, top, search = int(place[2]), int(place[3]), np.float32(place[4])
    nearest, part = np.empty(wide, np.int64), np.empty(wide, np.float32)
    for x in range(wide):
        at = (np.float32(x) + place[0] + np.float32(0.5)) / reduction[0] - np.float32(0.5)
        at = min(max(at, np.float32(0)), np.float32(columns - 1))
        nearest[x] = int(at)
        part[x] = at - nearest[x]
    lines, held = np.empty((2, 3, wide), np.float32), -1
    steps, taken = np.empty(2 * COUNT, np.float32), np.empty(COUNT, np.bool_)
    taps = np.empty(16 * COUNT, np.float32)
    zero, one = spread(np.float32(0)), spread(np.float32(1))
    for y in range(first, end):
        at = (np.float32(y) + place[1] + np.float32(0.5)) / reduction[1] - np.float32(0.5)
        at = min(max(at, np.float32(0)), np.float32(rows - 1))
        above = int(at)
        between = at - np.float32(above)
        if above != held:
            held = above
            for k in range(2):
                _field_row(field, min(above + k, rows - 1), nearest, part, lines[k])
        for x in range(0, wide, COUNT):
            to = _u(y * wide + x)
            mx, my, away = _motion_row(lines, between, _u(x))
            reach = mx * mx + my * my
            store(doubt, to, away / (np.float32(DOUBT_SHARE) * root(reach) + np.float32(DOUBT_PX)))
            column, row = whole_below(mx), whole_below(my)
            across, down = _cubic(mx - column), _cubic(my - row)
            kept = across[0] * across[0] + across[1] * across[1] + across[2] * across[2] + across[3] * across[3]
            kept = kept * (down[0] * down[0] + down[1] * down[1] + down[2] * down[2] + down[3] * down[3])
            far = spread(search * search)
            kept = chosen(mx * mx, far, zero, chosen(my * my, far, zero, kept))
            within = chosen(kept, zero, one, zero)
            store(gain, to, kept)
            for k in range(planes):
                store(warped, _u(k * gain.size) + to, zero)
            store(steps, _u(0), column)
            store(steps, _LINE, row)
            taken[:] = False
            for lane in range(COUNT):
                sx, sy = steps[lane], steps[COUNT + lane]
                if taken[lane] or max(abs(sx), abs(sy)) > search + 1:
                    continue
                for later in range(lane, COUNT):
                    taken[later] |= steps[later] == sx and steps[COUNT + later] == sy
                aside = (column - sx) * (column - sx) + (row - sy) * (row - sy)
                share = chosen(aside, zero, zero, within)
                x0, y0 = x + left + int(sx) - 1, y + top + int(sy) - 1
                inside = x0 >= 0 and x0 + COUNT + 3 <= width and y0 >= 0 and y0 + 4 <= height
                for k in range(planes):
                    if inside:
                        at = _u((k * height + y0) * width + x0)
                        value = _interpolated(other, at, _u(width), _u(1), across, down)
                    else:
                        _gathered(other[k], y0, x0, taps)
                        value = _interpolated(taps, _u(0), _u(4) * _LINE, _LINE, across, down)
                    here = _u(k * gain.size) + to
                    store(warped, here, share * value + load(warped, here))
