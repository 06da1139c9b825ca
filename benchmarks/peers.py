"""General-purpose denoisers, each with one strength to be chosen against the truth."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import Any, cast

import av
import cv2
import numpy as np
from av.filter import Graph
from skimage import restoration

from yellowclean.engine.frames import Frame, as_uint8
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb

OVER_TIME = 5
"""Frames each side for those that look at neighbours, as far as they take so many."""


@dataclass(frozen=True, slots=True)
class Peer:
    """`run(frames, k, strength)` cleans frame k of those given; `around` says how many it looks at on each side."""

    name: str
    strengths: tuple[float, ...]
    run: Callable[[Sequence[Frame], int, float], Frame]
    around: int = 0


def opencv_single(frames: Sequence[Frame], k: int, strength: float) -> Frame:
    return _float(cv2.fastNlMeansDenoisingColored(as_uint8(frames[k]), None, strength, strength, 7, 21))


def opencv_multi(frames: Sequence[Frame], k: int, strength: float) -> Frame:
    eight = [as_uint8(frame) for frame in frames]
    return _float(cv2.fastNlMeansDenoisingColoredMulti(eight, k, 2 * k + 1, None, strength, strength, 7, 21))


def skimage_wavelet(frames: Sequence[Frame], k: int, strength: float) -> Frame:
    cleaned = restoration.denoise_wavelet(
        frames[k], sigma=strength / 255, convert2ycbcr=True, channel_axis=-1, rescale_sigma=True
    )
    return np.asarray(cleaned, np.float32)


def skimage_nlm(frames: Sequence[Frame], k: int, strength: float) -> Frame:
    cleaned = restoration.denoise_nl_means(
        frames[k], h=0.8 * strength / 255, sigma=strength / 255, patch_size=5, patch_distance=6, channel_axis=-1
    )
    return np.asarray(cleaned, np.float32)


def ffmpeg(pixel_format: str, arguments: str) -> Callable[[Sequence[Frame], int, float], Frame]:
    """A filter of FFmpeg's libraries; `arguments` is its call, with {} for the strength."""

    def run(frames: Sequence[Frame], k: int, strength: float) -> Frame:
        name, _, options = arguments.format(strength).partition("=")
        return _filtered(frames, name, options, pixel_format)[k]

    return run


def ffmpeg_all(pixel_format: str, call: str) -> Callable[[Sequence[Frame]], list[Frame]]:
    """A filter of FFmpeg's libraries over all frames, given by its call."""
    name, _, options = call.partition("=")

    def run(frames: Sequence[Frame]) -> list[Frame]:
        made = _filtered(frames, name, options, pixel_format)
        ends = (len(frames) - len(made)) // 2  # some filters give no frame where neighbours are missing
        return [*frames[:ends], *made, *frames[ends + len(made) :]]

    return run


def _filtered(frames: Sequence[Frame], name: str, options: str, pixel_format: str) -> list[Frame]:
    deep = pixel_format.endswith("16le")
    axis = 2 if deep else 0  # the library's layout of deep and of 8-bit planar pictures
    coding = Coding("bt709", 16 if deep else 8, full_range=False)
    height, width = frames[0].shape[:2]
    graph = Graph()
    start = graph.add_buffer(
        width=width, height=height, format=av.VideoFormat(pixel_format), time_base=Fraction(1, 24)
    )
    work, end = graph.add(name, options), graph.add("buffersink")
    start.link_to(work)
    work.link_to(end)
    graph.configure()
    for n, frame in enumerate(frames):
        planes: Any = np.stack(yuv_from_rgb(frame, coding, "4:4:4"), axis=axis)
        picture = av.VideoFrame.from_ndarray(planes, format=pixel_format)
        picture.pts, picture.time_base = n, Fraction(1, 24)
        graph.push(picture)
    graph.push(None)
    made = []
    with contextlib.suppress(av.error.EOFError):
        for _ in frames:
            made.append(cast(av.VideoFrame, graph.pull()).to_ndarray())
    return [_as_rgb(np.moveaxis(planes, axis, 0), coding) for planes in made]


def _as_rgb(planes: Any, coding: Coding) -> Frame:
    y, cb, cr = (np.ascontiguousarray(plane) for plane in planes)
    return rgb_from_yuv(y, cb, cr, coding)


def _float(eight: Any) -> Frame:
    frame: Frame = np.asarray(eight, np.float32) / np.float32(255)
    return frame


FFT = "fftdnoiz=sigma={}:prev=1:next=1"

PEERS = (
    Peer("OpenCV NLM", (2, 3, 4, 6, 9), opencv_single),
    Peer("OpenCV NLM multi", (2, 3, 4, 6, 9), opencv_multi, around=2),
    Peer("FFmpeg nlmeans", (1.5, 2, 3, 4.5, 6.5), ffmpeg("yuv444p", "nlmeans=s={}:p=7:r=15")),
    Peer("FFmpeg fftdnoiz", (3, 5, 8, 12, 18, 27), ffmpeg("yuv444p16le", FFT), around=1),
    Peer(
        "FFmpeg atadenoise", (0.01, 0.02, 0.04, 0.08, 0.15),
        ffmpeg("yuv444p16le", "atadenoise=s=11:0a={0}:1a={0}:2a={0}:0b=0.5:1b=0.5:2b=0.5"), around=OVER_TIME,
    ),
    Peer("FFmpeg bm3d", (5, 10, 20, 35, 60), ffmpeg("yuv444p", "bm3d=sigma={}:block=8:bstep=4:range=9:group=16")),
    Peer("skimage wavelet", (3, 5, 8, 12, 18, 27), skimage_wavelet),
    Peer("skimage NLM", (2, 3, 5, 8, 12), skimage_nlm),
)  # fmt: skip
