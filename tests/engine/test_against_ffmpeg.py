"""Findings beside FFmpeg's own measures of the same thing: they must agree in rank over planted faults.

`blockdetect` and `blurdetect` give figures without unit (the latter is Marziliano et al. 2002); ours are in
code values and pixels. Only their order can be compared.
"""

from __future__ import annotations

from fractions import Fraction
from unittest import TestCase

import av
import av.filter

from tests.engine import planted
from tests.engine.test_findings import Blocking
from yellowclean.engine.frames import CV_SCALE, Frame, as_uint8, luma
from yellowclean.engine.measure.findings.blocking import grid_of


def ffmpeg(name: str, frames: list[Frame], key: str, **options: str) -> list[float]:
    """What a filter of FFmpeg's writes into the frames' metadata, frame by frame."""
    height, width = frames[0].shape[:2]
    graph = av.filter.Graph()
    source = graph.add_buffer(width=width, height=height, format=av.VideoFormat("gray"), time_base=Fraction(1, 24))
    measure = graph.add(name, **options)
    sink = graph.add("buffersink")
    source.link_to(measure)
    measure.link_to(sink)
    graph.configure()
    told = []
    for n, frame in enumerate(frames):
        picture = av.VideoFrame.from_ndarray(as_uint8(luma(frame)), format="gray")
        picture.pts = n
        graph.push(picture)
        told.append(float(dict(graph.pull().metadata)[key]))
    return told


class AgainstFFmpeg(TestCase):
    def test_blocking_ranks_as_blockdetect_does(self) -> None:
        clips = [Blocking.blocky(strength)[:1] for strength in (0, 2, 4, 8, 16, 32)]
        ours = [min(grid_of(luma(clip[0])).strength) * CV_SCALE for clip in clips]
        theirs = [ffmpeg("blockdetect", clip, "lavfi.block")[0] for clip in clips]
        self.assertEqual(ours, sorted(ours))
        self.assertEqual(theirs[1:], sorted(theirs[1:]), theirs)

    def test_softness_ranks_as_blurdetect_does(self) -> None:
        blurs = (0.6, 1.0, 1.5, 2.0, 3.0)
        clips = [planted.grained([planted.chart(blur)], 0.2) for blur in blurs]
        ours = [planted.found("softness", clip * 2).value for clip in clips]
        theirs = [ffmpeg("blurdetect", clip, "lavfi.blur")[0] for clip in clips]
        self.assertEqual(ours, sorted(ours))
        self.assertEqual(theirs, sorted(theirs))
