"""Frames are pulled: each step asks the one before for just the frames and pixels that it needs.

One path serves a corner at 400 %, a parked frame, a scope and a render. A region comes out exactly
as the same region of the whole frame, because every step is handed its margins, regions start on
the step's block grid, and kernels add in an order that depends on the position in the frame alone.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Hashable
from copy import copy
from functools import cached_property
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

from .cache import Memory
from .errors import BadInput
from .frames import LUMA_WEIGHTS, Array, Frame, Region, StopCheck, extended, never, raise_if, scaled
from .measure.profile import NoiseProfile
from .media import Source
from .media.info import WILDEST, tamed, wild
from .motion import Flow, Track, flow, prepared
from .plan import Plan, Step
from .reach.matte import matte
from .treat import Picture, Window
from .treat.stabilise import Stabiliser

T = TypeVar("T")

MEMORY_BYTES = 1280 << 20
"""Decoded frames, motion and results of steps kept, so that going back is instant and nothing is computed twice. A
plan that looks at more frames at once has more kept."""

BESIDE_FRAMES_BYTES = 512 << 20

LEAST_JUDGED = 16
"""Pixels a side of what is judged: in less, chance is all there is."""


_numbers = itertools.count()


class Footage:
    """A source with its decoded frames, its motion and the results of steps, shared by all plans that look
    at it: two plans that begin alike compute their beginning once."""

    def __init__(self, source: Source, memory: Memory | None = None) -> None:
        """`memory` may be shared with other footage."""
        self.source, self.info = source, source.info
        self.whole = Region(0, 0, self.info.width, self.info.height)
        self.memory, self._number = memory or Memory(MEMORY_BYTES), next(_numbers)
        self._wild: dict[int, tuple[tuple[npt.NDArray[np.intp], ...], Frame]] = {}

    def hold(self, frames: int) -> None:
        """Keep room for that many frames at least."""
        self.memory.raise_limit(frames * self.info.width * self.info.height * 12 + BESIDE_FRAMES_BYTES)

    def large_enough(self, region: Region | None) -> Region:
        """A region inside the frame (default: all of it) in which something can be judged. Raises `BadInput`."""
        inside = (region or self.whole).clipped(self.info.width, self.info.height)
        if min(inside.width, inside.height) < LEAST_JUDGED:
            raise BadInput(
                f"a region of {inside.width}×{inside.height} pixels is too small to be judged;"
                f" choose one of at least {LEAST_JUDGED}×{LEAST_JUDGED} inside the frame."
            )
        return inside

    def kept(self, key: Hashable, make: Callable[[], T], size_of: Callable[[T], int]) -> T:
        """A value of this footage, computed once."""
        return self.memory.get((self._number, key), make, size_of)

    def forget(self) -> None:
        """Give back the memory that this footage holds."""
        self.memory.forget(lambda key: bool(key[0] == self._number))

    def frame(self, n: int) -> Frame:
        """Source frame n; callers must not write into it."""
        return self.kept(("frame", n), lambda: self._read(n), _bytes)

    def _read(self, n: int) -> Frame:
        frame = self.source.read(n)
        if wild(frame):
            self._wild[n] = np.nonzero(np.abs(frame) > WILDEST), frame[np.abs(frame) > WILDEST]
        return tamed(frame)

    def with_wild(self, n: int, region: Region, result: Frame) -> Frame:
        """A result with the source's own wild values, which no treatment can reckon with, in their places."""
        if n not in self._wild:
            return result
        whole = np.full((self.info.height, self.info.width, 3), np.nan, np.float32)
        whole[self._wild[n][0]] = self._wild[n][1]
        part = whole[region.slices]
        return np.where(np.isnan(part), result, part)

    def motion(self, n: int, neighbour: int) -> Track:
        """Motion from frame n to a neighbour, checked against the way back."""

        def checked() -> Track:
            return self._flow(n, neighbour).checked(self._flow(neighbour, n))

        return self.kept(("track", n, neighbour), checked, lambda track: track.field.nbytes)

    def _flow(self, n: int, neighbour: int) -> Flow:
        def found() -> Flow:
            return flow(self._luma(n), self._luma(neighbour), self.info.width)

        return self.kept(("flow", n, neighbour), found, lambda found: found.vectors.nbytes)

    def _luma(self, n: int) -> npt.NDArray[np.uint8]:
        return self.kept(("luma", n), lambda: prepared(self.frame(n)), _bytes)


def _bytes(array: npt.NDArray[Any]) -> int:
    return array.nbytes


class Pipeline:
    """A plan applied to footage. `stopped` is asked between pieces of work and ends it early."""

    def __init__(self, footage: Footage, plan: Plan, *, stopped: StopCheck = never) -> None:
        self.footage, self.plan, self._stopped = footage, plan, stopped
        self._steps = [step for step in plan.steps if step.acts]
        needs = [step.treatment.need(step.parameters) for step in self._steps]
        footage.hold(1 + sum(need.back + need.ahead for need in needs))
        counts = [k + 1 for k, step in enumerate(plan.steps) if step.acts]
        self._digests = [plan.digest(count) for count in counts]

    def until(self, stopped: StopCheck) -> Pipeline:
        """This pipeline, caches shared, that ends when `stopped` says so."""
        twin = copy(self)
        twin._stopped = stopped
        return twin

    def over(self, footage: Footage) -> Pipeline:
        """The same plan over other footage of the same size."""
        twin = copy(self)
        twin.footage = footage
        return twin

    @property
    def profile(self) -> NoiseProfile:
        assert self.plan.profile is not None  # a plan with steps has one, by its schema
        return self.plan.profile

    @cached_property
    def stabiliser(self) -> Stabiliser:
        return Stabiliser.of(self.profile)

    def motion(self, n: int, neighbour: int) -> Track:
        return self.footage.motion(n, neighbour)

    def frame(self, n: int, region: Region | None = None, scale: float = 1.0) -> Frame:
        """Frame n of the result, R'G'B' float32, of a region (default: all of it), reduced by `scale`."""
        region = self._checked(n, region)
        result = self.footage.with_wild(n, region, self._pulled(len(self._steps), n, region).rgb)
        return scaled(self.plan.look.applied(result), scale)

    def noise_left(self, n: int, region: Region | None = None) -> tuple[float, float]:
        """What the steps believe to have left of the noise's deviation: shares of luma and of chroma."""
        picture = self._pulled(len(self._steps), n, self._checked(n, region))
        luma_share, chroma_share = np.sqrt(picture.noise.mean(axis=(1, 2)))
        return float(luma_share), float(chroma_share)

    def source_frame(self, n: int, region: Region | None = None, scale: float = 1.0) -> Frame:
        """The same piece of the source."""
        region = self._checked(n, region)
        return scaled(self.footage.with_wild(n, region, self.footage.frame(n)[region.slices]), scale)

    def matte(self, step: int, n: int, region: Region | None = None, scale: float = 1.0) -> Array:
        """Where step number `step` of the plan (counted from 0, acting or not) acts in frame n: H×W, 0-1."""
        region = self._checked(n, region)
        reach = self.plan.step(step).reach
        wider = region.grown(reach.margin)
        before = self._extended(self._depth(step), n, wider)
        whole = matte(reach, before.rgb, self.profile.curve, n, wider.x, wider.y)
        return scaled(whole[region.within(wider).slices], scale)

    def before(self, step: int, n: int, region: Region) -> Frame:
        """What step number `step` starts from in frame n, over a region."""
        return self._pulled(self._depth(step), n, self._checked(n, region)).rgb

    def _depth(self, step: int) -> int:
        """How many steps act before step number `step`."""
        return sum(s.acts for s in self.plan.steps[:step])

    def _checked(self, n: int, region: Region | None) -> Region:
        if not 0 <= n < self.footage.info.frames:
            raise BadInput(f"frame {n} does not exist; the shot has frames 0 to {self.footage.info.frames - 1}.")
        region = (region or self.footage.whole).clipped(self.footage.info.width, self.footage.info.height)
        if not (region.width and region.height):
            raise BadInput("the region lies outside the frame; choose one that overlaps it.")
        return region

    def _pulled(self, depth: int, n: int, region: Region) -> Picture:
        """Frame n after the first `depth` acting steps, over a region inside the frame."""
        raise_if(self._stopped)
        if depth == 0:
            return Picture.untouched(np.ascontiguousarray(self.footage.frame(n)[region.slices]))
        asked = self._digests[depth - 1], n, region
        return self.footage.kept(asked, lambda: self._treated(depth, n, region), _picture_bytes)

    def _treated(self, depth: int, n: int, region: Region) -> Picture:
        step = self._steps[depth - 1]
        parameters = step.parameters
        need = step.treatment.need(parameters)
        wider = region.grown(max(need.margin, step.reach.margin)).snapped(need.grid)
        here = self._extended(depth - 1, n, wider)
        kept = region.within(wider)
        before = here.part(kept)
        where = None
        if not step.reach.everywhere:
            where = matte(step.reach, here.rgb, self.profile.curve, n, wider.x, wider.y)[kept.slices]
            if not where.any():
                return before
        first, last = max(n - need.back, 0), min(n + need.ahead, self.footage.info.frames - 1)
        window = Window(
            n=n,
            x=wider.x,
            y=wider.y,
            here=here,
            wanted=kept,
            neighbours=tuple(k for k in range(first, last + 1) if k != n),
            pull=lambda k: self._extended(depth - 1, k, wider),
        )
        return _mixed(step, where, before, step.treatment.apply(parameters, window, self))

    def _extended(self, depth: int, n: int, wanted: Region) -> Picture:
        """A region that may reach beyond the frame, where the picture is mirrored outwards."""
        inside = wanted.clipped(self.footage.info.width, self.footage.info.height)
        picture = self._pulled(depth, n, inside)
        noise = np.stack([extended(plane, inside, wanted) for plane in picture.noise])
        return Picture(extended(picture.rgb, inside, wanted), noise)


def _picture_bytes(picture: Picture) -> int:
    return picture.rgb.nbytes + picture.noise.nbytes


def _mixed(step: Step, where: Array | None, before: Picture, after: Picture) -> Picture:
    """Mix the step with what it started from: as much as its Mix, its channels and its matte say."""
    channels = np.array([step.channels.r, step.channels.g, step.channels.b], np.float32) / 100
    if where is None and step.mix == 100 and (channels == 1).all():
        return after
    part = np.float32(step.mix / 100) * (np.ones(before.rgb.shape[:2], np.float32) if where is None else where)
    share = part[..., None] * channels
    rgb = before.rgb + share * (after.rgb - before.rgb)
    rgb = np.where(share == 1, after.rgb, rgb)
    # What is left of the noise after a step is a part of the noise before it, so deviations add.
    of_noise = np.stack([part * (channels @ LUMA_WEIGHTS), part * channels.mean()])
    deviation = (1 - of_noise) * np.sqrt(before.noise) + of_noise * np.sqrt(after.noise)
    return Picture(rgb, deviation**2)
