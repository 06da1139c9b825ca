"""Timelines through OpenTimelineIO: what a document says, as events and the media that they play.

The document itself is kept as OpenTimelineIO's own JSON: what is not understood here goes out as it came in.
"""

from __future__ import annotations

import math
import re
from fractions import Fraction
from pathlib import PurePath
from urllib.parse import unquote, urlsplit

import opentimelineio as otio
from opentimelineio import opentime
from pydantic import BaseModel, ConfigDict

from ..errors import BadInput
from ..media.timecode import exact

LARGEST_DOCUMENT = 64 << 20
MOST_EVENTS = 20_000

ADAPTERS = {".otio": "otio_json", ".edl": "cmx_3600", ".xml": "fcp_xml"}
"""By ending: the library's readers. Each reads an open or published interchange format."""

EDL_RATE = 24.0
"""Frames a second by which an EDL is read where nothing tells: the document itself does not."""

_EVENT_LINE = re.compile(r"^\s*\d+\s.*\d\d[:;]\d\d[:;]\d\d[:;.]\d\d")
_TIMECODE = re.compile(r"(\d\d)[:;](\d\d)[:;](\d\d)[:;.](\d\d)")


class Marker(BaseModel):
    """A mark on an event: its place in frames from the event's first, and what it says."""

    model_config = ConfigDict(frozen=True)

    frame: int
    text: str


class Medium(BaseModel):
    """Footage that events play, as the timeline names it."""

    model_config = ConfigDict(frozen=True)

    key: str
    name: str
    """Its file's name, or that of the clip where no file is named."""
    url: str = ""
    reel: str = ""
    begins: int | None = None
    """The number that the timeline counts its first frame as, where it tells."""


class Event(BaseModel):
    """A piece of a medium on the timeline; `start` counts as the timeline counts that medium's frames."""

    model_config = ConfigDict(frozen=True)

    number: int
    """From 1, in order of playing."""
    clip: int
    """Which of the document's clips it is, in the document's own order."""
    name: str
    track: str
    medium: str
    start: int
    frames: int
    rate: str
    record: int
    """Frames from the timeline's beginning to its own."""
    comments: list[str] = []
    markers: list[Marker] = []
    told: list[str] = []
    """What of its timing is not taken over."""


class Timeline(BaseModel):
    """What a document says. `left_out` has one line for each thing that is no event."""

    name: str
    rate: str
    start: int
    """The number of its first frame."""
    events: list[Event]
    media: list[Medium]
    left_out: list[str] = []

    def medium(self, key: str) -> Medium:
        return next(m for m in self.media if m.key == key)


def read(data: bytes, name: str, rate: Fraction | None = None) -> otio.schema.Timeline:
    """A document by the ending of its name. `rate` is that of an EDL, which does not tell.

    Raises `BadInput` in one line for anything that is no timeline.
    """
    adapter = ADAPTERS.get(PurePath(name).suffix.lower())
    if adapter is None:
        raise BadInput(f"{name}: is no timeline by its name; give one of {', '.join(ADAPTERS)}.")
    if len(data) > LARGEST_DOCUMENT:
        raise BadInput(f"{name}: is larger than {LARGEST_DOCUMENT >> 20} MiB; split the timeline.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    try:
        if adapter == "cmx_3600":
            return _from_edl(text, float(rate or 0) or EDL_RATE)
        return _one_of(otio.adapters.read_from_string(text, adapter), name)
    except BadInput:
        raise
    except Exception as error:  # readers raise whatever they stumble over
        reason = " ".join(str(error).split())[:160].rstrip(".") or type(error).__name__
        raise BadInput(f"{name}: cannot be read as a timeline ({reason}); export it again.") from error


def from_json(document: str) -> otio.schema.Timeline:
    """A document as it was kept. Raises `BadInput`."""
    return read(document.encode(), "the kept timeline.otio")


def drops_frames(text: str) -> bool:
    """Whether an EDL counts in drop-frame timecode, which only 29.97 and 59.94 frames a second have."""
    return bool(re.search(r"^FCM:\s*DROP", text, re.M) or re.search(r"^\d.*\d\d;\d\d", text, re.M))


def _one_of(found: object, name: str) -> otio.schema.Timeline:
    """The timeline of a document, or the first of several."""
    if isinstance(found, otio.schema.Timeline):
        return found
    held = found if isinstance(found, otio.schema.SerializableCollection) else ()
    timelines = [child for child in held if isinstance(child, otio.schema.Timeline)]
    if not timelines:
        raise BadInput(f"{name}: holds no timeline; export the timeline itself.")
    return timelines[0]


def _from_edl(text: str, rate: float) -> otio.schema.Timeline:
    """An EDL; the library's reader keeps the place on the timeline in a range of its own, which is undone."""
    dropping = drops_frames(text)
    exactly = float(exact(rate))
    timeline = otio.adapters.read_from_string(_counted(text, rate), "cmx_3600", rate=exactly)
    for track in timeline.tracks:
        offset = track.source_range
        if offset is not None:
            timeline.global_start_time = -offset.start_time
            track.source_range = None
    for marker in (m for clip in timeline.find_clips() for m in clip.markers):
        marker.marked_range = _remarked(marker.marked_range, exactly, dropping)
    if not timeline.name:
        timeline.name = "Timeline"
    return timeline


def _counted(text: str, rate: float) -> str:
    """The text with the timecodes of its events written as the line "FCM" before them says that they count."""
    dropping, lines = None, []
    for line in text.splitlines():
        if line.upper().startswith("FCM"):
            dropping = "NON" not in line.upper() and round(rate) % 30 == 0
        if _EVENT_LINE.match(line) and dropping is not None:
            line = _TIMECODE.sub(rf"\1:\2:\3{';' if dropping else ':'}\4", line)  # noqa: PLW2901
        elif line.startswith(("M2", "*")):
            line = _TIMECODE.sub(r"\1:\2:\3:\4", line)  # noqa: PLW2901 (the reader knows no other mark there)
        lines.append(line)
    return "\n".join(lines)


def _remarked(marked: opentime.TimeRange, rate: float, dropping: bool) -> opentime.TimeRange:
    """The place of a marker, read again as the events count."""
    if not dropping or round(rate) % 30:
        return marked
    told = opentime.to_timecode(marked.start_time, rate, drop_frame=False)
    return opentime.TimeRange(opentime.from_timecode(f"{told[:8]};{told[9:]}", rate), marked.duration)


def clips_of(timeline: otio.schema.Timeline) -> list[tuple[otio.schema.Track, otio.schema.Clip]]:
    """All clips of the picture, in the document's own order, with the track they lie on."""
    return [(track, clip) for track in timeline.video_tracks() for clip in track.find_clips()]


def described(timeline: otio.schema.Timeline) -> Timeline:
    """What a document says. Raises `BadInput` where it holds no event that can be taken."""
    clips = clips_of(timeline)
    if len(clips) > MOST_EVENTS:
        raise BadInput(f"{timeline.name}: has {len(clips)} events, more than {MOST_EVENTS}; split the timeline.")
    events, left_out, media = list[Event](), list[str](), dict[str, Medium]()
    for k, (track, clip) in enumerate(clips):
        why = _no_event(clip)
        if why:
            left_out.append(f"{clip.name or 'an event without a name'} on {track.name or 'a track'}: {why}")
            continue
        medium = _medium(clip)
        media.setdefault(medium.key, medium)
        events.append(_event(timeline, track, clip, k, medium))
    if not events:
        raise BadInput(f"{timeline.name}: has no event that plays footage; export the timeline with its media.")
    events.sort(key=lambda event: (event.record, event.clip))
    numbered = [event.model_copy(update={"number": k + 1}) for k, event in enumerate(events)]
    left_out += [f"{track.name or 'a track'}: sound goes out as it came in" for track in timeline.audio_tracks()]
    return Timeline(
        name=timeline.name or "Timeline",
        rate=numbered[0].rate,
        start=round(timeline.global_start_time.value) if timeline.global_start_time else 0,
        events=numbered,
        media=list(media.values()),
        left_out=left_out,
    )


def _no_event(clip: otio.schema.Clip) -> str:
    """Why a clip is not taken; empty for one that is."""
    if isinstance(clip.media_reference, otio.schema.GeneratorReference):
        return "is generated, not footage"
    if not clip.enabled:
        return "is switched off"
    span = clip.source_range or clip.media_reference.available_range
    if span is None:
        return "says neither where it begins nor how long it is"
    numbers = (span.start_time.value, span.duration.value, span.start_time.rate)
    if not all(math.isfinite(n) and abs(n) < 1 << 40 for n in numbers) or span.start_time.rate <= 0:
        return "has times that are no times"
    return "" if span.duration.value >= 1 else "is shorter than a frame"


def _event(
    timeline: otio.schema.Timeline, track: otio.schema.Track, clip: otio.schema.Clip, k: int, medium: Medium
) -> Event:
    seen = clip.visible_range()
    rate = exact(seen.start_time.rate)
    start, frames, told = round(seen.start_time.value), round(seen.duration.rescaled_to(float(rate)).value), []
    speed = _speed(clip)
    if speed is not None:
        frames = max(math.ceil(frames * abs(speed)), 1)
        told.append(
            "is a frozen frame; the frame itself is taken"
            if speed == 0
            else f"plays at {100 * speed:.4g} % speed; the frames of its source are taken"
        )
    if clip.parent() is not track:
        told.append("lies in a nested timeline; its own range is taken, whatever is cut off around it")
    first = clip.trimmed_range().start_time
    return Event(
        number=0,
        clip=k,
        name=clip.name or PurePath(medium.name).stem,
        track=track.name,
        medium=medium.key,
        start=start,
        frames=frames,
        rate=str(rate),
        record=round(timeline.range_of_child(clip).start_time.value),
        comments=[str(line) for line in clip.metadata.get("cmx_3600", {}).get("comments", [])],
        markers=[
            Marker(frame=round((m.marked_range.start_time - first).value), text=m.name or m.comment)
            for m in clip.markers
        ],
        told=told,
    )


def _speed(clip: otio.schema.Clip) -> float | None:
    """How fast a clip plays; None for as it was shot."""
    speeds = [e.time_scalar for e in clip.effects if isinstance(e, otio.schema.LinearTimeWarp)]
    speed = math.prod(speeds) if speeds else 1.0
    return None if speed == 1.0 else speed


def _medium(clip: otio.schema.Clip) -> Medium:
    reference = clip.media_reference
    reel = str(clip.metadata.get("cmx_3600", {}).get("reel", ""))
    span = reference.available_range
    begins = round(span.start_time.value) if span else None
    if isinstance(reference, otio.schema.ExternalReference) and reference.target_url:
        url = reference.target_url
        return Medium(key=url, name=PurePath(path_of(url)).name, url=url, reel=reel, begins=begins)
    if isinstance(reference, otio.schema.ImageSequenceReference):
        url = reference.abstract_target_url("#" * max(reference.frame_zero_padding, 1))
        return Medium(key=url, name=PurePath(path_of(url)).name, url=url, reel=reel, begins=begins)
    name = clip.name or reel
    return Medium(key=f"{reel}:{name}" if reel else name, name=name, reel=reel, begins=begins)


def path_of(url: str) -> str:
    """The path of a file's address, or of a path that is written as one, with slashes."""
    plain = url.replace("\\", "/")
    parts = urlsplit(plain.replace("#", "%23"))
    return unquote(parts.path) if parts.scheme == "file" else unquote(plain) if "%" in plain else plain
