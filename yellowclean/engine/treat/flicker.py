"""Flicker taken out: each frame's gain in linear light, of the whole frame and of travelling bands of rows, without
what is slow, and so meant.

How the gain is found is told in `measure.lighting`: along the camera's motion, from pictures that are compared in a
few thousand cells. The gains since the frame before are summed up over a window of frames; the sum's deviation from
its own slow course is the flicker. Cuts end a window."""

from __future__ import annotations

import itertools

import numpy as np

from ..colour.encodings import converted, linear_like
from ..frames import Array, luma
from ..measure.lighting import APART, Change, Wave, beside_wave, change, drift_at, level_course, small_light, wave
from ..parameters import Parameters, amount, quantity, switch
from .base import Around, Course, Need, Picture, Treatment, Window
from .case import Case, Proposal

CLIP_SOFT = 0.02
"""Below white, how far a colour counts as clipped in part: what is cut off has no gain to be undone."""


class Flicker(Parameters):
    """Light that changes from frame to frame."""

    taken: float = amount(100, "Taken out", "How much of the measured change of light is undone.", most=100)
    slow: int = quantity(
        20, "Slow is meant", "Changes that take longer than this, as fades and exposure ramps, stay.",
        unit="frames", least=4, most=60, step=1,
    )  # fmt: skip
    bands: bool = switch(
        True, "Bands of rows", "Also undo bands that travel down or up the picture, as mains lamps make them."
    )


def need(p: Flicker) -> Need:
    return Need()


def apply(p: Flicker, window: Window, around: Around) -> Picture:
    """Divide by the gain."""
    here = window.here.part(window.inside)
    logs = _logs(p, window.n, around)[window.wanted.y : window.wanted.bottom]
    if not logs.any():
        return here
    gain = np.exp(-logs * np.float32(p.taken / 100))[:, None]
    encoding = window.given.encoding
    linear = linear_like(encoding)
    evened = converted(converted(here.rgb, encoding.space, linear) * gain[..., None], linear, encoding.space)
    white = np.clip((1 - here.rgb) / np.float32(CLIP_SOFT), 0, 1)
    return Picture(here.rgb + white * (evened - here.rgb), here.noise * gain**2)


def _logs(p: Flicker, n: int, around: Around) -> Array:
    """Logarithm of what is taken for flicker in frame n, for each row."""

    def found() -> Array:
        frames = _scene(around, n, p.slow)
        changes = [_change(around, k - 1, k) for k in frames[1:]]
        bands = wave(changes, frames.start + 1) if p.bands and changes else None
        level, at = _levels(around, frames, bands), n - frames.start
        logs = np.full(around.format.height, level[at] - drift_at(level, at, p.slow), np.float32)
        if bands:
            logs += bands.at(n, (np.arange(len(logs)) + 0.5) / len(logs))
        return logs

    return around.kept(("flicker", n, p.slow, p.bands), found)


def course(p: Flicker, frames: range, around: Around) -> Course:
    """The level in the middle row, in percent of what it is on average."""
    rows = np.array([_logs(p, n, around) for n in frames])
    taken = rows[:, rows.shape[1] // 2]
    meant = _levels(around, frames, None) - rows.mean(axis=1)
    meant -= meant.mean()
    before, after = meant + taken, meant + (1 - p.taken / 100) * taken
    before, meant, after = (100 * np.exp(logs) for logs in (before, meant, after))
    return Course(
        title="Level, middle row", unit="% of its mean", first=frames.start,
        before=before.tolist(), meant=meant.tolist(), after=after.tolist(),
    )  # fmt: skip


def _scene(around: Around, n: int, slow: int) -> range:
    """The frames around frame n, `slow` to each side, or as many where the scene ends on one."""
    first, last = n, n
    while n - first < slow and _follows(around, first):
        first -= 1
    while last - first < 2 * slow and _follows(around, last + 1):
        last += 1
    while last - first < 2 * slow and _follows(around, first):
        first -= 1
    return range(first, last + 1)


def _follows(around: Around, n: int) -> bool:
    """Whether frame n shows the scene of the one before."""
    return 0 < n < around.frames and _change(around, n - 1, n) is not None


def _levels(around: Around, frames: range, bands: Wave | None) -> Array:
    """Logarithm of the level of the whole picture, beside what bands make of it."""
    cuts = np.cumsum([not _follows(around, n) for n in frames])
    told = {}
    for apart, k in itertools.product(APART, range(len(frames))):
        if k < apart or cuts[k] != cuts[k - apart]:
            continue
        seen = _change(around, frames[k - apart], frames[k])
        if seen is not None:
            told[frames[k - apart], frames[k]] = beside_wave(seen, bands, frames[k], apart) if bands else seen.whole
    return level_course(told, frames)


def _change(around: Around, before: int, n: int) -> Change | None:
    return around.kept(("change of light", before, n), lambda: change(_light(around, before), _light(around, n)))


def _light(around: Around, n: int) -> Array:
    encoding = around.format.encoding
    return around.kept(("light", n), lambda: small_light(luma(around.whole(n)), encoding))


def propose(case: Case) -> Proposal | None:
    """Undo all of what lies outside its tolerance."""
    finding = case.outside("flicker")
    if finding is None:
        return None
    told = f"The light changes by {finding.value:.1f} % from frame to frame ({finding.detail})"
    return Proposal({}, f"{told}: slow changes are left as meant.")


TREATMENT = Treatment(
    kind="flicker", title="Flicker", treats=("flicker",), order=4, parameters=Flicker, need=need, apply=apply,
    propose=propose, course=course, mends=True,
    early="a frame that repeats another, or holds two fields, has no level of its own",
)  # fmt: skip
