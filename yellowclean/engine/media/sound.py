"""Sound of the source on its way into a written file: copied where the container takes it, else encoded anew."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from fractions import Fraction
from pathlib import Path
from typing import Any, cast

import av
import av.error
from av.audio.frame import AudioFrame
from av.audio.stream import AudioStream
from av.container import OutputContainer

from ..disk import is_full
from ..errors import BadInput
from .boundary import reading, reason_of
from .decoder import opened

_COPIED_INTO_MP4 = {"aac", "ac3", "eac3", "mp3", "opus", "flac"}
"""MP4 can hold more, PCM among it, but players do not read it there (common practice, no source)."""

AAC_FRAME = 1024
"""Samples that an AAC encoder takes at once."""

Route = tuple[AudioStream, av.AudioResampler | None]


class Sound:
    """Every audio track of a file, from `begin` for `length` seconds of its picture (None: to the end)."""

    def __init__(self, path: Path, output: OutputContainer, begin: Fraction, length: Fraction | None) -> None:
        self._path, self._input, self._output = path, opened(path), output
        self._tracks = [track for track in self._input.streams.audio if track.codec_context is not None]
        try:
            with _carrying(path):
                routes = {track.index: self._route(track) for track in self._tracks}
            self._packets = self._routed(routes, _start_of_video(self._input) + begin, length)
            self._pending = next(self._packets, None)
        except BaseException:
            self.close()
            raise

    def mux_until(self, time: Fraction | None) -> None:
        """Write what is heard up to a time; all that is left for None."""
        while self._pending is not None and (time is None or self._pending[0] <= time):
            for packet in self._pending[1]:
                with _carrying(self._path):
                    self._output.mux(packet)
            self._pending = next(self._packets, None)

    def close(self) -> None:
        self._input.close()

    def _route(self, track: AudioStream) -> Route:
        """The stream a track goes to, with a resampler when it has to be encoded anew."""
        mp4 = self._output.format.name == "mp4"
        copied = _COPIED_INTO_MP4 if mp4 else self._output.supported_codecs
        if track.codec_context.name in copied:
            return self._output.add_stream_from_template(track), None
        codec = "aac" if mp4 else "pcm_s16le"
        encoded = self._output.add_stream(codec, rate=track.codec_context.sample_rate)
        assert isinstance(encoded, AudioStream)
        # PCM tracks often name no layout, which encoders insist on.
        layout = {1: "mono", 2: "stereo"}.get(track.channels) or track.codec_context.layout
        encoded.codec_context.layout = layout
        encoded.codec_context.format = "fltp" if mp4 else "s16"
        rate = track.codec_context.sample_rate
        return encoded, av.AudioResampler(encoded.codec_context.format, layout, rate, AAC_FRAME if mp4 else None)

    def _routed(
        self, routes: dict[int, Route], begin: Fraction, length: Fraction | None
    ) -> Iterator[tuple[Fraction, list[Any]]]:
        """(time, packets) in the order of the file."""
        packets = self._input.demux(self._tracks)
        while True:
            with reading(self._path):
                packet = next(packets, None)
            if packet is None:
                break
            if packet.pts is None or packet.time_base is None:
                continue
            time = packet.pts * packet.time_base - begin
            if time < 0 or (length is not None and time >= length):
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
                with reading(self._path):
                    pieces = packet.decode()
                with _carrying(self._path):
                    for piece in pieces:
                        for sound in resampler.resample(cast(AudioFrame, piece)):
                            sound.pts = None
                            made += stream.encode(sound)
                yield time, made
        for stream, resampler in routes.values():
            if resampler is not None:
                with _carrying(self._path):
                    rest = [p for sound in resampler.resample(None) for p in stream.encode(sound)]
                    rest += stream.encode(None)
                yield length or Fraction(0), rest


@contextmanager
def _carrying(path: Path) -> Iterator[None]:
    """Turn what encoders and containers refuse of a file's sound into one line about it."""
    try:
        yield
    except (av.error.FFmpegError, ValueError) as error:
        if is_full(error) or isinstance(error, BadInput):
            raise
        raise BadInput(
            f"{path}: its sound cannot be carried over ({reason_of(error)}); write single pictures,"
            " or take the sound out of the file."
        ) from error


def _start_of_video(container: Any) -> Fraction:
    stream = container.streams.video[0] if container.streams.video else None
    if stream is None or stream.start_time is None:
        return Fraction(0)
    return Fraction(stream.start_time * stream.time_base)
