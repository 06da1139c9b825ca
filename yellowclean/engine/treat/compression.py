"""Compression: what a codec's coarse steps left, taken out by neighbours along the motion and by shrinkage.

All goes by the RMS error that the quantisers let the codec make, block by block, where the file tells them
(`media.quantisers`): a neighbour is trusted as far as it differs by no more than two such errors, so that what
is coded once well and once badly comes out well; then blocks of the 8×8 DCT at every second row and column are
cleared of coefficients that the error may have made (Nosratinia 2001, shifted transforms, with a hard threshold
that rises with the frequency), and in luma meet half-way with blocks of 32×32 (`_wide_blocks`). Detail that the
codec dropped from colour is foretold from luma, as far as the two go together around (after He, Sun, Tang 2013,
guided filter); what is missing still, where that is asked for, by a small network (`_restoring`). Where the codec
was let make no error to speak of, the picture is left as it is.
"""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numba as nb
import numpy as np

from ..colour.opponent import SIGNAL_MATRIX
from ..frames import CV_SCALE, Array, Frame, Region, extended, weighted
from ..octaves import DCT, doubled, halved, quartered
from ..parallel import in_bands
from ..parameters import Parameters, amount, quantity, switch
from ..shrinking import shrunk
from ._colour_detail import lent
from ._restoring import REACH, missing, of_patches_alike
from ._wide_blocks import RISES, in_wide_blocks
from .base import Around, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal
from .fetching import fetched

PATCH = 3
"""Half the side of the patch in which a neighbour is compared: 7×7 pixels."""

EXPECTED, FALLS = 1.0, 3.0
"""Mean square of the difference up to which a neighbour counts in full, and over which its trust falls to 1/e, both
in squares of the error."""

COLOUR_EXPECTED, COLOUR_FALLS = 0.25, 0.5
"""The same of both colours together, for colour."""

BAR, CHROMA_BAR = 1.0, 0.35
"""Coefficients of luma and of colour below so many errors are dropped."""

LEAST, FULL = 0.75 * CV_SCALE / 255, 0.95 * CV_SCALE / 255
"""Error in CV up to which nothing is done, and from which all is: about quantisers 10 and 13 of H.264."""

LEARNED_FROM, LEARNED_ALL = 1.2 * CV_SCALE / 255, 2.0 * CV_SCALE / 255
"""Error in CV from which on the network adds to that, and from which all of what it finds: quantisers 17 and 25 of
H.264. What was coded better than its lessons it would make worse."""

SHARED = 0.15
"""Power of the number of merged frames by which the error falls: a half, were the frames' errors their own."""

DENSE = 0.3
"""Mean square of the finest texture, in squares of the error, over which shrinkage works the less the more there
is: where nearly all coefficients were coded there is nothing to clear, and much to lose."""

COARSE = 0.5
"""Part of the error that is in the picture's half."""

WITHIN, MIDDLING, GROWS = 1.6, 13.0, 1.2
"""Errors by which a coefficient of the frame's own 8×8 blocks may change, rising like the bar, at an error of so
many CV; and the power of the error with which that grows: a step grows faster than what it lets the codec err."""

EDGES = 1.3
"""How much further the lowest of them may go, of which the edges of blocks are made."""

MARGIN, GRID = 128, 16
"""Pixels around a place that it depends on, but for the grid, and the grid on which blocks and halves begin, which
is also how far the picture is mirrored beyond the frame."""

BY_ITSELF = {"frames": 4, "wide": 0}
"""Settings where every frame was coded for itself: errors of neighbours differ then, so that more of them tell
more, and merging leaves less than wide blocks reckon with."""

SHOWN_CV = 24.0
"""Error that is white in the view."""

TO_RGB = np.linalg.inv(SIGNAL_MATRIX[3:].astype(np.float64)).astype(np.float32)
BACK = np.ascontiguousarray(DCT.T)
BARS = (BAR * (1 + (np.arange(8)[:, None] + np.arange(8)) / RISES)).astype(np.float32).reshape(-1)


class Compression(Parameters):
    """Blocks, ringing and smeared colour that a codec left."""

    luma: float = amount(100, "Luma", "How hard to work on luma, as a share of the coding error.")
    chroma: float = amount(100, "Chroma", "How hard to work on colour, as a share of the coding error.")
    frames: int = quantity(
        3, "Frames each side", "Neighbours before and after that are merged.",
        unit="frames", least=0, most=5, step=1,
    )  # fmt: skip
    search: int = quantity(
        48, "Search range", "Longest motion that is followed; faster parts get no neighbours.",
        unit="px", least=0, most=256, step=8,
    )  # fmt: skip
    wide: float = amount(
        50, "Wide blocks", "How far luma goes towards what blocks of 32 pixels tell: threads, bricks and waves"
        " stand out in them. Where every frame was coded for itself they take more than they give.", most=100,
    )  # fmt: skip
    lent: float = amount(
        100, "Colour detail", "How far detail that the codec dropped from colour is taken from luma,"
        " where the two go together.",
    )  # fmt: skip
    told: bool = switch(
        True, "By the file's quantisers", "Work as hard as the quantiser of each block asks for, where the file"
        " tells them.",
    )  # fmt: skip
    learned: bool = switch(
        False, "Learned detail", "Add what a network, taught on drawn pictures alone, finds to be missing still: a"
        " second opinion. Little on leaves and weaves that fill the picture, more on most others; takes three times"
        " as long.",
    )  # fmt: skip
    error: float = quantity(
        0, "Coding error", "The error to reckon with where the file does not tell its quantisers.",
        unit="CV", least=0, most=60, step=0.5,
    )  # fmt: skip

    @property
    def amounts(self) -> tuple[float, ...]:
        """Those of the three planes, 1 for all of the work."""
        return self.luma / 100, self.chroma / 100, self.chroma / 100

    @property
    def margin(self) -> int:
        """Pixels around a place that it depends on, but for the grid."""
        return MARGIN + (REACH if self.learned else 0)


class Treated(NamedTuple):
    """Luma and colour differences (3×H×W) over `core` as decoded, merged along the motion, and treated so far; the
    coding error, H×W; and what tells of luma from far around (see `_restoring`), where learned detail is asked
    for."""

    core: Region
    decoded: Array
    merged: Array
    treated: Array
    error: Array
    far: Array | None


def need(p: Compression) -> Need:
    return Need(back=p.frames, ahead=p.frames, margin=p.search + p.margin + PATCH + 2 * GRID + 2, grid=GRID)


def apply(p: Compression, window: Window, around: Around) -> Picture:
    """Merge the neighbours, then clear the blocks."""
    untouched, found = window.here.part(window.inside), classically(p, window, around)
    if found is None:
        return untouched
    core, before, merged, after, error, far = found
    if far is not None:
        parts = np.minimum(np.array(p.amounts, np.float32), 1)[:, None, None]
        after += parts * _from_to(error, LEARNED_FROM, LEARNED_ALL) * missing(before, merged, after, error, far)
    change: Array = _from_to(error, LEAST, FULL) * (after - before)
    rows, columns = window.wanted.within(core).slices
    wanted = np.ascontiguousarray(np.moveaxis(change[:, rows, columns], 0, -1))
    rgb = untouched.rgb + np.stack([weighted(wanted, row) for row in TO_RGB], axis=-1)
    return Picture(rgb.astype(np.float32), untouched.noise)


def classically(p: Compression, window: Window, around: Around) -> Treated | None:
    """What the treatment makes of a window without its network; None where the codec made no error to speak of."""
    core = window.wanted.grown(p.margin).clipped(window.given.width, window.given.height).grown(GRID).snapped(GRID)
    error = _error(p, window.n, core, around)
    if not (error > LEAST / CV_SCALE).any():
        return None
    before = planes_of(window.here.part(core.within(window.place)).rgb)
    merged, count = _merged(p, window, around, core, before, error)
    luma, *colour = (error * count ** np.float32(-SHARED) * np.float32(part) for part in p.amounts)
    narrow = _shrunk(merged[0], _spared(merged[0], luma))
    wide = in_wide_blocks(merged[0], luma) if p.wide or p.learned else narrow
    done = [
        _towards_wide(merged[0], narrow, wide, luma, p.wide / 100), *map(_colour_cleared, merged[1:], colour),
    ]  # fmt: skip
    cleared = [
        plane + np.float32(min(part, 1)) * (after - plane)
        for plane, part, after in zip(before, p.amounts, done, strict=True)
    ]
    cleared[0] = _kept_within(before[0], cleared[0], error * np.float32(max(p.luma, 100) / 100))
    if p.lent:
        cleared[1:] = lent(cleared, error, np.float32(p.lent / 100))
    far = None
    if p.learned:
        far = np.stack([wide, of_patches_alike(merged[0], _usual_error(p, window.n, around))])
    return Treated(core, before, merged, np.stack(cleared), error, far)


def _from_to(error: Array, least: float, full: float) -> Array:
    """The share of the work that an error (frame units) is worth: none up to `least`, all from `full` on (CV)."""
    share: Array = np.clip((error * CV_SCALE - least) / np.float32(full - least), 0, 1)
    return share


def _error(p: Compression, n: int, region: Region, around: Around) -> Array:
    """The coding error over a region, in frame units; beyond the frame that at its rim."""
    told = _told(p, n, around)
    if told is None:
        return np.full((region.height, region.width), p.error / CV_SCALE, np.float32)
    inside = region.clipped(told.shape[1], told.shape[0])
    return extended(told[inside.slices], inside, region)


def _usual_error(p: Compression, n: int, around: Around) -> float:
    """The RMS coding error of a frame, in frame units."""
    told = _told(p, n, around)
    return p.error / CV_SCALE if told is None else float(np.sqrt(np.mean(np.square(told), dtype=np.float64)))


def _told(p: Compression, n: int, around: Around) -> Array | None:
    return around.coding_error(n) if p.told else None


def planes_of(rgb: Frame) -> Array:
    """Luma and colour differences, 3×H×W."""
    return np.stack([weighted(rgb, row) for row in SIGNAL_MATRIX[3:]])


def _merged(
    p: Compression, window: Window, around: Around, core: Region, before: Array, error: Array
) -> tuple[Array, Array]:
    """The planes averaged with the neighbours', each pixel as far as it is trusted, colour where its own agrees
    too: false colour moves otherwise than what it lies on. And how many frames that is in luma. It does not matter
    whether motion leads back: where there is little to follow, it does not, and any motion will do."""
    total, weight = before.copy(), np.ones((2, *before.shape[1:]), np.float32)
    here = core.within(window.place)
    place = np.array([core.x, core.y, here.x, here.y, p.search], np.float32)
    strength = error * np.float32(max(p.luma, p.chroma) / 100)
    across = np.empty_like(weight)
    rows = before.shape[1]
    usual = _usual_error(p, window.n, around)
    for n in window.neighbours:
        track = around.steadied(window.n, n, window.neighbours, usual)
        warped, gain, _ = fetched(planes_of(window.pull(n).rgb), track, place, before.shape)
        in_bands(rows, lambda a, b, w=warped: _difference_rows(before, w, across, a, b))  # type: ignore[misc]
        in_bands(
            rows,
            lambda a, b, w=warped, g=gain: _merge_rows(across, w, g, strength, total, weight, a, b),  # type: ignore[misc]
        )
    return total / weight[[0, 1, 1]], weight[0]


@nb.njit(nogil=True, cache=True)
def _difference_rows(before, warped, across, first, end):  # type: ignore[no-untyped-def]
    """Row sums over the patch's width of the squared difference, of luma and of both colours."""
    width = before.shape[2]
    square = np.empty((2, width), np.float32)
    for y in range(first, end):
        for x in range(width):
            luma, blue, red = before[:, y, x] - warped[:, y, x]
            square[0, x] = luma * luma
            square[1, x] = blue * blue + red * red
        for x in range(width):
            for k in range(2):
                s = np.float32(0)
                for i in range(-PATCH, PATCH + 1):
                    s += square[k, min(max(x + i, 0), width - 1)]
                across[k, y, x] = s


@nb.njit(nogil=True, cache=True)
def _merge_rows(across, warped, gain, error, total, weight, first, end):  # type: ignore[no-untyped-def]
    """Add a neighbour to the sums, each pixel with its own trust."""
    height, width = gain.shape
    count = np.float32((2 * PATCH + 1) ** 2)
    for y in range(first, end):
        for x in range(width):
            if gain[y, x] == 0 or error[y, x] <= 0:
                continue
            e = error[y, x] * error[y, x]
            strange = np.float32(0)
            for k in range(2):
                s = np.float32(0)
                for j in range(-PATCH, PATCH + 1):
                    s += across[k, min(max(y + j, 0), height - 1), x]
                expected, falls = (EXPECTED, FALLS) if k == 0 else (COLOUR_EXPECTED, COLOUR_FALLS)
                strange += max(s / count - np.float32(expected) * e, np.float32(0)) / (np.float32(falls) * e)
                w = np.exp(-strange)
                if w < np.float32(0.01):
                    break
                weight[k, y, x] += w
                total[k, y, x] += w * warped[k, y, x]
                if k:
                    total[2, y, x] += w * warped[2, y, x]


def _towards_wide(plane: Array, narrow: Array, wide: Array, error: Array, part: float) -> Array:
    """What narrow blocks made of a plane, a part of the way to what wide ones make where these take no more than
    the error: of a star or a glint too little falls on each of their waves to stand out."""
    gone = cv2.blur((plane - wide) ** 2, (5, 5)) / (error * error + np.float32(1e-12))
    towards: Array = narrow + np.float32(part) * np.exp(-np.maximum(gone - 1, 0)) * (wide - narrow)
    return towards


def _colour_cleared(plane: Array, error: Array) -> Array:
    """Colour without coefficients that the error may have made. It is looked at in half the size, as most codecs
    keep it; what is finer in it stays."""
    small = quartered(plane)
    cleared: Array = plane + doubled(_shrunk(small, quartered(error) * np.float32(CHROMA_BAR / BAR)) - small)
    return cleared


def _spared(plane: Array, error: Array) -> Array:
    """The error to reckon with where there is texture."""
    finest = plane - doubled(halved(plane))
    texture = doubled(doubled(halved(halved(finest * finest))))
    less = np.maximum(texture / (error * error + np.float32(1e-12)) - np.float32(DENSE), 0)
    spared: Array = error / np.sqrt(1 + less)
    return spared


def _shrunk(plane: Array, error: Array) -> Array:
    """Blocks cleared in the picture and in its half, whose result gives the low frequencies: in smooth places the
    error is as wide as the codec's blocks (Pierazzo, Morel, Facciolo 2017, for octaves of noise)."""
    done = _blocks_cleared(plane, error)
    coarse = _blocks_cleared(halved(plane), quartered(error) * np.float32(COARSE))
    cleared: Array = done + doubled(coarse - halved(done))
    return cleared


def _blocks_cleared(plane: Array, error: Array) -> Array:
    local = np.ascontiguousarray(error[::2, ::2])
    return shrunk(plane, None, BARS, local, 1.0).plane


def _kept_within(before: Array, cleared: Array, error: Array) -> Array:
    """What was cleared, no coefficient of the frame's own blocks further from what was coded than its step lets the
    truth be."""
    kept = np.empty_like(before)
    most = np.float32(WITHIN) * error * (error * np.float32(CV_SCALE / MIDDLING)) ** np.float32(GROWS)
    in_bands(len(before) // 8, lambda a, b: _within_rows(before, cleared, most, kept, a, b))
    return kept


@nb.njit(nogil=True, cache=True)
def _within_rows(before, cleared, most, kept, first, end):  # type: ignore[no-untyped-def]
    """Rows of blocks `first` to `end`."""
    change, half = np.empty((8, 8), np.float32), np.empty((8, 8), np.float32)
    for y in range(8 * first, 8 * end, 8):
        for x in range(0, before.shape[1], 8):
            limit = most[y + 4, x + 4]
            for i in range(8):
                for j in range(8):
                    change[i, j] = cleared[y + i, x + j] - before[y + i, x + j]
            _turned(change, half, DCT)
            _turned(half, change, DCT)
            for i in range(8):
                for j in range(8):
                    most_here = limit * max(np.float32(EDGES), 1 + np.float32(i + j) / np.float32(RISES))
                    change[i, j] = min(max(change[i, j], -most_here), most_here)
            _turned(change, half, BACK)
            _turned(half, change, BACK)
            for i in range(8):
                for j in range(8):
                    kept[y + i, x + j] = before[y + i, x + j] + change[i, j]


@nb.njit(nogil=True, cache=True)
def _turned(block, out, basis):  # type: ignore[no-untyped-def]
    """The columns in another basis, as rows."""
    for i in range(8):
        for k in range(8):
            total = np.float32(0)
            for j in range(8):
                total += basis[k, j] * block[j, i]
            out[i, k] = total


def error_shown(p: Compression, window: Window, around: Around) -> Array:
    """The coding error of each place, H×W, 0-1."""
    shown: Array = np.clip(_error(p, window.n, window.wanted, around) * np.float32(CV_SCALE / SHOWN_CV), 0, 1)
    return shown


def propose(case: Case) -> Proposal | None:
    """Work by the quantisers where they let the codec err too much; where luma noise is treated, that takes what
    the codec left of and with it."""
    finding = case.outside("coding error")
    if finding is None or case.luma.percent:
        return None
    settings = dict(BY_ITSELF) if case.media.intra_only else {}
    return Proposal(
        settings,
        f"The codec was let err by {finding.value:.1f} CV ({finding.detail}) against a tolerance of"
        f" {finding.tolerance:.1f}: each block is treated by its own quantiser.",
    )


TREATMENT = Treatment(
    kind="compression", title="Codec traces", treats=("coding error", "blocking", "ringing"), order=40,
    parameters=Compression, need=need, apply=apply, propose=propose, mends=True,
    views=(
        OwnView(
            "coding", "Coding error",
            f"The error that each block's quantiser let the codec make: white is {SHOWN_CV:.0f} CV.", error_shown,
        ),
    ),
    early="noise is then taken for coding error",
)  # fmt: skip
