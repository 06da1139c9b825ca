"""Events taken as shots: which frames of which file, with handles."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath

from pydantic import BaseModel, ConfigDict, Field

from ..errors import BadInput, line_of
from .finding import Found, described_footage, located, with_handles
from .timeline import Event, Marker, Timeline

MOST_HANDLES = 1000


class Placed(BaseModel):
    """Where a shot stands in its timeline. `head` and `tail` count the frames of its handles."""

    model_config = ConfigDict(frozen=True)

    number: int = Field(description="The event's, from 1, in order of playing.")
    clip: int = Field(description="The clip of the timeline's document, in the document's own order.")
    name: str
    track: str
    record: int = Field(description="Frames from the timeline's beginning.")
    head: int
    tail: int
    comments: list[str] = []
    markers: list[Marker] = []
    told: list[str] = Field([], description="What of its timing is not taken over.")

    def cut(self, frames: int) -> range:
        """The event's own frames in a shot of so many."""
        return range(self.head, frames - self.tail)


@dataclass(frozen=True, slots=True)
class Taken:
    """An event as a shot: a name of its own, the file, the frames of it, and its place."""

    name: str
    path: Path
    frames: range
    place: Placed


def taken(
    timeline: Timeline, media: Sequence[Found], handles: int, names: Collection[str] = ()
) -> tuple[list[Taken], list[str]]:
    """Every event whose medium was found, with so many frames of handles as there are, and a line for each that is
    missing. `names` are taken already. Raises `BadInput` for handles out of range."""
    if not 0 <= handles <= MOST_HANDLES:
        raise BadInput(f"handles of {handles} frames are out of range; give 0 to {MOST_HANDLES}.")
    paths = {found.key: found.path for found in media}
    shots, missing, used = list[Taken](), list[str](), set(names)
    for event in timeline.events:
        path = paths.get(event.medium, "")
        if not path:
            missing.append(f"event {event.number}, {event.name}: {_wanted(timeline, event)} was not found.")
            continue
        try:
            info = described_footage(Path(path))
            cut = located(event, timeline.medium(event.medium), info)
        except (BadInput, OSError) as error:
            missing.append(f"event {event.number}, {event.name}: {line_of(error)}")
            continue
        frames = with_handles(cut, handles, info)
        name = own_name(_plain(event.name), used)
        used.add(name)
        shots.append(Taken(name, Path(path), frames, _placed(event, cut, frames)))
    return shots, missing


def _wanted(timeline: Timeline, event: Event) -> str:
    medium = timeline.medium(event.medium)
    reel = f" (reel {medium.reel})" if medium.reel else ""
    return f"{medium.name}{reel}, frames {event.start} to {event.start + event.frames - 1},"


def _placed(event: Event, cut: range, frames: range) -> Placed:
    return Placed(
        number=event.number, clip=event.clip, name=event.name, track=event.track, record=event.record,
        head=cut.start - frames.start, tail=frames.stop - cut.stop,
        comments=event.comments, markers=event.markers, told=event.told,
    )  # fmt: skip


def _plain(name: str) -> str:
    """An event's name without the ending of a file and marks that no file's name can hold."""
    path = PurePath(name)
    stem = path.stem if 1 < len(path.suffix) <= 5 and path.suffix[1:].isalnum() else path.name
    return "".join("_" if c in '/\\:*?"<>|' or ord(c) < 32 else c for c in stem).strip(" .")[:200] or "event"


def own_name(name: str, used: Collection[str]) -> str:
    """The name, with a number behind it where it is taken."""
    if name not in used:
        return name
    return next(f"{name}_{k}" for k in range(2, len(used) + 3) if f"{name}_{k}" not in used)
