"""Pictures for the screen: the one place where frames leave the engine as images."""

from __future__ import annotations

import contextlib
import hashlib
import sqlite3
import threading
from collections import OrderedDict
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal
from weakref import WeakValueDictionary

import cv2
import diskcache
import numpy as np
from django.conf import settings

from ..engine.cache import Memory
from ..engine.colour.look import PLAIN, Look
from ..engine.colour.management import colours
from ..engine.errors import BadInput
from ..engine.footage import Footage
from ..engine.format import Format
from ..engine.frames import Array, Frame, Region, StopCheck, as_uint8, screen_dither
from ..engine.judge.closer import Signal, amplified, signal_of, stress_level, stressed
from ..engine.judge.overwork import Overwork, overwork
from ..engine.media import Excerpt, Moments, Source, open_source
from ..engine.pipeline import Pipeline
from ..engine.plan import Plan
from ..engine.release import engine_digest
from .models import Shot

View = Literal["source", "result", "removed", "reach", "own"]
OPEN_SHOTS, OPEN_PLANS = 3, 4


class _Opened:
    """Footage and pipelines in use, the least recently used closed first. All share one memory."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._opening: dict[str, threading.Lock] = {}
        self._footage: OrderedDict[str, Footage] = OrderedDict()
        self._pipelines: OrderedDict[str, Pipeline] = OrderedDict()
        self._files: WeakValueDictionary[str, Source] = WeakValueDictionary()

    def _source(self, shot: Shot) -> Source:
        """A shot's footage; shots of one file share its decoder."""
        if shot.frames is None:
            return shot.opened()
        name = f"{shot.path}:{shot.fingerprint}:{shot.space}"
        whole = self._files.get(name)
        if whole is None:
            whole = self._files.setdefault(name, open_source(shot.path, shot.index_file, space=shot.space))
        piece = Excerpt(whole, shot.frames, shared=True)
        return Moments(piece, shot.lines_first) if shot.lines_first else piece

    def pipeline(self, shot: Shot, plan: Plan) -> Pipeline:
        key = f"{shot.path}:{shot.content}"
        with self._lock:
            opening = self._opening.setdefault(key, threading.Lock())
        with opening:  # files that take long to open hold up those alone who want them
            footage = self._footage.get(key) or Footage(self._source(shot), memory())
        with self._lock:
            self._footage[key] = footage
            self._footage.move_to_end(key)
            while len(self._footage) > OPEN_SHOTS:
                gone, closed = self._footage.popitem(last=False)
                closed.forget()
                self._opening.pop(gone, None)
                self._pipelines = OrderedDict((k, p) for k, p in self._pipelines.items() if not k.startswith(gone))
            name = f"{key}:{plan.to_json()}"
            pipeline = self._pipelines.pop(name, None) or Pipeline(footage, plan)
            self._pipelines[name] = pipeline
            if len(self._pipelines) > OPEN_PLANS:
                self._pipelines.popitem(last=False)
            return pipeline


_opened = _Opened()


@cache
def memory() -> Memory:
    """The one memory of all open footage."""
    return Memory(settings.YELLOW_CLEAN.memory_bytes)


@cache
def _pictures() -> Any:
    return diskcache.Cache(str(settings.YELLOW_CLEAN.data / "cache"), size_limit=settings.YELLOW_CLEAN.cache_bytes)


def _kept(key: str) -> Any:
    """What the cache holds; nothing where it cannot be read, which is no error."""
    try:
        return _pictures().get(key)
    except (OSError, sqlite3.Error, diskcache.Timeout):
        return None


def _keep(key: str, value: bytes | str) -> None:
    """Keep it for the next time; where there is no room it is made anew then."""
    with contextlib.suppress(OSError, sqlite3.Error, diskcache.Timeout):
        _pictures().set(key, value)


@cache
def _engine() -> str:
    """A hash of the engine's own text, and of the colours that it knows: what an older engine made is not shown as
    the work of this one."""
    return hashlib.sha256(f"{engine_digest()}{colours()}".encode()).hexdigest()


def pipeline_for(shot: Shot, plan: Plan, stopped: StopCheck) -> Pipeline:
    """A pipeline that shares caches with earlier ones of the same shot and plan, and can be stopped. Raises
    `BadInput` where the footage is not the one that was added."""
    shot.require_footage()
    return _opened.pipeline(shot, plan).until(stopped)


@dataclass(frozen=True, slots=True)
class Asked:
    """One view of frame `n`; `step` counts from 0 and says whose matte the view "reach" shows, and whose view `own`
    the view "own". `scale` is in pixels to one of the source, `stress` in percent, `gain` that of what was
    removed."""

    n: int
    view: View
    region: Region | None
    scale: float
    step: int = 0
    look: Look = PLAIN
    signal: Signal = "all"
    stress: float = 0.0
    gain: float = 8.0
    own: str = ""


@dataclass(frozen=True, slots=True)
class Shown:
    """A lossless PNG, and the area that it covers: x, y, width and height in pixels of the source."""

    png: bytes
    area: tuple[float, float, float, float]


def kept_picture(shot: Shot, plan: Plan, asked: Asked) -> Shown | None:
    """A view that was made before: it waits for no other work."""
    shot.require_footage()
    kept: bytes | None = _kept(_key(shot, plan, asked))
    return None if kept is None else Shown(kept, _area(Format.of(shot.info), plan, asked))


def picture(shot: Shot, plan: Plan, asked: Asked, stopped: StopCheck) -> Shown:
    """A view, from the cache where it was made before."""
    known = kept_picture(shot, plan, asked)
    if known is not None:
        return known
    made = png(_dithered(_view(pipeline_for(shot, plan, stopped), asked), asked))
    _keep(_key(shot, plan, asked), made)
    return Shown(made, _area(Format.of(shot.info), plan, asked))


def _key(shot: Shot, plan: Plan, asked: Asked) -> str:
    content = "" if asked.view == "source" else content_of(plan, asked.view, asked.step)
    return hashlib.sha256(f"{_engine()}{shot.content}{content}{asked}".encode()).hexdigest()


def _area(source: Format, plan: Plan, asked: Asked) -> tuple[float, float, float, float]:
    """What a picture covers: whole pixels of its own format, which may be a little more than was asked for."""
    shown = source if asked.view == "source" else plan.formats(source)[-1]
    if asked.view in {"reach", "own"}:
        shown = plan.format_before(source, asked.step)
    piece = shown.covering((asked.region or source.whole).clipped(source.width, source.height), source)
    across, down = shown.per_pixel_of(source)
    return piece.x / across, piece.y / down, piece.width / across, piece.height / down


def picture_key(shot: Shot) -> str:
    """What all pictures of a shot's source are known by: its footage, and the engine that shows it."""
    return f"{_engine()[:8]}{hashlib.sha256(shot.content.encode()).hexdigest()[:12]}"


def content_of(plan: Plan, view: View = "result", step: int = 0) -> str:
    """What a plan's result is known by, or a view of one of its steps."""
    if view == "reach":
        return plan.matte_digest(step)
    return plan.view_digest(step) if view == "own" else plan.digest()


def judged(shot: Shot, plan: Plan, frames: list[int], region: Region, stopped: StopCheck) -> tuple[str, Overwork]:
    """A version's damage, and the key that its maps are kept under."""
    pipeline = pipeline_for(shot, plan, stopped)
    region = pipeline.large_enough(region)
    told = f"{_engine()}{shot.content}{plan.digest()}{frames}{region}"
    key = hashlib.sha256(told.encode()).hexdigest()[:24]
    kept: str | None = _kept(f"overwork {key}")
    if kept is not None:
        return key, Overwork.model_validate_json(kept)
    found = overwork(pipeline, frames, region, stopped=stopped)
    for kind, where in found.maps.items():
        _keep(f"overwork {key} {kind}", png(where / 2))
    _keep(f"overwork {key}", found.report.model_dump_json())
    return key, found.report


def judged_map(key: str, kind: str) -> bytes | None:
    """One of the maps, where it is still kept."""
    found: bytes | None = _kept(f"overwork {key} {kind}")
    return found


def _view(pipeline: Pipeline, asked: Asked) -> Frame:
    where = asked.n, asked.region, asked.scale
    if asked.view == "reach":
        return np.repeat(pipeline.matte(asked.step, *where)[..., None], 3, axis=2).astype(np.float32)
    if asked.view == "own":
        drawn = pipeline.own_view(asked.step, asked.own, *where)
        return drawn if drawn.ndim == 3 else np.repeat(drawn[..., None], 3, axis=2).astype(np.float32)
    if asked.view == "removed":
        taking = pipeline.following(pipeline.plan.taking()) if pipeline.plan.restores else pipeline
        removed = amplified(pipeline.reference.frame(*where) - taking.frame(*where), asked.gain)
        return signal_of(removed, asked.signal)
    frame = pipeline.source_frame(*where) if asked.view == "source" else pipeline.frame(*where)
    shown, look = pipeline.source_frame, asked.look
    if asked.view == "result":
        shown, look = pipeline.reference.frame, pipeline.seen_under(look)
    frame = signal_of(look.applied(frame), asked.signal)
    if not asked.stress:
        return frame
    return stressed(frame, asked.stress, stress_level(look.applied(shown(asked.n)[::4, ::4])))


def _dithered(picture: Array, asked: Asked) -> Array:
    """The picture with a pattern below a code value of the screen, laid fast to the frame."""
    x, y = (asked.region.x, asked.region.y) if asked.region else (0, 0)
    return picture + screen_dither(picture.shape[:2], round(x * asked.scale), round(y * asked.scale))[..., None]


def png(picture: Array) -> bytes:
    """H×W×3, or H×W for grey, values 0-1."""
    shown = as_uint8(picture)
    done, data = cv2.imencode(
        ".png", shown[..., ::-1] if shown.ndim == 3 else shown, [cv2.IMWRITE_PNG_COMPRESSION, 1]
    )
    if not done:
        raise BadInput("the picture could not be encoded; its size is out of range.")
    return bytes(data)
