"""Finding the media of a timeline in folders, by path, name, reel and timecode, and the frames that events play."""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator, Sequence
from fractions import Fraction
from functools import lru_cache
from pathlib import Path, PurePath

from pydantic import BaseModel

from ..errors import BadInput, line_of
from ..media import MediaInfo, probe, stamp
from ..media.names import SEQUENCE_ENDINGS, plain_stem, shots_in
from ..media.timecode import number_of
from .timeline import Event, Medium, Timeline, path_of

MOST_FILES = 20_000
"""Pieces of footage looked at under the folders given."""

VIDEO_ENDINGS = {
    *(".mov", ".mp4", ".m4v", ".mkv", ".mxf", ".avi", ".mpg", ".mpeg", ".ts", ".m2ts", ".mts"),
    *(".webm", ".y4m", ".dv", ".wmv", ".gxf", ".vob"),
}
LEAST_REEL = 3
"""Letters and digits of a reel's name that have to agree with those of a file before it counts as named by it."""


class Found(BaseModel):
    """Where a medium lies, and how that was found; an empty path, and why, where it is missing."""

    key: str
    path: str = ""
    how: str = ""


def found_media(timeline: Timeline, folders: Sequence[Path]) -> list[Found]:
    """Each medium of a timeline, in its order, looked for under the folders."""
    candidates = list(footage_under(folders))
    return [_found(timeline, medium, candidates) for medium in timeline.media]


def _found(timeline: Timeline, medium: Medium, candidates: Sequence[Path]) -> Found:
    events = [event for event in timeline.events if event.medium == medium.key]

    def first(paths: Iterable[Path], how: str) -> Found | None:
        for path in paths:
            if _holds(path, events, medium):
                return Found(key=medium.key, path=str(path), how=how)
        return None

    named = PurePath(path_of(medium.url)) if medium.url else None
    by_path = [p for p in candidates if named and _same_end(p, named) > 1]
    by_path.sort(key=lambda p: -_same_end(p, named) if named else 0)
    by_name = [p for p in candidates if p.name.lower() == medium.name.lower()]
    by_stem = [p for p in candidates if _stem(p) == _stem(PurePath(medium.name))]
    by_reel = [p for p in candidates if medium.reel and _of_reel(p, medium.reel)]
    told = (
        first(by_path, "by its path")
        or first(by_name, "by its name")
        or first(by_stem, "by its name, with another ending")
        or first(by_reel, "by its reel and timecode")
        or _only_one(medium, events, candidates)
    )
    if told:
        return told
    seen = next(iter([*by_path, *by_name, *by_stem, *by_reel]), None)
    return Found(key=medium.key, how=_why_not(seen, events, medium) if seen else "not in these folders")


def _only_one(medium: Medium, events: Sequence[Event], candidates: Sequence[Path]) -> Found | None:
    """The one file whose timecode covers all events, for media that the timeline names by nothing better."""
    if medium.url:
        return None
    fitting = [p for p in candidates if _timecode_covers(p, events)]
    if len(fitting) != 1:
        return None
    return Found(key=medium.key, path=str(fitting[0]), how="by its timecode alone")


def _timecode_covers(path: Path, events: Sequence[Event]) -> bool:
    info = _told(path)
    number = number_of(info.timecode, info.fps) if info and info.timecode else None
    if info is None or number is None:
        return False
    return all(_within(event, number, info) is not None for event in events)


def _why_not(path: Path, events: Sequence[Event], medium: Medium) -> str:
    """What speaks against a file of the right name."""
    try:
        info = described_footage(path)
        for event in events:
            located(event, medium, info)
    except (BadInput, OSError) as error:
        return line_of(error)
    return "not in these folders"


def located(event: Event, medium: Medium, info: MediaInfo) -> range:
    """The frames of a medium's file, from 0, that an event plays: counted by the file's timecode, by what the
    timeline says of the medium, by the numbers of a sequence, or from 0, whichever first holds them all.

    Raises `BadInput` where none does.
    """
    for begins in _beginnings(medium, info):
        if (place := _within(event, begins, info)) is not None:
            return place
    first = next(iter(_beginnings(medium, info)))
    raise BadInput(
        f"{PurePath(info.path).name}: event {event.number} plays frames {event.start} to"
        f" {event.start + event.frames - 1}, the file has {first} to {first + info.frames - 1};"
        " point to the right file."
    )


def _beginnings(medium: Medium, info: MediaInfo) -> Iterator[int]:
    """What the first frame of a file may be counted as, the surest first."""
    number = number_of(info.timecode, info.fps) if info.timecode else None
    yield from (n for n in (number, medium.begins) if n is not None)
    if info.kind == "sequence":
        yield info.first_number
    yield 0


def _within(event: Event, begins: int, info: MediaInfo) -> range | None:
    """The event's frames in a file whose first is counted as `begins`; None where they are not all in it. Where
    both count at another rate, times decide."""
    rate, fps = Fraction(event.rate), info.fps
    start, frames = event.start, event.frames
    if round(rate) != round(fps):
        start, frames = round(start * fps / rate), max(round(frames * fps / rate), 1)
    first = start - begins
    return range(first, first + frames) if first >= 0 and first + frames <= info.frames else None


def with_handles(place: range, handles: int, info: MediaInfo) -> range:
    """An event's frames with so many more at each side as the file has, `handles` at most."""
    return range(max(place.start - handles, 0), min(place.stop + handles, info.frames))


def _holds(path: Path, events: Sequence[Event], medium: Medium) -> bool:
    info = _told(path)
    if info is None:
        return False
    return all(any(_within(event, n, info) is not None for n in _beginnings(medium, info)) for event in events)


def _told(path: Path) -> MediaInfo | None:
    try:
        return described_footage(path)
    except (BadInput, OSError):
        return None


def _same_end(path: Path, named: PurePath) -> int:
    """How many parts of two paths agree, from the name backwards."""
    count = 0
    for one, other in zip(reversed(path.parts), reversed(named.parts), strict=False):
        if one.lower() != other.lower():
            break
        count += 1
    return count


def _stem(path: PurePath) -> str:
    """A name without ending and frame numbers, in small letters; a dot in the name of a clip is no ending."""
    known = path.suffix.lower() in VIDEO_ENDINGS | SEQUENCE_ENDINGS
    return plain_stem(path if known else path.with_name(f"{path.name}.mov")).lower()


def _of_reel(path: Path, reel: str) -> bool:
    """Whether a file's name begins with a reel's, which an EDL cuts to eight letters and digits."""
    plain, wanted = (re.sub(r"[^a-z0-9]", "", text.lower()) for text in (_stem(path), reel))
    return len(wanted) >= LEAST_REEL and plain.startswith(wanted)


def footage_under(folders: Iterable[Path]) -> Iterator[Path]:
    """Videos and sequences in folders and all that they hold, in a fixed order; a bounded number."""
    count, seen = 0, set()
    for top in folders:
        for name, inner, _ in os.walk(top):
            inner[:] = sorted(n for n in inner if not n.startswith("."))
            folder = Path(name).resolve()
            if folder in seen:
                continue
            seen.add(folder)
            for path in shots_in(folder):
                if path.suffix.lower() in VIDEO_ENDINGS | SEQUENCE_ENDINGS:
                    count += 1
                    if count > MOST_FILES:
                        raise BadInput(
                            f"{top}: holds more than {MOST_FILES} pieces of footage; name the folder of this job."
                        )
                    yield path


def described_footage(path: Path) -> MediaInfo:
    """What a piece of footage is, looked up once as long as it does not change. Raises `BadInput`."""
    return _described_as(path, stamp(path))


@lru_cache(maxsize=4096)
def _described_as(path: Path, now: str) -> MediaInfo:
    return probe(path)
