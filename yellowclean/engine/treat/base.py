"""What a treatment is: a parameter model, what it needs around a pixel, and functions."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol, TypeVar

import numpy as np
from pydantic import BaseModel

from ..format import Format
from ..frames import Array, Frame, Region, extended
from ..motion import Track
from ..noise.profile import NoiseProfile
from ..noise.stabilise import Stabiliser
from ..parameters import Parameters
from .case import Case, Proposal

T = TypeVar("T")

MARKED = np.array([1.0, 0.85, 0.2], np.float32)
"""Colour in which views draw what is still a fault."""

DIMMED = np.float32(0.35)
"""How the picture lies under what views draw."""


def over_dimmed(grey: Array, share: Array) -> Frame:
    """A grey picture, H×W, dimmed, and `share` of it (H×W, 0-1) in the colour of faults."""
    grey, share = np.clip(grey, 0, 1)[..., None], share[..., None]
    shown = DIMMED * grey * (1 - share) + MARKED * (DIMMED + (1 - DIMMED) * grey) * share
    return np.ascontiguousarray(shown, np.float32)


@dataclass(frozen=True, slots=True)
class Picture:
    """A frame on its way through a plan, with the noise that is left in it.

    `noise` (2×H×W) is the variance left in luma and in chroma as a share of the profile's: 1 is
    untouched. Later steps work only as hard as is still needed.
    """

    rgb: Frame
    noise: Array

    @staticmethod
    def untouched(rgb: Frame) -> Picture:
        return Picture(rgb, np.broadcast_to(np.float32(1), (2, *rgb.shape[:2])))

    @property
    def even(self) -> bool:
        """Whether what is left of the noise is one number, and kept as one."""
        return not any(self.noise.strides)

    def extended(self, inside: Region, wanted: Region) -> Picture:
        """Mirrored outwards: what covers `inside` made to cover `wanted`."""
        rgb = extended(self.rgb, inside, wanted)
        if self.even:
            return Picture(rgb, np.broadcast_to(self.noise[:, :1, :1], (2, *rgb.shape[:2])))
        return Picture(rgb, np.stack([extended(plane, inside, wanted) for plane in self.noise]))

    def part(self, region: Region) -> Picture:
        """A copy of a region."""
        rows, columns = region.slices
        noise = self.noise[:, rows, columns]
        return Picture(self.rgb[rows, columns].copy(), noise if self.even else noise.copy())


@dataclass(frozen=True, slots=True)
class Need:
    """What a step asks of the step before: frames back and ahead, pixels around, block grid. `beyond` are pixels
    around what is wanted in the frame that it hands on, where that has another size."""

    back: int = 0
    ahead: int = 0
    margin: int = 0
    grid: int = 1
    beyond: int = 0


class Around(Protocol):
    """What a treatment may ask the pipeline for, besides the pictures it was handed: all of the format in which it
    is handed them."""

    @property
    def profile(self) -> NoiseProfile: ...

    @property
    def stabiliser(self) -> Stabiliser: ...

    def motion(self, n: int, neighbour: int) -> Track:
        """Motion of the source from frame n to a neighbour."""

    def steadied(self, n: int, neighbour: int, among: Sequence[int] = (), error: float = 0.0) -> Track:
        """The same, the camera's own wherever that explains the picture about as well; where a codec made an
        `error` (RMS, of the value range), by the camera's pace over the frames `among`."""

    def coding_error(self, n: int) -> Array | None:
        """RMS error that the codec was let make in luma, H×W in frame units; None where the file does not tell."""

    @property
    def format(self) -> Format: ...

    @property
    def frames(self) -> int:
        """How many the shot has."""

    def whole(self, n: int) -> Frame:
        """All of frame n, as it is handed to the step."""

    def unreduced(self, n: int) -> Frame:
        """The same without what steps before took of noise or changed of detail."""

    def without_part_in(self, n: int) -> list[int]:
        """The frames that those steps did not look at to make frame n, the nearest first."""

    def kept(self, key: Hashable, make: Callable[[], T], size_of: Callable[[T], int] = ...) -> T:
        """A value that depends on the frames handed to the step and on `key`, made once. `size_of` tells its bytes;
        without it they are taken for few."""


@dataclass(frozen=True, slots=True)
class Window:
    """What a treatment works on: `here`, frame n over the region `place` of the frame that it is handed, and the
    numbers of the neighbours there are. A neighbour is pulled only when asked for, so that a step holds one at a
    time; beyond the ends of the shot there are none. `wanted` is what the step must deliver: a region of the frame
    that it hands on.
    """

    n: int
    given: Format
    handed: Format
    place: Region
    here: Picture
    wanted: Region
    neighbours: tuple[int, ...]
    pull: Callable[[int], Picture]

    @property
    def inside(self) -> Region:
        """What is wanted in coordinates of `here`, for steps that keep the format; the rest is their margin."""
        return self.wanted.within(self.place)

    def seen(self, grid: int) -> Region:
        """The window without what is mirrored beyond the frame, save what fills up a grid."""
        return self.place.clipped(self.given.width, self.given.height).snapped(grid)


@dataclass(frozen=True, slots=True)
class OwnView:
    """A view that a treatment offers of its own work: `draw` gives the wanted part of a window as H×W or H×W×3,
    0-1, in the format that the step is handed."""

    name: str
    title: str
    help: str
    draw: Callable[[Any, Window, Around], Array]


class Course(BaseModel):
    """A quantity over consecutive frames, as a step meets it, as it is meant to be, and as the step leaves it."""

    title: str
    unit: str
    first: int
    before: list[float]
    meant: list[float]
    after: list[float]


class Mark(BaseModel):
    """A single thing that a step found in a frame, and whether it treats it. `frame` is -1 for what is in all."""

    frame: int
    x: int
    y: int
    width: int
    height: int
    kind: str
    sure: float
    taken: bool

    @property
    def place(self) -> tuple[int, int, int]:
        """By which it is known again: the frame and the middle."""
        return self.frame, self.x + self.width // 2, self.y + self.height // 2


@dataclass(frozen=True, slots=True)
class Treatment:
    """One kind of step. `apply` returns the wanted part of its window. `hands_on` tells the format that comes of
    the one it is handed, where it changes size or colour; such a step acts on the whole frame. `propose` tells how
    it would treat a shot, None where it would not."""

    kind: str
    title: str
    treats: tuple[str, ...]
    order: int
    parameters: type[Parameters]
    need: Callable[[Any], Need]
    apply: Callable[[Any, Window, Around], Picture]
    hands_on: Callable[[Any, Format], Format] | None = None
    propose: Callable[[Case], Proposal | None] | None = None
    views: tuple[OwnView, ...] = ()
    course: Callable[[Any, range, Around], Course] | None = None
    """What it changes over time, for each frame of a range."""
    marks: Callable[[Any, int, Around], list[Mark]] | None = None
    """What it found in a frame, thing by thing. Such a treatment has a parameter `left` of places that it leaves,
    and one `drawn` of places that it treats though it did not find them."""
    mends: bool = False
    """Whether it takes away what no scene shows, frame by frame: other work is judged by what it leaves, and it by
    measures of its own."""
    restores: bool = False
    """Whether it brings detail back: it is judged by measures of its own, other work on the plan without it."""
    states: Callable[[Any, Format], list[str]] | None = None
    """The numbers that it goes by on frames of a format, in sentences."""
    early: str = ""
    """What goes wrong where it stands before steps that should come first."""
    worsens: dict[str, str] = field(default_factory=dict)
    """Findings outside their tolerance that speak against it, and why."""

    @property
    def reshapes(self) -> bool:
        """Whether it may change the format."""
        return self.hands_on is not None
