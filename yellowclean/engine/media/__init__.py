"""Footage in and out: probe, read and write video files and numbered image sequences."""

from __future__ import annotations

import hashlib
from pathlib import Path

from ..errors import BadInput
from .info import AudioTrack, MediaInfo, Source
from .sequence import SEQUENCE_ENDINGS, SequenceSource, is_sequence_name, sequence_files
from .video import VideoSource
from .writers import OUTPUT_FORMATS, Destination, destination, open_writer

__all__ = [
    "OUTPUT_FORMATS",
    "SEQUENCE_ENDINGS",
    "AudioTrack",
    "Destination",
    "MediaInfo",
    "Source",
    "destination",
    "fingerprint",
    "open_source",
    "open_writer",
    "probe",
]

_SAMPLE = 1 << 20


def open_source(path: str | Path) -> Source:
    """Open footage for reading: a video file, a sequence pattern, a member of one, or its folder.

    Raises `BadInput` with one clear line for anything that is not readable footage.
    """
    path = Path(path)
    if is_sequence_name(path) or path.is_dir():
        return SequenceSource(path)
    if not path.exists():
        raise BadInput(f"{path}: does not exist; check the path.")
    if path.stat().st_size == 0:
        raise BadInput(f"{path}: is empty (0 bytes); copy it again from the original.")
    return VideoSource(path)


def probe(path: str | Path) -> MediaInfo:
    """Describe footage after proving that its first frame decodes."""
    source = open_source(path)
    source.close()
    return source.info


def fingerprint(path: str | Path) -> str:
    """A content hash that is cheap on large files: size, and the first, middle and last MiB of each."""
    path = Path(path)
    files = sequence_files(path) if is_sequence_name(path) or path.is_dir() else [path]
    digest = hashlib.sha256()
    for file in files:
        size = file.stat().st_size
        digest.update(f"{file.name}:{size}:".encode())
        with file.open("rb") as stream:
            for start in (0, max(size // 2 - _SAMPLE // 2, 0), max(size - _SAMPLE, 0)):
                stream.seek(start)
                digest.update(stream.read(_SAMPLE if len(files) == 1 else 1 << 14))
    return digest.hexdigest()
