"""What a finding is, and what a detector of findings looks at."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt
from pydantic import BaseModel, ConfigDict, Field

from ...colour.grey import grey_curve
from ...colour.input_space import encoding_of
from ...frames import CV_SCALE, Array, Frame
from ...media import MediaInfo, Source
from ...noise.profile import NoiseCurve
from ..blur import EdgeBlur, Mask, cut, edge_blur
from ..edge import Edge, find_edges
from ..following import calmed, stilled


class Place(BaseModel):
    """A region of a frame, in pixels."""

    model_config = ConfigDict(frozen=True)

    x: int
    y: int
    width: int
    height: int


class Spot(Place):
    """A place in one frame."""

    frame: int


MOST_SPOTS = 200

LEAST_SIGMA_CV = 0.5
"""Noise is taken for no less in light, so that a ripple that nobody sees is no edge."""

LEAST_OFTEN = 0.25
"""Share of the frames looked at that have to show what lasts: what a codec leaves of noise forms contours in the
dark and coloured waves in one frame or another, which are gone in the next."""


def whole_frames(frames: Sequence[int], info: MediaInfo) -> list[Spot]:
    """Spots of frames that are at fault as a whole."""
    return [Spot(frame=n, x=0, y=0, width=info.width, height=info.height) for n in frames]


class Finding(BaseModel):
    """One measured fault with its unit, tolerance and place. `detail` says the rest in words, `form` which of its
    kind it is, where what treats it has to know; `spots` lists single places where the fault is made of such (at
    most `MOST_SPOTS`)."""

    model_config = ConfigDict(frozen=True, allow_inf_nan=False)

    kind: str
    value: float
    unit: str
    tolerance: float
    confidence: float = Field(ge=0, le=1)
    frame: int
    region: Place | None = None
    detail: str = ""
    form: str = ""
    spots: list[Spot] = []

    @property
    def outside(self) -> bool:
        """Whether the finding still lies outside its tolerance."""
        return self.value > self.tolerance


@dataclass(frozen=True, slots=True)
class Said:
    """What the file tells of a frame besides its picture: what the decoder says is wrong with it, and the mean RMS
    error that the codec was let make in luma, in frame units (NaN where it does not tell)."""

    damage: str = ""
    coding_error: float = np.nan


def said_of(source: Source, n: int, *, wanted: bool) -> Said:
    """What a file tells of frame n, once it was read; of the codec's error only where the frame is wanted."""
    error = source.coding_error(n) if wanted else None
    return Said(source.damage(n), np.nan if error is None else float(error.mean()))


@dataclass(frozen=True)
class Glance:
    """The luma of a frame as detectors see it, with its neighbours' (None at the ends of the shot)."""

    n: int
    info: MediaInfo
    luma: Array
    before: Array | None
    after: Array | None
    curve: NoiseCurve
    said: Said = Said()


@dataclass(frozen=True, kw_only=True)
class Look(Glance):
    """The same with the whole frame, and what is found in it for several detectors."""

    frame: Frame

    @cached_property
    def sigma(self) -> Array:
        """Luma noise of every pixel, by its level."""
        return self.curve.sigma_at(self.luma, "luma")

    @cached_property
    def calmed(self) -> tuple[Array, Array]:
        """The luma averaged with its neighbours' where they show the same, and the noise that is left; a quiet
        frame's as it is."""
        return calmed(self.luma, (self.before, self.after), self.sigma)

    def in_light(self, plane: Array, noise: Array) -> tuple[Array, Array, Mask]:
        """A plane of the frame and its noise in linear light, and where it is cut off."""
        curve = grey_curve(encoding_of(self.info).space)
        sigma = np.maximum(noise, np.float32(LEAST_SIGMA_CV / CV_SCALE)) * curve.slope(plane)
        return curve.light(plane), sigma, cut(self.frame, self.info.transfer)

    @cached_property
    def still(self) -> tuple[Array, Array, Mask]:
        """The same of the luma without what does not stand out of its noise."""
        return self.in_light(*stilled(*self.calmed))

    @cached_property
    def blur(self) -> EdgeBlur:
        """The edges of the picture, whatever way they run, and how blurred each is."""
        return edge_blur(*self.still)

    @cached_property
    def edges(self) -> list[Edge]:
        """The straight edges of the picture."""
        return find_edges(self.luma, self.sigma)


@dataclass(frozen=True, slots=True)
class Detector:
    """Finds one kind of fault. `observe` looks at a frame and keeps little; `conclude` gets all that was
    kept, in the order of the frames, and gives the finding. With `every_frame` it gets a `Glance` at all
    frames and keeps a tuple of as many numbers of each, else a `Look` at a spread of them."""

    kind: str
    unit: str
    tolerance: float
    order: int
    observe: Callable[[Any], Any]
    conclude: Callable[[Sequence[tuple[int, Any]], MediaInfo], Finding]
    every_frame: bool = False
    beside: int = 0
    """Frames to each side of one that have to be looked at too before anything can be told of it."""
    about_source: bool = False
    """Whether it speaks of where the file comes from rather than of the picture."""
    told_by_file: bool = False
    """Whether it is read off the file's stream, so that no result has it before it is written."""
    also_originals: bool = False
    """Whether a camera's own file may show it, so that it says nothing against its being the original."""
    instead: str = ""
    """What to do about it where no treatment takes it."""

    def finding(
        self, value: float, frame: int, *, confidence: float = 1.0, region: Place | None = None, detail: str = "",
        form: str = "", spots: Sequence[Spot] = (),
    ) -> Finding:  # fmt: skip
        return Finding(
            kind=self.kind,
            value=value,
            unit=self.unit,
            tolerance=self.tolerance,
            confidence=min(max(confidence, 0.0), 1.0),
            frame=frame,
            region=region,
            detail=detail,
            form=form,
            spots=list(spots[:MOST_SPOTS]),
        )


def densest(mask: npt.NDArray[np.bool_] | np.bool_, side: int = 64) -> Place | None:
    """The square of a 0-1 map that holds most of it, or None where the map is empty."""
    mask = np.asarray(mask)
    height, width = mask.shape
    if not mask.any():
        return None
    side = min(side, height, width)
    sums = cv2.boxFilter(mask.astype(np.float32), -1, (side, side), normalize=False, borderType=cv2.BORDER_CONSTANT)
    y, x = divmod(int(sums.argmax()), width)
    left = min(max(x - side // 2, 0), width - side)
    top = min(max(y - side // 2, 0), height - side)
    return Place(x=left, y=top, width=side, height=side)


CutOff = tuple[float, list[float], Place | None]
"""Percent of the pixels that are cut off, percent of each channel, and where most of it lies."""

NEARLY = 0.04
"""How close to the limit all channels of a pixel are that is cut off: one in which a channel alone reaches it is of
a saturated colour, as petals and signals are meant to be, and the others still hold its shape."""


def cut_off(depth: Array) -> CutOff:
    """What an H×W×3 map amounts to of how far each sample lies inside the limit: below 0 it is cut off."""
    cut = depth <= 0
    near = depth <= NEARLY
    pixels = (cut[..., 0] | cut[..., 1] | cut[..., 2]) & near[..., 0] & near[..., 1] & near[..., 2]
    return 100 * float(pixels.mean()), [100 * float(cut[..., c].mean()) for c in range(3)], densest(pixels)


def worst_cut_off(detector: Detector, seen: Sequence[tuple[int, CutOff]], where: str) -> Finding:
    """The finding of the frame that loses most."""
    worst, (share, (red, green, blue), place) = max(seen, key=lambda item: item[1][0])
    detail = f"R {red:.2f} %, G {green:.2f} %, B {blue:.2f} % at {where}"
    return detector.finding(share, worst, region=place, detail=detail)
