"""Temporal noise reduction: neighbours brought along the motion and trusted pixel by pixel.

Neighbours are warped to the present frame along dense flow; how far each may be trusted is decided
from a patch around every pixel, in units of the noise sigma, so that one limit means the same on
every shot. Occlusions, misses and cuts fall out by that measure. The variance that remains is kept
for the steps that follow.
"""

from __future__ import annotations

from contextlib import closing

import numba as nb
import numpy as np

from ..frames import Array
from ..motion import STANDS, Movement, Track
from ..noise.profile import LEAST_DEVIATION
from ..parallel import ahead, in_bands
from ..parameters import Parameters, amount, quantity
from ..simd import COUNT, chosen, load, root, spread, store
from ..simd import unsigned as _u
from .base import Around, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal
from .fetching import fetched, filled_up
from .merging import frames_each_side, merge_settings

PATCH = 3
"""Half the side of the patch that decides trust: 7×7 pixels."""

ROWS = 48
"""Rows of a neighbour that are fetched, trusted and merged at a time: what lies between stays in cache."""

WEIGHTS = 0.5, 0.25, 0.25
"""Parts of the axes in the energy of a difference; those that hold no noise have none."""

SLACK = 3.0, 2.0
"""Deviations by which pure noise moves the energy and the mean of a patch by chance: less counts as none."""


class Temporal(Parameters):
    """Noise that changes from frame to frame."""

    luma: float = amount(100, "Luma", "How much of the merge is used in luma.", most=100)
    chroma: float = amount(100, "Chroma", "How much of the merge is used in colour.", most=100)
    frames: int = quantity(
        2, "Frames each side", "Neighbours before and after that are merged; fewer for fast motion.",
        unit="frames", least=0, most=5, step=1,
    )  # fmt: skip
    difference: float = quantity(
        1.0, "Difference limit", "How far a neighbour may differ in its patch before it is dropped.",
        unit="σ", least=0.2, most=8.0, step=0.1,
    )  # fmt: skip
    search: int = quantity(
        48, "Search range", "Longest motion that is followed; faster parts get no neighbours.",
        unit="px", least=0, most=256, step=8,
    )  # fmt: skip


def need(p: Temporal) -> Need:
    return Need(back=p.frames, ahead=p.frames, margin=p.search + PATCH + 2)


def apply(p: Temporal, window: Window, around: Around) -> Picture:
    """Merge the neighbours into the frame."""
    untouched, plain, after, left = _merged(p, window, around)
    return Picture(around.stabiliser.applied(untouched.rgb, plain, after, untouched.noise - left), left)


def _merged(p: Temporal, window: Window, around: Around) -> tuple[Picture, Array, Array, Array]:
    """The wanted part of the frame; its stabilised planes before and after; and the noise that is left."""
    core = window.inside.grown(PATCH)  # trust at a pixel looks at the patch around it
    lines = (0, 0), (0, 0), (0, filled_up(core.width) - core.width)
    before = np.pad(around.stabiliser.opponent(window.here.part(core).rgb), lines, "edge")
    spectrum = around.profile.spectrum_array()[:, 0]
    sigma = np.sqrt((spectrum**2).mean(axis=(1, 2))).astype(np.float32)
    shape = before.shape[1:]
    total, weight, carried = before.copy(), np.ones(shape, np.float32), np.ones(shape, np.float32)
    squares = np.zeros(shape, np.float32)
    sums = total, weight, carried, squares
    place = np.array([window.place.x + core.x, window.place.y + core.y, core.x, core.y, p.search], np.float32)
    weights = _weights(sigma)
    slack = _slack(spectrum, weights)

    def brought(n: int) -> tuple[Array, Track]:
        return around.stabiliser.opponent(window.pull(n).rgb), around.steadied(window.n, n)

    with closing(ahead(brought, window.neighbours)) as neighbours:
        for other, track in neighbours:
            _merge_neighbour(before, other, track, place, (sigma, weights, slack), p.difference, *sums)
            del other  # not to be held beside the next
    share = np.array([p.luma, p.chroma], np.float32) / 100
    inside = window.inside.within(core)
    untouched = window.here.part(window.inside)
    plain = np.empty((3, inside.height, inside.width), np.float32)
    after, left = np.empty_like(plain), np.empty_like(plain[:2])
    lies = inside.x, inside.y
    in_bands(inside.height, lambda a, b: _merged_rows(before, sums, share, *lies, plain, after, left, a, b))
    left *= untouched.noise
    return untouched, plain, after, left


def _weights(sigma: Array) -> Array:
    """The parts of the axes that hold noise, 1 in all."""
    weights = np.array(WEIGHTS, np.float32) * (sigma > 2 * LEAST_DEVIATION)
    return weights / weights.sum() if weights.any() else np.array(WEIGHTS, np.float32)


def _slack(spectrum: Array, weights: Array) -> Array:
    """By how much (energy, mean) of a patch differ by chance, for noise of this spectrum (axes×8×8)."""
    power = spectrum.astype(np.float64) ** 2
    pixels = (2 * PATCH + 1) ** 2
    independent = pixels * power.mean(axis=(1, 2)) ** 2 / (power**2).mean(axis=(1, 2))
    energy = np.sqrt((weights.astype(np.float64) ** 2 * 2 / independent).sum())
    low = power[0, :2, :2].mean() / power[0].mean()  # a patch's mean holds the lowest frequencies
    return np.array([SLACK[0] * energy, SLACK[1] * np.sqrt(low / pixels)], np.float32)


def _merge_neighbour(
    before: Array, other: Array, track: Track, place: Array, noise: tuple[Array, Array, Array], limit: float,
    total: Array, weight: Array, carried: Array, squares: Array,
) -> None:  # fmt: skip
    """Add one neighbour to the running sums, each pixel with its own trust. `noise` is the axes' deviation, their
    weights, and the slack of a patch."""
    sigma, weights, slack = noise
    planes, height, width = before.shape

    def strip(first: int, end: int) -> None:
        top, below = max(first - PATCH, 0), min(end + PATCH, height)  # trust looks at the patch around a pixel
        here = place + np.array([0, top, 0, top, 0], np.float32)
        warped, gain, doubt = fetched(other, track, here, (planes, below - top, width))
        across = np.empty((2, below - top, width), np.float32)
        _difference_rows(before, warped, gain, sigma, weights, across, top)
        _trust_rows(
            across, warped, gain, doubt, slack, np.float32(limit), total, weight, carried, squares, top, first, end
        )

    def band(first: int, end: int) -> None:
        for row in range(first, end, ROWS):
            strip(row, min(row + ROWS, end))

    in_bands(height, band)


@nb.njit(nogil=True, cache=True)
def _merged_rows(before, sums, share, left, top, plain, after, remains, first, end):  # type: ignore[no-untyped-def]
    """The merge as far as it is used, and the share of the noise that is left, of the part that is wanted."""
    total, weight, carried, squares = sums
    for y in range(first, end):
        row, there = _u(y), _u(y + top)
        for k in range(3):
            used, old, new = share[min(k, 1)], plain[k, row], after[k, row]
            here, merged, sum_of = before[k, there, left:], total[k, there, left:], weight[there, left:]
            for x in range(_u(old.size)):
                old[x] = here[x]
                new[x] = here[x] + used * (merged[x] / sum_of[x] - here[x])
        for k in range(2):
            used, rest = share[k], remains[k, row]
            own, others, sum_of = carried[there, left:], squares[there, left:], weight[there, left:]
            for x in range(_u(rest.size)):
                part = used / sum_of[x]
                kept = 1 - used + own[x] * part
                rest[x] = kept * kept + others[x] * part * part


STRANGEST = np.float32(-np.log(0.01))
"""From there on a neighbour counts for less than a hundredth, and for nothing."""


@nb.njit(nogil=True, cache=True)
def _difference_rows(before, warped, gain, sigma, weights, across, top):  # type: ignore[no-untyped-def]
    """Row sums over the patch's width of the squared and the signed difference, in sigma units. The neighbour's
    first row lies at row `top` of the frame."""
    height, width = gain.shape
    own, plane = _u(before.size // 3), _u(gain.size)
    sums = np.empty((2, width + 2 * COUNT), np.float32)
    signs = _u(sums.shape[1])
    for y in range(height):
        for x in range(0, width, COUNT):
            at, there = _u(y * width + x), _u((y + top) * width + x)
            part = np.float32(1) / (load(gain, at) + np.float32(1))
            d0 = (load(before, there) - load(warped, at)) / sigma[0]
            d1 = (load(before, own + there) - load(warped, plane + at)) / sigma[1]
            d2 = (load(before, _u(2) * own + there) - load(warped, _u(2) * plane + at)) / sigma[2]
            store(sums, _u(PATCH + x), (weights[0] * d0 * d0 + weights[1] * d1 * d1 + weights[2] * d2 * d2) * part)
            store(sums, signs + _u(PATCH + x), d0 * root(part))
        for k in range(2):
            sums[k, :PATCH] = sums[k, PATCH]
            sums[k, PATCH + width :] = sums[k, PATCH + width - 1]
            for x in range(0, width, COUNT):
                at = _u(k) * signs + _u(x)
                total = load(sums, at)
                for i in range(_u(1), _u(2 * PATCH + 1)):
                    total = total + load(sums, at + i)
                store(across, _u((k * height + y) * width + x), total)


@nb.njit(nogil=True, cache=True)
def _patch_sum(across, k, y, x):  # type: ignore[no-untyped-def]
    height, width = across.shape[1:]
    total = spread(np.float32(0))
    for j in range(-PATCH, PATCH + 1):
        line = min(max(y + j, 0), height - 1)
        total = total + load(across, _u((k * height + line) * width + x))
    return total


@nb.njit(nogil=True, cache=True)
def _trust(strange):  # type: ignore[no-untyped-def]
    """exp(-strange), 0 for what is too strange: the 64th power of what a series gives for a 64th."""
    t = strange * np.float32(-1 / 64)
    w = ((t * np.float32(1 / 24) + np.float32(1 / 6)) * t + np.float32(0.5)) * t * t + t + np.float32(1)
    w = w * w
    w = w * w
    w = w * w
    w = w * w
    w = w * w
    w = w * w
    return chosen(strange, spread(STRANGEST), spread(np.float32(0)), w)


@nb.njit(nogil=True, cache=True)
def _trust_rows(across, warped, gain, doubt, slack, limit, total, weight, carried, squares, top, first, end):  # type: ignore[no-untyped-def]
    """Finish the patch sums and add rows `first` to `end` of the neighbour, whose own first row lies at row `top`
    of the frame, with its weight: to the picture (`total`, `weight`), and to what is left of the noise (`carried`,
    the part that the frame itself has; `squares`, the neighbours' own)."""
    width = gain.shape[1]
    own, plane = _u(weight.size), _u(gain.size)
    count = np.float32(1 / (2 * PATCH + 1) ** 2)
    zero, one = spread(np.float32(0)), np.float32(1)
    sharply = one / (limit * limit)
    for y in range(first, end):
        for x in range(0, width, COUNT):
            at, there = _u((y - top) * width + x), _u(y * width + x)
            kept, away = load(gain, at), load(doubt, at)
            energy = _patch_sum(across, 0, y - top, x) * count
            signed = _patch_sum(across, 1, y - top, x) * count
            excess = energy - one - slack[0]
            excess = chosen(excess, zero, excess, zero)
            shift = chosen(signed, zero, signed, zero - signed) - slack[1]
            shift = chosen(shift, zero, shift, zero)
            strange = (np.float32(2) * excess + np.float32(4) * shift * shift) * sharply + away * away
            w = chosen(kept, zero, _trust(strange), zero)
            # A difference smaller than noise makes means that the neighbour carries the same noise: a repeated
            # frame, or one that a codec predicted. It then takes little of it away.
            same = one - energy
            same = chosen(spread(slack[0]), same, zero, same)
            store(weight, there, load(weight, there) + w)
            store(carried, there, load(carried, there) + w * same)
            store(squares, there, load(squares, there) + w * w * kept * (one - same * same))
            for k in range(_u(3)):
                to = k * own + there
                store(total, to, load(total, to) + w * load(warped, k * plane + at))


def propose(case: Case) -> Proposal | None:
    """Merge as many neighbours as the motion lets, wherever noise is to be taken at all and one frame alone would
    leave more."""
    if not case.worth_merging or not (case.luma.percent or case.chroma.percent):
        return None
    carried = case.profile.carried
    settings = merge_settings(
        case.movement,
        luma=case.luma.percent > 0,
        chroma=case.chroma.percent > 0,
        difference=case.difference,
        carried=carried,
        gentle=case.gentle,
    )
    told = _reason(case.movement, frames_each_side(case.movement, carried=carried))
    if case.merging_leaves is not None:
        told += f" One frame alone would leave {100 * (1 / case.merging_leaves - 1):.0f} % more error."
    return Proposal(settings, told, case.reach)


def _reason(movement: Movement, count: int) -> str:
    side = "1 frame each side still matches" if count == 1 else f"{count} frames each side still match"
    if movement.standing >= STANDS:
        return f"{100 * movement.standing:.0f} % of the picture stands still: {side}."
    return f"Motion of up to {movement.px:.0f} px a frame: {side}."


def merged_share(p: Temporal, window: Window, around: Around) -> Array:
    """How much of the noise that the step starts from it takes out of luma, H×W, 0-1."""
    before = window.here.part(window.inside).noise[0]
    left = apply(p, window, around).noise[0]
    share: Array = 1 - np.sqrt(left / np.maximum(before, np.float32(1e-6)))
    return share


TREATMENT = Treatment(
    kind="temporal", title="Temporal noise reduction", treats=("noise", "colour noise"), order=20,
    parameters=Temporal, need=need, apply=apply, propose=propose,
    views=(
        OwnView(
            "merged", "Merged",
            "How much noise the merge takes at each place: dark where no neighbour could be trusted.", merged_share,
        ),
    ),
    early="frames that jump in level or carry specks do not match, and are not merged",
)  # fmt: skip
