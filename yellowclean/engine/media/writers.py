"""Writing results: video files and numbered sequences, under a temporary name until complete."""

from __future__ import annotations

import contextlib
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import Any, Self, cast

import av
import av.error
import numpy as np
import OpenImageIO as oiio
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.container import OutputContainer
from av.video.frame import VideoFrame
from av.video.stream import VideoStream

from ..errors import BadInput
from ..frames import Frame, as_uint16
from .info import MediaInfo
from .planes import Coding, gbr_from_rgb, yuv_from_rgb
from .sequence import numbered_name
from .tags import KR_KB, MATRICES, PRIMARIES, TRANSFERS, code_of
from .timecode import shifted


@dataclass(frozen=True, slots=True)
class OutputFormat:
    """One way to write: name, ending, title, and for video the codec, pixel format, depth and chroma."""

    name: str
    ending: str
    title: str
    codec: str = ""
    pixel_format: str = ""
    bits: int = 16
    chroma: str = "rgb"
    full_range: bool = False
    options: dict[str, str] = field(default_factory=dict)

    @property
    def is_sequence(self) -> bool:
        return not self.codec


_FORMATS = (
    OutputFormat(
        "ffv1", ".mkv", "FFV1 in Matroska, 16-bit RGB, lossless", "ffv1", "gbrp16le", full_range=True,
        options={"level": "3", "slicecrc": "1", "slices": "4", "g": "1"},
    ),
    OutputFormat(
        "prores-hq", ".mov", "ProRes 422 HQ in QuickTime, 10-bit", "prores_ks", "yuv422p10le", 10, "4:2:2",
        options={"profile": "hq", "vendor": "apl0"},
    ),
    OutputFormat(
        "prores-4444", ".mov", "ProRes 4444 in QuickTime, 10-bit 4:4:4", "prores_ks", "yuv444p10le", 10,
        "4:4:4", options={"profile": "4444", "vendor": "apl0"},
    ),
    OutputFormat(
        "h264", ".mp4", "H.264 in MP4, 10-bit 4:2:0", "libx264", "yuv420p10le", 10, "4:2:0",
        options={"crf": "14", "preset": "medium"},
    ),
    OutputFormat("png", ".png", "PNG sequence, 16-bit"),
    OutputFormat("tiff", ".tif", "TIFF sequence, 16-bit"),
    OutputFormat("exr", ".exr", "OpenEXR sequence, half float"),
)  # fmt: skip
OUTPUT_FORMATS = {fmt.name: fmt for fmt in _FORMATS}

_ENDINGS = {
    ".mkv": "ffv1", ".mov": "prores-hq", ".mp4": "h264", ".m4v": "h264",
    ".png": "png", ".tif": "tiff", ".tiff": "tiff", ".exr": "exr",
}  # fmt: skip

_COPIED_INTO_MP4 = {"aac", "ac3", "eac3", "mp3", "opus", "flac"}
"""MP4 can hold more, PCM among it, but players do not read it there (common practice, no source)."""

AAC_FRAME = 1024
"""Samples that an AAC encoder takes at once."""


@dataclass(frozen=True, slots=True)
class Destination:
    """Where a result goes and how it is written."""

    path: Path
    format: OutputFormat

    @property
    def partial(self) -> Path:
        """The temporary file (video) or folder (sequence) beside the asked name."""
        stem = f".{self.path.name}.partial"
        return self.path.with_name(stem if self.format.is_sequence else stem + self.path.suffix)

    def member(self, number: int) -> Path:
        """The unfinished file of one frame of a sequence."""
        return self.partial / numbered_name(self.path, number).name

    def discard(self) -> None:
        """Remove whatever was begun."""
        if self.partial.is_dir():
            shutil.rmtree(self.partial, ignore_errors=True)
        else:
            self.partial.unlink(missing_ok=True)

    def publish(self) -> None:
        """Give the finished result its asked name."""
        if not self.format.is_sequence:
            self.partial.replace(self.path)
            return
        for file in sorted(self.partial.iterdir()):
            file.replace(self.path.parent / file.name)
        self.partial.rmdir()


def destination(path: str | Path, format_name: str | None = None) -> Destination:
    """Choose the format from the ending, or check the asked one against it."""
    path = Path(path)
    chosen = format_name or _ENDINGS.get(path.suffix.lower())
    if chosen not in OUTPUT_FORMATS:
        names = ", ".join(f"{f.ending} ({name})" for name, f in OUTPUT_FORMATS.items())
        raise BadInput(f"{path}: no format for that name; use one of {names}.")
    fmt = OUTPUT_FORMATS[chosen]
    if _ENDINGS.get(path.suffix.lower()) not in {
        name for name, other in OUTPUT_FORMATS.items() if other.ending == fmt.ending
    }:
        raise BadInput(f"{path}: {chosen} needs a name that ends in {fmt.ending}.")
    if not path.absolute().parent.is_dir():
        raise BadInput(f"{path}: its folder does not exist; create it first.")
    if fmt.is_sequence:
        numbered_name(path, 0)
    return Destination(path.absolute(), fmt)


_TAGS = {"movflags": "use_metadata_tags"}
"""QuickTime and MP4 keep tags that are not of their own list, such as the gain, only when told to."""


class VideoWriter:
    """Encodes frames in order. Leaving the `with` block normally publishes, else discards."""

    def __init__(self, target: Destination, info: MediaInfo, *, first: int, audio_from: Path | None) -> None:
        self._target, self._format = target, target.format
        if self._format.chroma == "4:2:0" and (info.width % 2 or info.height % 2):
            raise BadInput(
                f"{target.path}: {self._format.name} needs an even width and height, the shot is"
                f" {info.width}×{info.height}; write ffv1 or prores-hq instead."
            )
        self._rate = info.fps
        self._count = 0
        self._coding = Coding(
            "rgb" if self._format.chroma == "rgb" else _matrix_to_write(info),
            self._format.bits,
            self._format.full_range,
        )
        self._info = info
        self._container: OutputContainer = av.open(str(target.partial), "w", container_options=_TAGS)
        self._audio_input = av.open(str(audio_from)) if audio_from and info.audio else None
        try:
            self._stream = self._video_stream(first)
            self._audio = self._audio_packets(first) if self._audio_input else iter(())
            self._pending = next(self._audio, None)
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
            self._mux_video(None)
            self._mux_audio_until(None)
            self._container.close()
        except BaseException:
            self._abandon()
            raise
        self._close_audio()
        self._target.publish()

    def write(self, frame: Frame) -> None:
        """Encode the next frame."""
        if self._format.chroma == "rgb":
            planes = gbr_from_rgb(frame, self._coding)
        else:
            planes = yuv_from_rgb(frame, self._coding, self._format.chroma)
        picture = VideoFrame(frame.shape[1], frame.shape[0], self._format.pixel_format)
        for plane, values in zip(picture.planes, planes, strict=True):
            lines = np.zeros((plane.height, plane.line_size // values.dtype.itemsize), values.dtype)
            lines[:, : values.shape[1]] = values
            plane.update(lines.tobytes())
        picture.pts, picture.time_base = self._count, 1 / self._rate
        _tag(picture, self._info, self._coding)
        self._mux_audio_until(self._count / self._rate)
        self._count += 1
        self._mux_video(picture)

    def _video_stream(self, first: int) -> VideoStream:
        stream = self._container.add_stream(self._format.codec, rate=self._rate, options=self._format.options)
        assert isinstance(stream, VideoStream)
        stream.width, stream.height = self._info.width, self._info.height
        stream.pix_fmt = self._format.pixel_format
        stream.codec_context.time_base = 1 / self._rate
        stream.codec_context.thread_type = "AUTO"
        _tag(stream.codec_context, self._info, self._coding)
        if self._info.timecode:
            timecode = shifted(self._info.timecode, first, self._rate)
            stream.metadata["timecode"] = timecode
            self._container.metadata["timecode"] = timecode
        for key, value in (("model", self._info.camera), ("iso", self._info.gain)):
            if value:
                self._container.metadata[key] = value
        return stream

    def _mux_video(self, picture: VideoFrame | None) -> None:
        self._container.mux(self._stream.encode(picture))

    def _mux_audio_until(self, time: Fraction | None) -> None:
        while self._pending is not None and (time is None or self._pending[0] <= time):
            for packet in self._pending[1]:
                self._container.mux(packet)
            self._pending = next(self._audio, None)

    def _audio_packets(self, first: int) -> Iterator[tuple[Fraction, list[Any]]]:
        """(time, packets) of every audio track, copied where the container takes the codec."""
        assert self._audio_input is not None
        begin, base = first / self._rate, _start_of_video(self._audio_input)
        routes = {track.index: self._audio_route(track) for track in self._audio_input.streams.audio}
        return self._routed(routes, base + begin)

    def _audio_route(self, track: AudioStream) -> tuple[AudioStream, av.AudioResampler | None]:
        """The stream a track goes to, with a resampler when it has to be encoded anew."""
        mp4 = self._container.format.name == "mp4"
        copied = _COPIED_INTO_MP4 if mp4 else self._container.supported_codecs
        if track.codec_context.name in copied:
            return self._container.add_stream_from_template(track), None
        codec = "aac" if mp4 else "pcm_s16le"
        encoded = self._container.add_stream(codec, rate=track.codec_context.sample_rate)
        assert isinstance(encoded, AudioStream)
        # PCM tracks often name no layout, which encoders insist on.
        layout = {1: "mono", 2: "stereo"}.get(track.channels) or track.codec_context.layout
        encoded.codec_context.layout = layout
        encoded.codec_context.format = "fltp" if mp4 else "s16"
        rate = track.codec_context.sample_rate
        return encoded, av.AudioResampler(encoded.codec_context.format, layout, rate, AAC_FRAME if mp4 else None)

    def _routed(
        self, routes: dict[int, tuple[AudioStream, av.AudioResampler | None]], begin: Fraction
    ) -> Iterator[tuple[Fraction, list[Any]]]:
        assert self._audio_input is not None
        end = self._info.frames / self._rate if self._info.frames else None
        for packet in self._audio_input.demux(list(self._audio_input.streams.audio)):
            if packet.pts is None or packet.time_base is None:
                continue
            time = packet.pts * packet.time_base - begin
            if time < 0 or (end is not None and time >= end):
                continue
            stream, resampler = routes[packet.stream.index]
            if resampler is None:
                offset = round(begin / packet.time_base)
                packet.pts -= offset
                packet.dts = packet.pts if packet.dts is None else packet.dts - offset
                packet.stream = stream
                yield time, [packet]
            else:
                made: list[Any] = []
                for piece in packet.decode():
                    for sound in resampler.resample(cast(AudioFrame, piece)):
                        sound.pts = None
                        made += stream.encode(sound)
                yield time, made
        for stream, resampler in routes.values():
            if resampler is not None:
                rest = [p for sound in resampler.resample(None) for p in stream.encode(sound)]
                yield end or Fraction(0), rest + list(stream.encode(None))

    def _close_audio(self) -> None:
        if self._audio_input is not None:
            self._audio_input.close()

    def _abandon(self) -> None:
        self._close_audio()
        with contextlib.suppress(av.error.FFmpegError, ValueError):
            self._container.close()
        self._target.discard()


class SequenceWriter:
    """One file a frame, in a folder that is emptied into the asked place when all are there."""

    def __init__(self, target: Destination, info: MediaInfo, *, first: int) -> None:
        self._target, self._info, self._number = target, info, first
        target.partial.mkdir(exist_ok=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if error is not None:
            self._target.discard()
        else:
            self._target.publish()

    def write(self, frame: Frame) -> None:
        write_member(self._target, self._info, self._number, frame)
        self._number += 1


def write_member(target: Destination, info: MediaInfo, number: int, frame: Frame) -> None:
    """Write frame `number` of a sequence into the unfinished folder, complete or not at all."""
    file = target.member(number)
    height, width = frame.shape[:2]
    half = target.format.name == "exr"
    spec = oiio.ImageSpec(width, height, 3, "half" if half else "uint16")
    rate = info.fps
    spec.attribute("FramesPerSecond", oiio.TypeRational, (rate.numerator, rate.denominator))
    spec.attribute("compression", "zips" if half else "none")
    if target.format.name == "png":
        spec.attribute("png:compressionLevel", 2)
    values = np.nan_to_num(frame).astype(np.float32) if half else as_uint16(frame)
    begun = file.with_name(f".{file.name}{file.suffix}")
    output = oiio.ImageOutput.create(str(begun))
    done = output is not None and output.open(str(begun), spec) and output.write_image(values)
    if output is not None:
        done = output.close() and done
    if not done:
        raise BadInput(f"{file}: could not be written; check the free space and the rights of its folder.")
    begun.replace(file)


Writer = VideoWriter | SequenceWriter


def open_writer(target: Destination, info: MediaInfo, *, first: int = 0, audio_from: Path | None = None) -> Writer:
    """A writer for use in a `with` block.

    `info` describes the source: rate, colour tags, start timecode, tracks, and in `frames` how many
    frames will be written. `first` is the number of the first frame within the source.
    """
    if target.format.is_sequence:
        return SequenceWriter(target, info, first=first)
    return VideoWriter(target, info, first=first, audio_from=audio_from)


def _matrix_to_write(info: MediaInfo) -> str:
    return info.matrix if info.matrix in KR_KB else "bt709"


def _tag(thing: Any, info: MediaInfo, coding: Coding) -> None:
    """Colour tags, which must stand on the codec context and on every frame."""
    thing.color_range = 2 if coding.full_range else 1
    thing.colorspace = code_of(MATRICES, coding.matrix)
    thing.color_primaries = code_of(PRIMARIES, info.primaries)
    thing.color_trc = code_of(TRANSFERS, info.transfer)


def _start_of_video(container: Any) -> Fraction:
    stream = container.streams.video[0] if container.streams.video else None
    if stream is None or stream.start_time is None:
        return Fraction(0)
    return Fraction(stream.start_time * stream.time_base)
