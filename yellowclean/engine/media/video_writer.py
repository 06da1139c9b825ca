"""Video files on their way out: frames become planes, planes go into the encoder."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import av
import av.error
import numpy as np
from av.container import OutputContainer
from av.packet import Packet
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from ..disk import is_full
from ..errors import BadInput
from ..frames import Frame
from ..primaries import XY
from .boxes import write_light_boxes
from .describe import SITING_TAG
from .dither import Dither
from .formats import Destination, OutputFormat
from .grain_coder import GrainCoder
from .info import MediaInfo, as_stored, checked_picture
from .light import LightLevel
from .light_in_stream import LIGHT_SETTINGS, given_to_encoder, put_in_stream
from .matroska import ROOM, write_facts
from .planes import (
    SITINGS,
    Coding,
    Plane,
    gbr_from_rgb,
    rgb_from_gbr,
    rgb_from_yuv,
    yuv_from_rgb,
)
from .sound import Sound
from .tags import KR_KB, MATRICES, PRIMARIES, TRANSFERS, code_of
from .timecode import shifted

os.environ.setdefault("SVT_LOG", "1")
"""The AV1 encoder tells errors alone, not how it was set."""

_TAGS = {"movflags": "use_metadata_tags"}
"""QuickTime and MP4 keep tags that are not of their own list, such as the gain, only when told to."""


def coding_for(fmt: OutputFormat, info: MediaInfo) -> Coding:
    """How a format codes the frames of a source."""
    matrix = "rgb" if fmt.chroma == "rgb" else fmt.matrix or _matrix_to_write(info)
    return Coding(matrix, fmt.bits, fmt.full_range)


def coded(frame: Frame, fmt: OutputFormat, info: MediaInfo, dither: Dither | None = None) -> tuple[Plane, ...]:
    """The samples that a format keeps of an upright frame, dithered where that is asked for: what an encoder is
    given, and what a segment of a render holds, so that both ways of rendering give one file."""
    stored = as_stored(checked_picture(frame, info), info.rotation)
    coding = coding_for(fmt, info)
    dither = dither.turned(-info.rotation // 90) if dither else None
    if fmt.chroma == "rgb":
        return gbr_from_rgb(stored, coding, dither)
    came_from = "4:4:4" if info.resampled else info.chroma
    return yuv_from_rgb(stored, coding, fmt.chroma, siting=info.siting, came_from=came_from, dither=dither)


TREE_LEAST = 64
"""Pixels of width below which x265 must not look ahead by its coding trees: it writes beyond its memory there."""


UNTIMED = 2
"""Pictures up to which x265 tells no time of decoding, but what lies in memory."""


class VideoWriter:
    """Encodes frames in order. Leaving the `with` block normally publishes, else discards."""

    def __init__(
        self, target: Destination, info: MediaInfo, *, first: int, audio_from: Path | None, grain: str = ""
    ) -> None:
        self._target, self._info, self._first, self._audio_from = target, info, first, audio_from
        self._format = target.format.for_source(info)
        if self._format.chroma == "4:2:0" and self._format.codec != "ffv1" and (info.width % 2 or info.height % 2):
            raise BadInput(
                f"{target.path}: {self._format.name} needs an even width and height, the picture is"
                f" {info.width}×{info.height}; write ffv1 or prores-hq instead."
            )
        self._rate = info.fps
        self._count = 0
        self._coding = coding_for(self._format, info)
        in_pq = info.transfer == "smpte2084" and info.primaries in XY and target.format.name != "segment"
        self._light = LightLevel() if in_pq else None
        self._container: OutputContainer = av.open(str(target.partial), "w", container_options=_TAGS)
        self._sound: Sound | None = None
        self._coder: GrainCoder | None = None
        try:
            if self._format.grain:
                self._coder = self._grain_coder(grain)
            else:
                self._stream = self._described(self._encoding_stream())
                self._take_sound()
        except BaseException:
            self._abandon()
            raise

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is not None:
            self._abandon()
            return
        try:
            if self._coder:
                self._copy(self._coder.finish())
                self._coder.close()
            else:
                self._container.mux(self._timed(self._stream.encode(None)))
            if self._sound:
                self._sound.mux_until(None)
            self._container.close()
            self._tell_the_rest()
        except BaseException:
            self._abandon()
            raise
        self._close_sound()
        self._target.publish()

    def write(self, frame: Frame, dither: Dither | None = None) -> None:
        """Encode the next frame, H×W×3."""
        self.put(coded(frame, self._format, self._info, dither))

    def put(self, planes: Sequence[Plane]) -> None:
        """Encode the next frame as its samples, which are those of `coded`."""
        if self._light:
            self._light.add(self._decoded(planes))
        self._count += 1
        if self._coder:
            self._coder.put(planes)
            return
        width, height = self._info.stored_size
        picture = VideoFrame(width, height, self._format.pixel_format)
        for plane, values in zip(picture.planes, planes, strict=True):
            lines = np.zeros((plane.height, plane.line_size // values.dtype.itemsize), values.dtype)
            lines[:, : values.shape[1]] = values
            plane.update(lines.tobytes())
        picture.pts, picture.time_base = self._count - 1, 1 / self._rate
        _tag(picture, self._info, self._coding)
        if self._sound:
            self._sound.mux_until((self._count - 1) / self._rate)
        try:
            self._container.mux(self._stream.encode(picture))
        except av.error.FFmpegError as error:
            if is_full(error):
                raise
            raise BadInput(
                f"{self._target.path}: {self._format.title} does not take a picture of {width}×{height}"
                f" ({error.strerror}); write another format."
            ) from error

    def _decoded(self, planes: Sequence[Plane]) -> Frame:
        first, second, third = planes
        if self._format.chroma == "rgb":
            return rgb_from_gbr(first, second, third, self._coding)
        return rgb_from_yuv(first, second, third, self._coding, self._info.siting)

    def _tell_the_rest(self) -> None:
        """What the library does not write: the light of PQ, and in Matroska the pixel aspect."""
        partial, light = self._target.partial, self._light
        told = (self._info.primaries, light) if light and self._count else None
        if self._by_hand:
            write_facts(partial, self._info.stored_size, aspect=self._info.stored_aspect, light=told)
        elif told:
            write_light_boxes(partial, *told)
            if self._format.codec in LIGHT_SETTINGS:
                put_in_stream(partial, *told)

    @property
    def _by_hand(self) -> bool:
        """Matroska takes the pixel aspect from a place that only codecs with one of their own reach."""
        return self._target.path.suffix == ".mkv" and (self._info.stored_aspect != 1 or self._light is not None)

    @property
    def _siting(self) -> int:
        """By FFmpeg's number, which is one more than that of H.273."""
        return list(SITINGS).index(self._info.siting) + 1

    def _take_sound(self) -> None:
        if self._audio_from and self._info.audio:
            length = self._info.frames / self._rate if self._info.frames else None
            begin = (self._info.skipped + self._first) / self._rate
            self._sound = Sound(self._audio_from, self._container, begin, length)

    def _grain_coder(self, table: str) -> GrainCoder:
        return GrainCoder(
            self._target.partial.with_suffix(".picture.mp4"), self._info.stored_size, self._rate, table,
            pixel_format=self._format.pixel_format, full_range=self._coding.full_range, siting=self._siting,
            primaries=code_of(PRIMARIES, self._info.primaries),
            transfer=code_of(TRANSFERS, self._info.transfer), matrix=code_of(MATRICES, self._coding.matrix),
        )  # fmt: skip

    def _copy(self, coded_picture: Path) -> None:
        """Take over a picture that was coded elsewhere, and what is heard with it."""
        with av.open(str(coded_picture)) as made:
            picture = made.streams.video[0]
            stream = self._described(self._container.add_stream_from_template(picture, opaque=True))
            self._take_sound()
            for packet in made.demux(picture):
                if packet.dts is None:
                    continue
                if self._sound:
                    self._sound.mux_until(Fraction(packet.dts) * packet.time_base)
                packet.stream = stream
                self._container.mux(packet)

    def _timed(self, packets: list[Packet[VideoStream]]) -> list[Packet[VideoStream]]:
        """The last packets; so few pictures are decoded in their order."""
        if self._format.codec == "libx265" and self._count <= UNTIMED:
            for packet in packets:
                packet.dts = packet.pts
        return packets

    def _encoding_stream(self) -> VideoStream:
        options = dict(self._format.options)
        if self._format.chroma == "4:2:0":
            options["chroma_sample_location"] = str(self._siting)
        if self._light and self._format.codec in LIGHT_SETTINGS:
            setting, names = LIGHT_SETTINGS[self._format.codec]
            told = given_to_encoder(self._info.primaries, *names)
            options[setting] = ":".join(filter(None, (options.get(setting), told)))
        if self._format.codec == "libx265" and self._info.stored_size[0] < TREE_LEAST:
            options["x265-params"] = ":".join(filter(None, (options.get("x265-params"), "cutree=0")))
        stream = self._container.add_stream(self._format.codec, rate=self._rate, options=options)
        assert isinstance(stream, VideoStream)
        stream.width, stream.height = self._info.stored_size
        stream.pix_fmt = self._format.pixel_format
        stream.codec_context.time_base = 1 / self._rate
        stream.codec_context.thread_type = "AUTO"
        _tag(stream.codec_context, self._info, self._coding)
        return stream

    def _described(self, stream: VideoStream) -> VideoStream:
        """What the container tells of the picture."""
        if self._info.stored_aspect != 1:
            stream.codec_context.sample_aspect_ratio = self._info.stored_aspect
        if self._info.rotation:
            stream.set_display_rotation(self._info.rotation)
        if self._by_hand:
            stream.metadata["title"] = " " * ROOM
        if self._info.timecode:
            timecode = shifted(self._info.timecode, self._first, self._rate)
            stream.metadata["timecode"] = timecode
            self._container.metadata["timecode"] = timecode
        siting = self._info.siting if self._info.siting != "left" else ""
        for key, value in (("model", self._info.camera), ("iso", self._info.gain), (SITING_TAG, siting)):
            if value:
                self._container.metadata[key] = value
        return stream

    def _close_sound(self) -> None:
        if self._sound is not None:
            self._sound.close()

    def _abandon(self) -> None:
        self._close_sound()
        if self._coder is not None:
            self._coder.close()
        with contextlib.suppress(av.error.FFmpegError, ValueError):
            self._container.close()
        self._target.discard()


def _matrix_to_write(info: MediaInfo) -> str:
    return info.matrix if info.matrix in KR_KB else "bt709"


def _tag(thing: Any, info: MediaInfo, coding: Coding) -> None:
    """Colour tags, which must stand on the codec context and on every frame."""
    thing.color_range = 2 if coding.full_range else 1
    thing.colorspace = code_of(MATRICES, coding.matrix)
    thing.color_primaries = code_of(PRIMARIES, info.primaries)
    thing.color_trc = code_of(TRANSFERS, info.transfer)
