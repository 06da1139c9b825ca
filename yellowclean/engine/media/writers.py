"""Writing results: one way in for video files and numbered sequences."""

from __future__ import annotations

from pathlib import Path

from .boundary import checked_name
from .formats import Destination
from .info import MediaInfo, Source
from .sequence_writer import SequenceWriter
from .video_writer import VideoWriter

Writer = VideoWriter | SequenceWriter


def open_writer(
    target: Destination, info: MediaInfo, *, first: int = 0, audio_from: Path | None = None,
    source: Source | None = None, grain: str = "",
) -> Writer:  # fmt: skip
    """A writer for use in a `with` block.

    `info` describes the source: rate, colour tags, start timecode, tracks, and in `frames` how many
    frames will be written. `first` is the number of the first frame within the source; `source`, where
    given, hands on what its files hold beside colour; `grain` is the table for a format that carries one.
    """
    checked_name(target.path)
    if target.format.is_sequence:
        return SequenceWriter(target, info, first=first, source=source)
    return VideoWriter(target, info, first=first, audio_from=audio_from, grain=grain)
