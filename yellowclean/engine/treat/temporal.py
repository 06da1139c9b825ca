"""Temporal noise reduction: neighbours brought along the motion and trusted pixel by pixel.

Neighbours are warped to the present frame along dense flow; how far each may be trusted is decided
from a patch around every pixel, in units of the noise sigma, so that one limit means the same on
every shot. Occlusions, misses and cuts fall out by that measure. The variance that remains is kept
for the steps that follow.
"""

from __future__ import annotations

import numba as nb
import numpy as np

from ..frames import Array
from ..motion import STANDS, Movement, Track
from ..noise.profile import LEAST_DEVIATION
from ..parallel import in_bands
from ..parameters import Parameters, amount, quantity
from .base import Around, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal
from .merging import frames_each_side, merge_settings

DOUBT_PX, DOUBT_SHARE = 2.0, 0.1
"""How far from home a pixel may end, there and back: in pixels, and as a share of its motion."""

PATCH = 3
"""Half the side of the patch that decides trust: 7×7 pixels."""

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
        unit="σ", least=0.2, most=4.0, step=0.1,
    )  # fmt: skip
    search: int = quantity(
        48, "Search range", "Longest motion that is followed; faster parts get no neighbours.",
        unit="px", least=0, most=256, step=8,
    )  # fmt: skip


def need(p: Temporal) -> Need:
    return Need(back=p.frames, ahead=p.frames, margin=p.search + PATCH + 2)


def apply(p: Temporal, window: Window, around: Around) -> Picture:
    """Merge the neighbours into the frame."""
    core = window.inside.grown(PATCH)  # trust at a pixel looks at the patch around it
    here = window.here.part(core)
    before = around.stabiliser.opponent(here.rgb)
    spectrum = around.profile.spectrum_array()[:, 0]
    sigma = np.sqrt((spectrum**2).mean(axis=(1, 2))).astype(np.float32)
    shape = before.shape[1:]
    total, weight, carried = before.copy(), np.ones(shape, np.float32), np.ones(shape, np.float32)
    squares = np.zeros(shape, np.float32)
    sums = total, weight, carried, squares
    place = np.array([window.place.x + core.x, window.place.y + core.y, core.x, core.y, p.search], np.float32)
    weights = _weights(sigma)
    slack = _slack(spectrum, weights)
    for n in window.neighbours:
        other = around.stabiliser.opponent(window.pull(n).rgb)
        _merge_neighbour(
            before, other, around.motion(window.n, n), place, (sigma, weights, slack), p.difference, *sums
        )
    total /= weight
    share = np.array([p.luma, p.chroma, p.chroma], np.float32)[:, None, None] / 100
    after = before + share * (total - before)
    own = 1 - share[:2] + share[:2] * carried / weight
    left = here.noise * (own**2 + share[:2] ** 2 * squares / weight**2)
    merged = Picture(around.stabiliser.applied(here.rgb, before, after, here.noise - left), left)
    return merged.part(window.inside.within(core))


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


def fetched(other: Array, track: Track, place: Array, shape: tuple[int, ...]) -> tuple[Array, Array, Array]:
    """A neighbour (axes×H×W) as it lies at each pixel's motion; the variance of its noise that interpolation keeps;
    and the doubt about the motion, in units in which trust falls to 1/e at 1. `place` is told at `_warp_rows`."""
    warped = np.empty(shape, np.float32)
    gain, doubt = np.empty(shape[1:], np.float32), np.empty(shape[1:], np.float32)
    in_bands(
        shape[1], lambda a, b: _warp_rows(other, track.field, track.reduction, place, warped, gain, doubt, a, b)
    )
    return warped, gain, doubt


def _merge_neighbour(
    before: Array, other: Array, track: Track, place: Array, noise: tuple[Array, Array, Array], limit: float,
    total: Array, weight: Array, carried: Array, squares: Array,
) -> None:  # fmt: skip
    """Add one neighbour to the running sums, each pixel with its own trust. `noise` is the axes' deviation, their
    weights, and the slack of a patch."""
    sigma, weights, slack = noise
    height, width = before.shape[1:]
    warped, gain, doubt = fetched(other, track, place, before.shape)
    across = np.empty((2, height, width), np.float32)
    in_bands(height, lambda a, b: _difference_rows(before, warped, gain, sigma, weights, across, a, b))
    in_bands(
        height,
        lambda a, b: _trust_rows(
            across, warped, gain, doubt, slack, np.float32(limit), total, weight, carried, squares, a, b
        ),
    )


@nb.njit(nogil=True, cache=True, inline="always")
def _cubic(t, w):  # type: ignore[no-untyped-def]
    """Catmull-Rom weights for a fraction t."""
    w[0] = np.float32(-0.5) * t + t * t - np.float32(0.5) * t * t * t
    w[1] = np.float32(1) - np.float32(2.5) * t * t + np.float32(1.5) * t * t * t
    w[2] = np.float32(0.5) * t + np.float32(2) * t * t - np.float32(1.5) * t * t * t
    w[3] = np.float32(-0.5) * t * t + np.float32(0.5) * t * t * t


@nb.njit(nogil=True, cache=True)
def _warp_rows(other, vectors, reduction, place, warped, gain, doubt, first, end):  # type: ignore[no-untyped-def]
    """Fetch the neighbour at each pixel's motion; `gain` is the noise variance that interpolation keeps.

    `place` holds where `warped` begins in the frame (x, y) and in `other` (x, y), and the search range.
    A pixel whose motion is out of range gets gain 0 and takes no part.
    """
    height, width = other.shape[1:]
    rows, columns = vectors.shape[:2]
    left, top = int(place[2]), int(place[3])
    wx = np.empty(4, np.float32)
    wy = np.empty(4, np.float32)
    for y in range(first, end):
        fy = min(max((y + place[1] + np.float32(0.5)) / reduction[1] - np.float32(0.5), 0.0), rows - 1.0)
        ya = int(fy)
        yb = min(ya + 1, rows - 1)
        ty = np.float32(fy - ya)
        for x in range(warped.shape[2]):
            fx = min(max((x + place[0] + np.float32(0.5)) / reduction[0] - np.float32(0.5), 0.0), columns - 1.0)
            xa = int(fx)
            xb = min(xa + 1, columns - 1)
            tx = np.float32(fx - xa)
            mx = (vectors[ya, xa, 0] * (1 - tx) + vectors[ya, xb, 0] * tx) * (1 - ty)
            mx += (vectors[yb, xa, 0] * (1 - tx) + vectors[yb, xb, 0] * tx) * ty
            my = (vectors[ya, xa, 1] * (1 - tx) + vectors[ya, xb, 1] * tx) * (1 - ty)
            my += (vectors[yb, xa, 1] * (1 - tx) + vectors[yb, xb, 1] * tx) * ty
            away = (vectors[ya, xa, 2] * (1 - tx) + vectors[ya, xb, 2] * tx) * (1 - ty)
            away += (vectors[yb, xa, 2] * (1 - tx) + vectors[yb, xb, 2] * tx) * ty
            doubt[y, x] = away / (DOUBT_PX + DOUBT_SHARE * np.sqrt(mx * mx + my * my))
            if abs(mx) > place[4] or abs(my) > place[4]:
                gain[y, x] = 0
                for k in range(3):
                    warped[k, y, x] = 0
                continue
            x0 = int(np.floor(mx))
            y0 = int(np.floor(my))
            if mx == x0 and my == y0 and 0 <= x + left + x0 < width and 0 <= y + top + y0 < height:
                gain[y, x] = 1  # what stands, or moves by whole pixels, is fetched as it is
                for k in range(3):
                    warped[k, y, x] = other[k, y + top + y0, x + left + x0]
                continue
            _cubic(np.float32(mx - x0), wx)
            _cubic(np.float32(my - y0), wy)
            gx = wx[0] * wx[0] + wx[1] * wx[1] + wx[2] * wx[2] + wx[3] * wx[3]
            gy = wy[0] * wy[0] + wy[1] * wy[1] + wy[2] * wy[2] + wy[3] * wy[3]
            gain[y, x] = gx * gy
            x0 += x + left
            y0 += y + top
            if 1 <= x0 < width - 2 and 1 <= y0 < height - 2:
                row, column = nb.uint64(y0 - 1), nb.uint64(x0 - 1)
                for k in range(3):
                    value = np.float32(0)
                    for j in range(nb.uint64(4)):
                        line = np.float32(0)
                        for i in range(nb.uint64(4)):
                            line += wx[i] * other[k, row + j, column + i]
                        value += wy[j] * line
                    warped[k, y, x] = value
                continue
            for k in range(3):
                value = np.float32(0)
                for j in range(4):
                    yy = min(max(y0 - 1 + j, 0), height - 1)
                    line = np.float32(0)
                    for i in range(4):
                        xx = min(max(x0 - 1 + i, 0), width - 1)
                        line += wx[i] * other[k, yy, xx]
                    value += wy[j] * line
                warped[k, y, x] = value


@nb.njit(nogil=True, cache=True)
def _difference_rows(before, warped, gain, sigma, weights, across, first, end):  # type: ignore[no-untyped-def]
    """Row sums over the patch's width of the squared and the signed difference, in sigma units."""
    width = before.shape[2]
    energy = np.empty(width, np.float32)
    signed = np.empty(width, np.float32)
    for y in range(first, end):
        for x in range(width):
            expected = 1 + gain[y, x]
            d0 = (before[0, y, x] - warped[0, y, x]) / sigma[0]
            d1 = (before[1, y, x] - warped[1, y, x]) / sigma[1]
            d2 = (before[2, y, x] - warped[2, y, x]) / sigma[2]
            energy[x] = (weights[0] * d0 * d0 + weights[1] * d1 * d1 + weights[2] * d2 * d2) / expected
            signed[x] = d0 / np.sqrt(expected)
        for x in range(width):
            e = np.float32(0)
            s = np.float32(0)
            for i in range(-PATCH, PATCH + 1):
                xx = min(max(x + i, 0), width - 1)
                e += energy[xx]
                s += signed[xx]
            across[0, y, x] = e
            across[1, y, x] = s


@nb.njit(nogil=True, cache=True)
def _trust_rows(across, warped, gain, doubt, slack, limit, total, weight, carried, squares, first, end):  # type: ignore[no-untyped-def]
    """Finish the patch sums and add the neighbour with its weight: to the picture (`total`, `weight`), and to what
    is left of the noise (`carried`, the part that the frame itself has; `squares`, the neighbours' own)."""
    height, width = gain.shape
    count = np.float32((2 * PATCH + 1) ** 2)
    for y in range(first, end):
        for x in range(width):
            if gain[y, x] == 0:
                continue
            energy = np.float32(0)
            signed = np.float32(0)
            for j in range(-PATCH, PATCH + 1):
                yy = min(max(y + j, 0), height - 1)
                energy += across[0, yy, x]
                signed += across[1, yy, x]
            excess = max(energy / count - 1 - slack[0], np.float32(0))
            shift = max(abs(signed) / count - slack[1], np.float32(0))
            strange = (2 * excess + 4 * shift * shift) / (limit * limit)
            w = np.exp(-strange - doubt[y, x] * doubt[y, x])
            if w < np.float32(0.01):
                continue
            # A difference smaller than noise makes means that the neighbour carries the same noise: a repeated
            # frame, or one that a codec predicted. It then takes little of it away.
            same = 1 - energy / count
            if same < slack[0]:
                same = np.float32(0)
            weight[y, x] += w
            carried[y, x] += w * same
            squares[y, x] += w * w * gain[y, x] * (1 - same * same)
            for k in range(3):
                total[k, y, x] += w * warped[k, y, x]


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
