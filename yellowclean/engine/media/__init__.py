"""Footage in and out: probe, read and write video files and numbered image sequences."""

from __future__ import annotations

import hashlib
from pathlib import Path

from .boundary import checked_file, reading
from .formats import OUTPUT_FORMATS, Destination, destination
from .index import stamp_of
from .info import AudioTrack, Excerpt, Fields, Lines, MediaInfo, Source
from .moments import Moments
from .names import SEQUENCE_ENDINGS, is_sequence, sequence_files
from .sequence import SequenceSource
from .video import VideoSource
from .writers import open_writer

__all__ = [
    "OUTPUT_FORMATS",
    "SEQUENCE_ENDINGS",
    "AudioTrack",
    "Destination",
    "Excerpt",
    "Fields",
    "Lines",
    "MediaInfo",
    "Moments",
    "Source",
    "VideoSource",
    "destination",
    "files_of",
    "fingerprint",
    "open_source",
    "open_writer",
    "probe",
    "sequence_files",
    "stamp",
]

_SAMPLE = 1 << 20


def open_source(
    path: str | Path, kept_index: Path | None = None, *, space: str = "", frames: range | None = None,
    fields: Fields = "", grain: bool = True,
) -> Source:  # fmt: skip
    """Open footage for reading: a video file, a sequence pattern, a member of one, or its folder.

    `kept_index` names a file in which the index of a video is kept, so that it is made only once; `space` the
    colour space that its values are in, where the file is not to be believed; `frames` the piece of it that is
    meant, whose frames count from 0; `fields` the lines that were seen first, where each field is to be a frame;
    `grain` whether that of a film grain table is laid over it, as
    players do.
    Raises `BadInput` with one clear line for anything that is not readable footage.
    """
    with reading(path):
        source = _opened(Path(path), kept_index, grain=grain)
    source.info = source.info.model_copy(update={"space": space})
    piece = source if frames is None else Excerpt(source, frames)
    return Moments(piece, fields) if fields else piece


def _opened(path: Path, kept_index: Path | None, *, grain: bool) -> Source:
    if is_sequence(path):
        return SequenceSource(path)
    return VideoSource(checked_file(path), kept_index, grain=grain)


def probe(path: str | Path, kept_index: Path | None = None) -> MediaInfo:
    """Describe footage after proving that its first frame decodes."""
    source = open_source(path, kept_index)
    source.close()
    return source.info


def files_of(path: str | Path) -> list[Path]:
    """The files that footage is made of. Raises `BadInput` where there are none."""
    path = Path(path)
    return sequence_files(path) if is_sequence(path) else [checked_file(path)]


def stamp(path: str | Path) -> str:
    """Tells footage from other footage under its name without reading it: sizes and times of change."""
    files = files_of(path)
    if len(files) == 1:
        return stamp_of(files[0])
    return hashlib.sha256(" ".join(f"{f.name} {stamp_of(f)}" for f in files).encode()).hexdigest()


def fingerprint(path: str | Path) -> str:
    """A content hash that is cheap on large files: size, and the first, middle and last MiB of each."""
    files = files_of(path)
    digest = hashlib.sha256()
    for file in files:
        size = file.stat().st_size
        digest.update(f"{file.name}:{size}:".encode())
        with file.open("rb") as stream:
            for start in (0, max(size // 2 - _SAMPLE // 2, 0), max(size - _SAMPLE, 0)):
                stream.seek(start)
                digest.update(stream.read(_SAMPLE if len(files) == 1 else 1 << 14))
    return digest.hexdigest()
