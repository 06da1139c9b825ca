"""Repeated frames: each made anew from the last frame before it and the next one after, along the motion between.

Motion is followed both ways from the moment in between; the coarse of both frames is averaged, the fine is that of
one, so that its grain stays as strong as in the frames around. What only one of them shows comes from that one."""

from __future__ import annotations

import cv2
import numpy as np

from ..frames import Array, Frame, luma
from ..measure.repeating import SAME, change_between, repeated
from ..motion import flow, prepared
from ..parameters import Parameters, quantity
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

AROUND = 8
"""Frames to each side that tell how much frames usually change."""

LONGEST = 3
"""Repeats in a row that are made anew; the picture stands in longer ones."""

FINE = 2.0
"""Blur in pixels that grain does not outlive."""

ROUNDS = 3
"""Times that the motion through a pixel of the moment between is looked up."""

HOME = 1.0
"""Pixels from its start at which what goes there and back may end, before it counts as hidden."""


class Repeats(Parameters):
    """Frames that are the one before once more."""

    same: float = quantity(
        100 * SAME, "Same up to",
        "A frame that changes by less is a repeat; as a share of what frames around usually change by.",
        unit="%", least=0, most=50, step=1,
    )  # fmt: skip


def need(p: Repeats) -> Need:
    return Need()


def apply(p: Repeats, window: Window, around: Around) -> Picture:
    """The moment between, where the frame is a repeat."""
    here = window.here.part(window.inside)
    ends = _ends(p, window.n, around)
    if ends is None or min(around.format.width, around.format.height) < 16:
        return here
    whole = around.kept(
        ("between", window.n, p.same), lambda: _between(window.n, *ends, around), lambda f: f.nbytes
    )
    return Picture(whole[window.wanted.slices].copy(), here.noise)


def _ends(p: Repeats, n: int, around: Around) -> tuple[int, int] | None:
    """The frame that n repeats, and the next that is another; None where n is no repeat, or there is no next."""

    def change(m: int) -> float:
        return around.kept(
            ("change", m), lambda: change_between(luma(around.whole(m)), luma(around.whole(m - 1)))
        )  # fmt: skip

    def is_repeat(m: int) -> bool:
        near = range(max(m - AROUND, 1), min(m + AROUND + 1, around.frames))
        return repeated(change(m), float(np.median([change(k) for k in near])), p.same / 100)

    if n == 0 or not is_repeat(n):
        return None
    first = next((m for m in range(n - 1, max(n - 1 - LONGEST, -1), -1) if m == 0 or not is_repeat(m)), None)
    after = range(n + 1, min(n + 1 + LONGEST, around.frames))
    last = next((m for m in after if not is_repeat(m)), None)
    if first is None or last is None or last - first > LONGEST + 1:
        return None
    return first, last


def _between(n: int, first: int, last: int, around: Around) -> Frame:
    """Frame n between two others."""
    share = np.float32((n - first) / (last - first))
    before, after = around.whole(first), around.whole(last)
    there, back = (
        _full(flow(prepared(a), prepared(b), a.shape[1]).vectors, a) for a, b in ((before, after), (after, before))
    )
    seen_before, doubt_before = _through(before, there, back, share)
    seen_after, doubt_after = _through(after, back, there, 1 - share)
    trust = np.float32(1e-3) + np.stack([np.exp(-((d / HOME) ** 2)) for d in (doubt_before, doubt_after)])
    trust *= np.array([1 - share, share], np.float32)[:, None, None]
    both = (seen_before * trust[0, ..., None] + seen_after * trust[1, ..., None]) / trust.sum(axis=0)[..., None]
    one = np.where((trust[0] > trust[1])[..., None], seen_before, seen_after)
    made: Frame = one + cv2.GaussianBlur(both - one, (0, 0), FINE)
    return made.astype(np.float32)


def _full(vectors: Array, frame: Frame) -> Array:
    size = frame.shape[1], frame.shape[0]
    whole: Array = vectors if vectors.shape[:2] == frame.shape[:2] else cv2.resize(vectors, size)
    return whole


def _through(frame: Frame, there: Array, back: Array, share: np.float32) -> tuple[Frame, Array]:
    """A frame as it is a share of the motion later, and how far from home what passes each pixel ends."""
    y, x = np.indices(frame.shape[:2], np.float32)
    passing = there
    for _ in range(ROUNDS):
        passing = _looked_up(there, x - share * passing[..., 0], y - share * passing[..., 1], cv2.INTER_LINEAR)
    start = x - share * passing[..., 0], y - share * passing[..., 1]
    home = _looked_up(back, start[0] + passing[..., 0], start[1] + passing[..., 1], cv2.INTER_LINEAR) + passing
    return _looked_up(frame, *start, cv2.INTER_CUBIC), np.hypot(home[..., 0], home[..., 1])


def _looked_up(plane: Array, x: Array, y: Array, kernel: int) -> Array:
    found: Array = cv2.remap(plane, x, y, kernel, borderMode=cv2.BORDER_REPLICATE)
    return found


def propose(case: Case) -> Proposal | None:
    """Make repeats anew where there are some."""
    finding = case.outside("repeated frames")
    if finding is None:
        return None
    return Proposal(
        {}, f"{finding.detail[:1].upper()}{finding.detail[1:]}: each is made anew from the frames around it, along"
        " the motion.",
    )  # fmt: skip


TREATMENT = Treatment(
    kind="repeats", title="Repeated frames", treats=("repeated frames",), order=2, parameters=Repeats, need=need,
    apply=apply, propose=propose, mends=True,
)  # fmt: skip
