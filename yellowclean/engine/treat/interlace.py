"""Interlace: frames woven of two moments, brought to the first of them. The lines of that moment stay as they are,
to the last bit; the others are made by FFmpeg's bwdif from them and from the frames beside."""

from __future__ import annotations

from typing import Literal

from ..frames import Frame, luma
from ..measure.fields import order_of
from ..media import Lines
from ..media.moments import LEAST_SIDE, moments
from ..parameters import Parameters, choice
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal


class Interlace(Parameters):
    """Combs where something moves: two moments in one frame."""

    first: Literal["measured", "top", "bottom"] = choice(
        "measured", "First lines", "Which lines were seen first; those stay, and the others are made from them.",
        names={"measured": "As measured", "top": "Top lines", "bottom": "Bottom lines"},
    )  # fmt: skip


def need(p: Interlace) -> Need:
    return Need()


def apply(p: Interlace, window: Window, around: Around) -> Picture:
    """The frame at its first moment."""
    here = window.here.part(window.inside)
    if min(around.format.width, around.format.height) < LEAST_SIDE:
        return here
    first = _first(p, around)
    whole = around.kept(("first moment", window.n, first), lambda: _made(window.n, first, around), _bytes)
    return Picture(whole[window.wanted.slices].copy(), here.noise)


def _bytes(frame: Frame) -> int:
    return frame.nbytes


def _first(p: Interlace, around: Around) -> Lines:
    def found() -> Lines:
        return order_of(around.frames, lambda n: luma(around.whole(n)))

    return around.kept("first lines", found) if p.first == "measured" else p.first


def _made(n: int, first: Lines, around: Around) -> Frame:
    beside = [min(max(n + k, 0), around.frames - 1) for k in (-1, 0, 1)]
    return moments([around.whole(k) for k in beside], first)[0]


def propose(case: Case) -> Proposal | None:
    """Bring every frame to one moment."""
    finding = case.outside("interlace")
    if finding is None:
        return None
    return Proposal(
        {}, f"{finding.value:.0f} % of what moves is combed ({finding.detail}): each frame is brought to its first"
        " moment before anything else compares frames.",
    )  # fmt: skip


TREATMENT = Treatment(
    kind="interlace", title="Interlace", treats=("interlace",), order=1, parameters=Interlace, need=need,
    apply=apply, propose=propose, mends=True,
)  # fmt: skip
