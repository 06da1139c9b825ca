"""The timeline out: the same document, its events relinked to what was written for them."""

from __future__ import annotations

import copy
import re
from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path

import opentimelineio as otio
from opentimelineio import opentime
from pydantic import BaseModel

from ..errors import BadInput
from ..media import MediaInfo, probe
from ..media.names import numbered_name
from ..media.timecode import frames_between, number_of, shifted
from .timeline import clips_of

REEL_LENGTH = 8
"""Letters of a reel's name in CMX 3600."""


class Written(BaseModel):
    """A file that was written for an event: what it is, and which of its frames are the event's."""

    media: MediaInfo
    first: int
    """The file's frame, from 0, that is the event's first."""
    frames: int

    @property
    def begins(self) -> int:
        """What the file's first frame counts as: its timecode, the number of its picture, or 0."""
        number = number_of(self.media.timecode, self.media.fps) if self.media.timecode else None
        return self.media.first_number if number is None else number


def written(path: Path, first: int, frames: int) -> Written:
    """A file as it was written. Raises `BadInput` where it lacks frames of the event."""
    media = probe(path)
    if first < 0 or first + frames > media.frames:
        raise BadInput(f"{path}: has {media.frames} frames, the event plays {first} to {first + frames - 1} of it.")
    return Written(media=media, first=first, frames=frames)


def relinked(timeline: otio.schema.Timeline, files: Mapping[int, Written]) -> otio.schema.Timeline:
    """A copy of a document whose clips, numbered as in `Event.clip`, play the files; others stay as they are."""
    out = copy.deepcopy(timeline)
    for k, (_, clip) in enumerate(clips_of(out)):
        if k in files:
            _relink(clip, files[k])
    return out


def _relink(clip: otio.schema.Clip, file: Written) -> None:
    seen, trimmed = clip.visible_range(), clip.trimmed_range()
    rate = float(file.media.fps)
    into = round((trimmed.start_time - seen.start_time).rescaled_to(rate).value)
    start, old = file.begins + file.first + into, trimmed.start_time.value
    clip.source_range = opentime.TimeRange(
        opentime.RationalTime(start, rate),
        opentime.RationalTime(round(trimmed.duration.rescaled_to(rate).value), rate),
    )
    source = clip.media_reference
    clip.metadata["yellow_clean"] = {"source": getattr(source, "target_url", "") or clip.name, "source_start": old}
    clip.metadata.get("cmx_3600", {}).pop("reel", None)  # it was the source's
    clip.media_reference = _reference(file, rate)


def _reference(file: Written, rate: float) -> otio.core.MediaReference:
    path = Path(file.media.path)
    available = opentime.TimeRange(
        opentime.RationalTime(file.begins, rate), opentime.RationalTime(file.media.frames, rate)
    )
    if file.media.kind == "video":
        reference = otio.schema.ExternalReference(path.as_uri(), available)
        reference.name = path.stem
        return reference
    before, digits, after = _parts(path)
    reference = otio.schema.ImageSequenceReference(
        target_url_base=path.parent.as_uri() + "/", name_prefix=before, name_suffix=after,
        start_frame=file.media.first_number, frame_step=1, rate=rate, frame_zero_padding=digits,
        available_range=available,
    )  # fmt: skip
    reference.name = before.rstrip("._-") or path.stem
    return reference


def _parts(pattern: Path) -> tuple[str, int, str]:
    """A sequence's name before its number, the number's digits, and after."""
    one, other = numbered_name(pattern, 0).name, numbered_name(pattern, 1).name
    at = next(k for k, (a, b) in enumerate(zip(one, other, strict=True)) if a != b)
    zeros = re.search(r"0*$", one[: at + 1])
    digits = len(zeros[0]) if zeros else 1
    return one[: at + 1 - digits], digits, one[at + 1 :]


def as_otio(timeline: otio.schema.Timeline) -> str:
    """The document as OpenTimelineIO's own JSON."""
    return str(otio.adapters.write_to_string(timeline, "otio_json"))


def as_edls(timeline: otio.schema.Timeline, rate: Fraction) -> tuple[dict[str, str], list[str]]:
    """A CMX 3600 list for each video track that holds anything, by the track's name, and a line for each thing
    that such a list cannot hold. Reels are told apart within their eight letters."""
    lists, lost = dict[str, str](), list[str]()
    for track in timeline.video_tracks():
        if not len(track.find_clips()):
            continue
        alone = otio.schema.Timeline(timeline.name)
        alone.tracks.append(copy.deepcopy(track))
        kept = alone.tracks[0]
        lost += _unnested(kept)
        if not len(kept.find_clips()):
            continue
        _name_reels(kept)
        start = timeline.global_start_time or opentime.RationalTime(0, float(rate))
        kept.source_range = opentime.TimeRange(-start.rescaled_to(float(rate)), kept.available_range().duration)
        name = track.name or "V"
        lists[name if name not in lists else f"{name} {len(lists) + 1}"] = _edl(alone, float(rate))
    return lists, lost


def _edl(timeline: otio.schema.Timeline, rate: float) -> str:
    try:
        text = str(otio.adapters.write_to_string(timeline, "cmx_3600", rate=rate))
    except Exception as error:  # writers raise whatever they stumble over
        reason = " ".join(str(error).split())[:160].rstrip(".") or type(error).__name__
        raise BadInput(f"{timeline.name}: cannot be written as an EDL ({reason}); take the .otio.") from error
    text = _RETIMED.sub(lambda match: _with_source_played(match, Fraction(rate)), text)
    if round(rate) % 30:
        return text
    mode = "DROP FRAME" if re.search(r"^\d.*;\d\d", text, re.M) else "NON-DROP FRAME"
    title, rest = text.split("\n", 1) if text.startswith("TITLE") else ("", text)
    return f"{title}\nFCM: {mode}\n{rest}" if title else f"FCM: {mode}\n{rest}"


_CODE = r"(\d\d:\d\d:\d\d[:;]\d\d)"
_RETIMED = re.compile(rf"(?m)^(\d+ .*?){_CODE} {_CODE} {_CODE} {_CODE}(?=[^\n]*\nM2\s+\S+\s+(-?[\d.]+))")


def _with_source_played(match: re.Match[str], rate: Fraction) -> str:
    """An event with the end of what it plays of its source: at twice the speed twice as many frames as it lasts, of
    a frozen one a frame. The library that writes lists divides where it should multiply."""
    head, begin, _, first, last, speed = match.groups()
    played = round(frames_between(first, last, rate) * abs(float(speed)) / float(rate)) or 1
    return f"{head}{begin} {shifted(begin, played, rate)} {first} {last}"


def _unnested(track: otio.schema.Track) -> list[str]:
    """Put gaps in the places of nested timelines, which a list of events cannot hold."""
    lost = []
    for k, child in enumerate(track):
        if not isinstance(child, (otio.schema.Clip, otio.schema.Gap, otio.schema.Transition)):
            lost.append(f"{child.name or 'a nested timeline'} on {track.name}: an EDL holds none; a gap is left")
            track[k] = otio.schema.Gap(source_range=opentime.TimeRange(duration=child.duration()))
    return lost


def _name_reels(track: otio.schema.Track) -> None:
    """Give every medium a reel of its own."""
    reels: dict[str, str] = {}
    taken = {clip.metadata.get("cmx_3600", {}).get("reel") for clip in track.find_clips()}
    for clip in track.find_clips():
        medium = clip.media_reference.name or clip.name
        if clip.metadata.get("cmx_3600", {}).get("reel"):
            continue
        if medium not in reels:
            plain = re.sub(r"[^A-Za-z0-9]", "", medium)[:REEL_LENGTH] or "AX"
            reels[medium] = _free(plain, taken | set(reels.values()))
        clip.metadata.setdefault("cmx_3600", {})["reel"] = reels[medium]


def _free(reel: str, taken: set[str]) -> str:
    """The name, or one that ends in a number where it is taken."""
    if reel not in taken:
        return reel
    numbered = (f"{reel[: REEL_LENGTH - len(str(k))]}{k}" for k in range(2, 10_000))
    return next(name for name in numbered if name not in taken)
