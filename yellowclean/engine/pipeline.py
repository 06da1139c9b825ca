"""Frames are pulled: each step asks the one before for just the frames and pixels that it needs.

One path serves a corner at 400 %, a parked frame, a scope and a render. A region comes out exactly
as the same region of the whole frame, because every step is handed its margins, regions start on
the step's block grid, and kernels add in an order that depends on the position in the frame alone.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from copy import copy
from dataclasses import dataclass
from functools import cached_property
from typing import TypeVar

import cv2
import numpy as np

from .colour.look import Look
from .errors import BadInput
from .footage import Footage
from .format import Format
from .frames import LUMA_WEIGHTS, Array, Frame, Region, StopCheck, never, raise_if, scaled
from .measure.behind import SIDE, profile_behind
from .motion import Track
from .noise.profile import NoiseProfile
from .noise.stabilise import POINTS, Stabiliser
from .plan import Plan, Step
from .reach.matte import matte
from .reach.model import Reach
from .treat import Around, Course, Mark, Need, Picture, Window

T = TypeVar("T")

LEAST_JUDGED = 16
"""Pixels a side of what is judged: in less, chance is all there is."""


COLOUR_CELLS = 15, 10
"""Places across and down whose colours a step that mixes channels is shown."""

SMALL_BYTES = 64 << 10
"""What a value that a step keeps is counted as, where the step does not say."""

PLAIN = Look()


class Pipeline:
    """A plan applied to footage. `stopped` is asked between pieces of work and ends it early.

    Regions are asked for in pixels of the source, whatever the size of the result. What comes is the smallest piece
    of the result that covers them (`covered` says where it lies), in the result's own pixels.
    """

    def __init__(self, footage: Footage, plan: Plan, *, stopped: StopCheck = never) -> None:
        self.footage, self.plan, self._stopped = footage, plan, stopped
        self._steps = [step for step in plan.steps if step.acts]
        counts = [k + 1 for k, step in enumerate(plan.steps) if step.acts]
        self._digests = [plan.digest(count) for count in counts]
        self.formats = plan.formats(Format.of(footage.info))
        needs = [step.treatment.need(step.parameters) for step in self._steps]
        # Of the source the frame itself and the one that is read ahead; of all, what is looked at beside.
        frames = [2, *(need.back + need.ahead for need in needs)]
        shown = zip(frames, [self.formats[0], *self.formats], strict=False)
        footage.hold(sum(count * form.width * form.height for count, form in shown))

    def until(self, stopped: StopCheck) -> Pipeline:
        """This pipeline, caches shared, that ends when `stopped` says so."""
        twin = copy(self)
        twin._stopped = stopped
        return twin

    def over(self, footage: Footage) -> Pipeline:
        """The same plan over other footage of the same format."""
        twin = copy(self)
        twin.footage = footage
        return twin

    def following(self, plan: Plan) -> Pipeline:
        """Another plan over the same footage, ended alike."""
        return Pipeline(self.footage, plan, stopped=self._stopped)

    def first(self, count: int) -> Pipeline:
        """The first so many of the steps that act, alone."""
        return self.following(self.plan.model_copy(update={"steps": self._steps[:count], "look": PLAIN}))

    @property
    def format(self) -> Format:
        """That of the result."""
        return self.formats[-1]

    @property
    def reference(self) -> Pipeline:
        """What the result is held against: the source, brought into the result's format by the steps that reshape
        alone."""
        return self.following(self.plan.reshaping())

    @property
    def mended(self) -> Pipeline:
        """What the work on noise and detail is held against: the reference after the steps that mend."""
        return self.following(self.plan.mending())

    @property
    def around(self) -> Standpoint:
        """Noise and motion as the result has them."""
        return self._standpoint(len(self._steps))

    def frame(self, n: int, region: Region | None = None, scale: float | None = None) -> Frame:
        """Frame n of the result, R'G'B' float32, of a region (default: all of it), reduced to `scale` pixels for
        one of the source (default: as many as there are)."""
        region = self._checked(n, region)
        result = self._pulled(len(self._steps), n, self.covered(region)).rgb
        return self._reduced(self._finished(n, region, result), self.format, scale)

    def known(self, n: int, region: Region) -> Frame | None:
        """The same without any work of the steps: None where they have not made that piece, or not kept it."""
        region = self._checked(n, region)
        if not self._steps:
            return self.frame(n, region)
        covered, made_by = self.covered(region), self._digests[-1]

        def holds(key: Hashable) -> bool:
            if not (isinstance(key, tuple) and key[:2] == (made_by, n)):
                return False
            return bool(key[2].holds(covered))

        found = self.footage.held(holds)
        if found is None:
            return None
        (_, _, held), picture = found
        return self._finished(n, region, picture.rgb[covered.within(held).slices])

    def _finished(self, n: int, region: Region, result: Frame) -> Frame:
        """What the steps made, with the source's wild values and under the look."""
        if not any(step.treatment.reshapes for step in self._steps):
            result = self.footage.with_wild(n, region, result)
        return self.seen_under(self.plan.look).applied(result)

    def seen_under(self, look: Look) -> Look:
        """A look for the shot as it stands for the result, whose values may be of another encoding."""
        return look.behind(self.formats[0].encoding.space, self.format.encoding.space)

    def covered(self, region: Region) -> Region:
        """The piece of the result that covers a region of the source, in the result's pixels."""
        return self._covered(len(self._steps), region)

    def large_enough(self, region: Region | None) -> Region:
        """A region of the source (default: all of it) in which the result can be judged. Raises `BadInput`."""
        inside = (region or self.footage.whole).clipped(self.footage.info.width, self.footage.info.height)
        for piece in (inside, self.covered(inside)):
            if piece.shortest < LEAST_JUDGED:
                raise BadInput(
                    f"a region of {piece.width}×{piece.height} pixels is too small to be judged;"
                    f" choose one of at least {LEAST_JUDGED}×{LEAST_JUDGED} inside the frame."
                )
        return inside

    def noise_left(self, n: int, region: Region | None = None) -> tuple[float, float]:
        """What the steps believe to have left of the noise's deviation: shares of luma and of chroma."""
        picture = self._pulled(len(self._steps), n, self.covered(self._checked(n, region)))
        luma_share, chroma_share = np.sqrt(picture.noise.mean(axis=(1, 2)))
        return float(luma_share), float(chroma_share)

    def source_frame(self, n: int, region: Region | None = None, scale: float | None = None) -> Frame:
        """The same piece of the source."""
        region = self._checked(n, region)
        piece = self.footage.with_wild(n, region, self.footage.frame(n)[region.slices])
        return self._reduced(piece, self.formats[0], scale)

    def matte(self, step: int, n: int, region: Region | None = None, scale: float | None = None) -> Array:
        """Where step number `step` of the plan (counted from 0, acting or not) acts in frame n: H×W, 0-1, in the
        format that the step is handed."""
        depth, reach = self._depth(step), self.plan.step(step).reach
        piece = self._covered(depth, self._checked(n, region))
        wider = piece.grown(reach.margin)
        here = self._extended(depth, n, wider)
        whole = self._matte(depth, reach, here, n, wider)
        return self._reduced(whole[piece.within(wider).slices], self.formats[depth], scale)

    def own_view(
        self, step: int, name: str, n: int, region: Region | None = None, scale: float | None = None
    ) -> Array:
        """A view that step number `step` offers of its own work: H×W or H×W×3, 0-1, in the format that the step is
        handed. Raises `BadInput` where it offers none of that name."""
        asked = self.plan.step(step)
        view = next((view for view in asked.treatment.views if view.name == name), None)
        if view is None:
            names = ", ".join(v.name for v in asked.treatment.views) or "none"
            raise BadInput(f"{asked.kind} has no view {name!r}; it has {names}.")
        window, around = self.handed(step, n, region)
        return self._reduced(view.draw(asked.parameters, window, around), window.given, scale)

    def handed(self, step: int, n: int, region: Region | None = None) -> tuple[Window, Around]:
        """What step number `step` is handed for its work on frame n, in the format that it is handed."""
        depth = self._depth(step)
        given, piece = self.formats[depth], self._covered(depth, self._checked(n, region))
        return self._window(depth, self.plan.step(step), n, piece, given, given), self._standpoint(depth)

    def course(self, step: int, frames: range) -> Course:
        """What step number `step` changes over time, in consecutive frames. Raises `BadInput` where it changes
        nothing that a curve could show, and for frames that there are none of."""
        asked = self.plan.step(step)
        if asked.treatment.course is None:
            raise BadInput(f"{asked.kind} has no curve over time.")
        for n in (frames.start, frames.stop - 1):
            self._checked(n, None)
        return asked.treatment.course(asked.parameters, frames, self._standpoint(self._depth(step)))

    def marks(self, step: int, n: int) -> list[Mark]:
        """What step number `step` found in frame n, one by one. Raises `BadInput` where it looks for no things."""
        asked = self.plan.step(step)
        if asked.treatment.marks is None:
            raise BadInput(f"{asked.kind} finds no single things.")
        self._checked(n, None)
        return asked.treatment.marks(asked.parameters, n, self._standpoint(self._depth(step)))

    def before(self, step: int, n: int, region: Region) -> Frame:
        """What step number `step` starts from in frame n, over a region."""
        depth = self._depth(step)
        return self._pulled(depth, n, self._covered(depth, self._checked(n, region))).rgb

    def _covered(self, depth: int, region: Region) -> Region:
        """The piece that covers a region of the source in the frame behind the first `depth` acting steps."""
        form = self.formats[depth]
        return form.covering(region, self.formats[0]).clipped(form.width, form.height)

    def _depth(self, step: int) -> int:
        """How many steps act before step number `step`."""
        return sum(s.acts for s in self.plan.steps[:step])

    def _reduced(self, picture: Array, form: Format, scale: float | None) -> Array:
        """A picture of a format, in no more than `scale` pixels to one of the source."""
        if scale is None:
            return picture
        across, down = form.per_pixel_of(self.formats[0])
        return scaled(picture, scale / across, scale / down)

    def _checked(self, n: int, region: Region | None) -> Region:
        if not 0 <= n < self.footage.info.frames:
            raise BadInput(f"frame {n} does not exist; the shot has frames 0 to {self.footage.info.frames - 1}.")
        region = (region or self.footage.whole).clipped(self.footage.info.width, self.footage.info.height)
        if not (region.width and region.height):
            raise BadInput("the region lies outside the frame; choose one that overlaps it.")
        return region

    def _standpoint(self, depth: int) -> Standpoint:
        return Standpoint(self.footage, self.plan, self._steps[:depth], self.formats[: depth + 1])

    def _pulled(self, depth: int, n: int, region: Region) -> Picture:
        """Frame n after the first `depth` acting steps, over a region of the frame that they hand on."""
        raise_if(self._stopped)
        if depth == 0:
            return Picture.untouched(np.ascontiguousarray(self.footage.frame(n)[region.slices]))
        asked = self._digests[depth - 1], n, region
        return self.footage.kept(asked, lambda: self._treated(depth, n, region), _picture_bytes)

    def _treated(self, depth: int, n: int, region: Region) -> Picture:
        step, around = self._steps[depth - 1], self._standpoint(depth - 1)
        window = self._window(depth - 1, step, n, region, self.formats[depth - 1], self.formats[depth])
        if step.treatment.reshapes:
            return step.treatment.apply(step.parameters, window, around)
        where = None
        if not step.reach.everywhere:
            whole = self._matte(depth - 1, step.reach, window.here, n, window.place)
            where = whole[window.inside.slices]
            if not where.any():
                return window.here.part(window.inside)
        after = step.treatment.apply(step.parameters, window, around)
        if step.unmixed and where is None:
            return after
        return _mixed(step, where, window.here.part(window.inside), after)

    def _window(self, depth: int, step: Step, n: int, wanted: Region, given: Format, handed: Format) -> Window:
        """What a step behind the first `depth` ones works on to deliver a region of the frame that it hands on."""
        need = step.treatment.need(step.parameters)
        place = place_for(wanted, need, max(need.margin, step.reach.margin), given, handed)
        first, last = max(n - need.back, 0), min(n + need.ahead, self.footage.info.frames - 1)
        return Window(
            n=n,
            given=given,
            handed=handed,
            place=place,
            here=self._extended(depth, n, place),
            wanted=wanted,
            neighbours=tuple(k for k in range(first, last + 1) if k != n),
            pull=lambda k: self._extended(depth, k, place),
        )

    def _matte(self, depth: int, reach: Reach, here: Picture, n: int, place: Region) -> Array:
        curve = self._standpoint(depth).profile.curve
        return matte(reach, here.rgb, curve, n, place.x, place.y, self.formats[depth].per_pixel_of(self.formats[0]))

    def _extended(self, depth: int, n: int, wanted: Region) -> Picture:
        """A region that may reach beyond the frame, where the picture is mirrored outwards."""
        inside = wanted.clipped(self.formats[depth].width, self.formats[depth].height)
        return self._pulled(depth, n, inside).extended(inside, wanted)


def place_for(wanted: Region, need: Need, margin: int, given: Format, handed: Format) -> Region:
    """The region of the frame handed in that a step looks at to deliver one of the frame that it hands on."""
    return given.covering(wanted.grown(need.beyond), handed).grown(margin).snapped(need.grid)


@dataclass(frozen=True)
class Standpoint:
    """Noise and motion as they are behind some steps of a plan, in the format that the last of them hands on."""

    footage: Footage
    plan: Plan
    steps: list[Step]
    formats: list[Format]

    @property
    def profile(self) -> NoiseProfile:
        return self._once("profile", self._found_profile)

    def _found_profile(self) -> NoiseProfile:
        found = self.plan.profile
        assert found is not None  # a plan with steps has one, by its schema
        for k, step in enumerate(self.steps):
            if step.treatment.reshapes:
                found = self._behind(k, found)
        return found

    @property
    def stabiliser(self) -> Stabiliser:
        def found() -> Stabiliser:
            told = "stabiliser", self._told(len(self.steps))  # takes long enough not to be told each time
            return self.footage.kept(told, lambda: Stabiliser.of(self.profile), lambda _: 9 * 4 * POINTS)

        return self._once("stabiliser", found)

    def _once(self, name: str, make: Callable[[], T]) -> T:
        """A value of this standpoint. By hand: `cached_property` holds one lock for all standpoints while it makes
        one, and what is made here may wait for a frame that another thread makes from another standpoint."""
        held = self.__dict__
        if f"_{name}" not in held:
            held[f"_{name}"] = make()
        found: T = held[f"_{name}"]
        return found

    def motion(self, n: int, neighbour: int) -> Track:
        """Motion of the source, in pixels of the format."""
        return self.footage.motion(n, neighbour).scaled(*self.formats[-1].per_pixel_of(self.formats[0]))

    def steadied(self, n: int, neighbour: int, among: Sequence[int] = (), error: float = 0.0) -> Track:
        """The same, the camera's own motion wherever that explains the picture about as well."""
        track = self.footage.steadied(n, neighbour, among, error)
        return track.scaled(*self.formats[-1].per_pixel_of(self.formats[0]))

    def coding_error(self, n: int) -> Array | None:
        """The codec's error in frame n of the source, in the pixels of the format."""
        error = self.footage.coding_error(n)
        size = self.format.width, self.format.height
        if error is None or error.shape[::-1] == size:
            return error
        return np.asarray(cv2.resize(error, size, interpolation=cv2.INTER_LINEAR), np.float32)

    @property
    def format(self) -> Format:
        return self.formats[-1]

    @property
    def frames(self) -> int:
        return self.footage.info.frames

    def whole(self, n: int) -> Frame:
        """All of frame n behind the steps; callers must not write into it."""
        return self._pipeline.frame(n) if self.steps else self.footage.frame(n)

    def unreduced(self, n: int) -> Frame:
        """The same without the steps that take noise or change detail."""
        return self._pipeline.mended.frame(n)

    def without_part_in(self, n: int, *, reshaping: bool = False) -> list[int]:
        """The frames that those steps (and the `reshaping` ones, if asked for) do not look at to make frame n, the
        nearest first."""
        working = [s for s in self.steps if not s.treatment.mends and (reshaping or not s.treatment.reshapes)]
        needs = [step.treatment.need(step.parameters) for step in working]
        apart = sum(max(need.back, need.ahead) for need in needs) + 1
        return [k for away in range(apart, self.frames) for k in (n - away, n + away) if 0 <= k < self.frames]

    def kept(self, key: Hashable, make: Callable[[], T], size_of: Callable[[T], int] = lambda _: SMALL_BYTES) -> T:
        """A value of the shot behind the steps, made once."""
        return self.footage.kept(("measured", self._pipeline.plan.digest(), key), make, size_of)

    @cached_property
    def _pipeline(self) -> Pipeline:
        return Pipeline(self.footage, self.plan.model_copy(update={"steps": self.steps, "look": PLAIN}))

    def _behind(self, k: int, profile: NoiseProfile) -> NoiseProfile:
        """The profile behind step k, found by showing it noise."""
        step, given, handed = self.steps[k], self.formats[k], self.formats[k + 1]
        need, wanted = step.treatment.need(step.parameters), Region(0, 0, SIDE, SIDE)
        place = place_for(wanted, need, need.margin, given, handed)
        here = Standpoint(self.footage, self.plan, self.steps[:k], self.formats[: k + 1])

        def through(rgb: Frame) -> Frame:
            picture = Picture.untouched(rgb)
            window = Window(0, given, handed, place, picture, wanted, (), lambda _: picture)
            return step.treatment.apply(step.parameters, window, here).rgb

        def found() -> NoiseProfile:
            of_colour = (given.width, given.height) == (handed.width, handed.height)
            return profile_behind(profile, place, through, here._colours() if of_colour else None)

        return self.footage.kept(("profile", self._told(k + 1)), found, lambda _: 1 << 16)

    def _colours(self) -> Array:
        """Colours of the middle of the shot, N×3: means of as many places."""
        frame = np.ascontiguousarray(self.whole(self.frames // 2))
        return cv2.resize(frame, COLOUR_CELLS, interpolation=cv2.INTER_AREA).reshape(-1, 3)

    def _told(self, steps: int) -> str:
        """What names the format and the noise behind the first steps."""
        reshaping = [s for s in self.steps[:steps] if s.treatment.reshapes]
        return Plan(profile=self.plan.profile, steps=reshaping).digest() if reshaping else repr(self.plan.profile)


def _picture_bytes(picture: Picture) -> int:
    return picture.rgb.nbytes + (0 if picture.even else picture.noise.nbytes)


def _mixed(step: Step, where: Array | None, before: Picture, after: Picture) -> Picture:
    """Mix the step with what it started from: as much as its Mix, its channels and its matte say."""
    channels = np.array([step.channels.r, step.channels.g, step.channels.b], np.float32) / 100
    part = np.float32(step.mix / 100) * (np.ones(before.rgb.shape[:2], np.float32) if where is None else where)
    share = part[..., None] * channels
    rgb = before.rgb + share * (after.rgb - before.rgb)
    rgb = np.where(share == 1, after.rgb, rgb)
    # What is left of the noise after a step is a part of the noise before it, so deviations add.
    of_noise = np.stack([part * (channels @ LUMA_WEIGHTS), part * channels.mean()])
    deviation = (1 - of_noise) * np.sqrt(before.noise) + of_noise * np.sqrt(after.noise)
    return Picture(rgb, deviation**2)
