"""Interlace: frames woven of two moments, brought to the first of them. The lines of that moment stay as they are,
to the last bit; the others are made by FFmpeg's bwdif from them and from the frames beside."""

from __future__ import annotations

from fractions import Fraction
from typing import Literal, cast

import av
import numpy as np
from av.filter import Graph

from ..frames import Array, Frame, as_uint16, luma
from ..measure.fields import Lines, first_lines
from ..parameters import Parameters, choice
from .base import Around, Need, Picture, Treatment, Window
from .case import Case, Proposal

LOOKS = 8
"""Frames all over the shot by which the order of the lines is told."""

LAYOUT = "gbrp16le"
LEAST_SIDE = 4
"""Pixels a side below which the filter takes no picture."""


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
    """What most looks tell; top lines where none does."""

    def found() -> Lines:
        looks = sorted({int(n) for n in np.linspace(1, around.frames - 2, LOOKS)}) if around.frames > 2 else []
        told = [first_lines(*(luma(around.whole(n + k)) for k in (-1, 0, 1))) for n in looks]
        return "bottom" if told.count("bottom") > told.count("top") else "top"

    return around.kept("first lines", found) if p.first == "measured" else p.first


def _made(n: int, first: Lines, around: Around) -> Frame:
    here = around.whole(n)
    beside = [min(max(n + k, 0), around.frames - 1) for k in (-1, 0, 1)]
    made = here.copy()
    other = slice(1 if first == "top" else 0, None, 2)
    made[other] = _filtered([around.whole(k) for k in beside], first)[other]
    return made


def _filtered(frames: list[Frame], first: Lines) -> Array:
    """The middle one of three frames through the filter, in 16 bits."""
    height, width = frames[0].shape[:2]
    graph = Graph()
    start = graph.add_buffer(width=width, height=height, format=av.VideoFormat(LAYOUT), time_base=Fraction(1, 25))
    work = graph.add("bwdif", f"mode=send_frame:parity={'tff' if first == 'top' else 'bff'}:deint=all")
    end = graph.add("buffersink")
    start.link_to(work)
    work.link_to(end)
    graph.configure()
    for n, frame in enumerate(frames):
        picture = av.VideoFrame.from_ndarray(as_uint16(frame), format=LAYOUT)
        picture.pts, picture.time_base = n, Fraction(1, 25)
        graph.push(picture)
    graph.push(None)
    middle = [cast(av.VideoFrame, graph.pull()) for _ in range(2)][1]
    return middle.to_ndarray().astype(np.float32) / np.float32(65535)


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
