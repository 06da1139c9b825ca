"""Dense motion between frames: DIS optical flow (Kroeger, Timofte, Dai, Van Gool 2016) on clean luma.

Motion belongs to the shot, not to a step: it is found once for a pair of whole frames, at a size of
at most 960 pixels across, and every region of every step reads from it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from .camera import Camera
from .frames import Array, Frame, Region, luma

AnyArray = npt.NDArray[Any]

WORKING_WIDTH, SMALL_WIDTH = 960, 640
"""Flow is computed at no more than the first width, and at half of the size unless a picture is no wider than the
second: averaging also cleans the luma it is computed on."""


class Fineness(NamedTuple):
    """How closely flow is looked for: pixels by which luma is softened, the finest level of the library's pyramid
    (0: each pixel), the weight of smooth motion, and pixels of the patch in which standing still and motion are
    compared."""

    softened: float
    finest: int
    smoothness: float
    patch: int


WHOLE, REDUCED = Fineness(1.2, 2, 40.0, 17), Fineness(0.4, 1, 80.0, 13)
"""For a picture in its own size, and for one that was averaged down: motion on a quarter of the size in the end.
Finer and freer motion follows noise (set on test-camera clips, where this is 0.2 dB better than the library's finer
presets)."""

REFINEMENTS = 8
"""Rounds."""

STANDS, SAME_LIGHT = 0.5, 1.0
"""Share of a picture that rests from which on it counts as standing, and how far its mean may be off meanwhile, in
8-bit codes: under a fade everything differs, and standing still then seems as good as any motion."""

SLOW_PX = 8.0
"""Pixels a frame up to which motion is found over several frames about as well as over one."""

LEAST_FOLLOWED = 16
"""In pictures with a smaller side nothing is followed."""

LEAST_SIDE = 96
"""Smaller pictures are continued to this many pixels: the library's pyramid does not bear them."""

CAMERA_MARGIN, CAMERA_CODES, CAMERA_AROUND, CAMERA_AT_ALL = 1.5, 1.0, 4, 2.0
"""How much worse (as a ratio, and in 8-bit codes) the camera's own motion may explain a place than flow or standing
still; how many times as much around it counts too, and how much worse (as a ratio) it may be there: so that what is
smooth of a thing that moves by itself goes with that (set on coded clips)."""

REST_MARGIN, REST_CODES, NEAR_REST = 1.2, 0.1, 1.0
"""How much worse (as a ratio, and in 8-bit codes) standing still may be than motion; and the longest motion that
noise alone is thought to make, in pixels of the picture that flow is computed on."""


@dataclass(frozen=True, slots=True)
class Flow:
    """Where each pixel of a frame is found in a neighbour: H'×W'×2 (x, y) in full-size pixels."""

    vectors: Array
    reduction: float

    def checked(self, back: Flow) -> Track:
        """This motion with its doubt: how far from its start a pixel ends that goes along it and `back` again.
        What is hidden or uncovered does not come home."""
        there = _along(self.vectors / np.float32(self.reduction), back.vectors)
        doubt = _lengths(self.vectors + there)
        return Track(np.dstack([self.vectors, doubt]), (self.reduction, self.reduction))

    def at(self, x: AnyArray, y: AnyArray) -> Array:
        """The motion of some pixels of the frame (N): N×2."""
        places = ((side[:, None] + 0.5) / self.reduction - 0.5 for side in (x, y))
        across, down = (place.astype(np.float32) for place in places)
        field = self.vectors.astype(np.float32)
        return cv2.remap(field, across, down, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)[:, 0]

    def typical(self) -> float:
        """90th percentile of the displacement in pixels."""
        return float(np.percentile(np.hypot(self.vectors[..., 0], self.vectors[..., 1]), 90))


@dataclass(frozen=True, slots=True)
class Track:
    """H'×W'×3: where each pixel is found in a neighbour (x, y), and the doubt about it, in full-size pixels."""

    field: Array
    reduction: tuple[float, float]
    """Full-size pixels to one of the field, across and down."""

    def over(self, place: Region) -> Array:
        """Motion and doubt of each pixel of a place: H×W×3."""
        y, x = np.indices((place.height, place.width), np.float32)
        across, down = (np.float32(reduction) for reduction in self.reduction)
        fx = (x + place.x + np.float32(0.5)) / across - np.float32(0.5)
        fy = (y + place.y + np.float32(0.5)) / down - np.float32(0.5)
        return cv2.remap(self.field, fx, fy, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)

    def scaled(self, across: float, down: float) -> Track:
        """The same motion of a picture that has so many times the pixels."""
        if across == down == 1:
            return self
        times = np.array([across, down, np.sqrt(across * down)], np.float32)
        return Track(self.field * times, (self.reduction[0] * across, self.reduction[1] * down))


class Movement(NamedTuple):
    """How a clip moves: the 90th percentile of the motion between frames in pixels, and the share of the
    picture that stands still."""

    px: float
    standing: float = 0.0

    @property
    def slow(self) -> bool:
        """Whether what lies several frames apart can still be compared without missing much."""
        return self.standing >= STANDS or self.px <= SLOW_PX

    @staticmethod
    def of(lengths: Array) -> Movement:
        return Movement(float(np.percentile(lengths, 90)), float((lengths == 0).mean()))


def reduction_for(width: int) -> float:
    """By how much a frame of that width is reduced for motion."""
    return max(width / WORKING_WIDTH, 2.0) if width > SMALL_WIDTH else 1.0


def _fineness(reduction: float) -> Fineness:
    return REDUCED if reduction > 1 else WHOLE


def prepared(frame: Frame) -> npt.NDArray[np.uint8]:
    """What motion is found on, of a whole frame."""
    return eight_bit(luma(frame))


def eight_bit(plane: Array) -> npt.NDArray[np.uint8]:
    """Luma as motion sees it: reduced, softened, square-rooted to lift shadows, in 8 bits."""
    reduction = reduction_for(plane.shape[1])
    if reduction > 1:
        size = round(plane.shape[1] / reduction), round(plane.shape[0] / reduction)
        plane = cv2.resize(plane, size, interpolation=cv2.INTER_AREA)
    soft = cv2.GaussianBlur(plane, (0, 0), _fineness(reduction).softened)
    return (np.sqrt(np.clip(soft, 0, 1)) * 255).astype(np.uint8)


def flow(
    here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], full_width: int, *, quick: bool = False
) -> Flow:
    """Motion from one prepared frame to another; `quick` where no pixel is merged along it."""
    return rested(here, there, dense(here, there, full_width, quick=quick), full_width)


def dense(
    here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], full_width: int, *, quick: bool = False
) -> Array:
    """The same as it is found, H'×W'×2 in pixels of the prepared frames."""
    if min(here.shape) < LEAST_FOLLOWED:
        return np.zeros((*here.shape, 2), np.float32)
    finder = cv2.DISOpticalFlow_create(cv2.DISOpticalFlow_PRESET_FAST)  # type: ignore[attr-defined]
    fineness = _fineness(reduction_for(full_width))
    finder.setFinestScale(fineness.finest)
    if not quick:
        finder.setVariationalRefinementAlpha(fineness.smoothness)
        finder.setVariationalRefinementIterations(REFINEMENTS)
    height, width = here.shape
    below, right = max(LEAST_SIDE - height, 0), max(LEAST_SIDE - width, 0)
    wide = [cv2.copyMakeBorder(f, 0, below, 0, right, cv2.BORDER_REPLICATE) for f in (here, there)]
    return np.ascontiguousarray(finder.calc(*wide, None)[:height, :width])


def rested(here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], vectors: Array, full_width: int) -> Flow:
    """`dense` motion, but none where nothing moves."""
    reduction = reduction_for(full_width)
    if not vectors.any():
        return Flow(vectors, reduction)
    rests = _resting(here, there, vectors, _fineness(reduction).patch)
    return Flow(np.where(rests[..., None], 0, vectors * np.float32(reduction)).astype(np.float32), reduction)


def steadied(here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], found: Flow, camera: Camera) -> Flow:
    """The motion found from one prepared frame to another, but the camera's own wherever that explains the picture
    about as well."""
    reduction, carried = np.float32(found.reduction), camera.vectors(here.shape)
    patch = _fineness(found.reduction).patch
    own, with_it = (
        cv2.boxFilter(cv2.absdiff(here, _along(vectors, there)), cv2.CV_32F, (patch, patch))
        for vectors in (found.vectors / reduction, carried)
    )
    around = CAMERA_AROUND * patch, CAMERA_AROUND * patch
    as_well = with_it <= CAMERA_MARGIN * own + CAMERA_CODES
    as_well &= cv2.blur(with_it, around) <= CAMERA_AT_ALL * cv2.blur(own, around)
    return Flow(np.where(as_well[..., None], carried * reduction, found.vectors), found.reduction)


def _lengths(vectors: Array) -> Array:
    """H×W. The library's own differ in the last bit by where in memory the vectors lie."""
    x, y = vectors[..., 0], vectors[..., 1]
    lengths: Array = np.sqrt(x * x + y * y)
    return lengths


def _along(vectors: Array, there: AnyArray) -> AnyArray:
    """A picture as it lies at each pixel's motion."""
    to = vectors + _places(*vectors.shape[:2])
    return cv2.remap(there, to, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)


@lru_cache(2)
def _places(rows: int, columns: int) -> Array:
    """Where each pixel is, H×W×2 (x, y)."""
    return np.dstack(np.meshgrid(np.arange(columns, dtype=np.float32), np.arange(rows, dtype=np.float32)))


def _resting(
    here: npt.NDArray[np.uint8], there: npt.NDArray[np.uint8], vectors: Array, patch: int
) -> npt.NDArray[np.bool_]:
    """Where there is no motion: where standing still explains the picture better, or, against short motion and in a
    picture that stands, about as well: noise alone makes vectors, and following those softens what stands; and
    the surroundings of what moves are not to be carried along."""
    still, followed = (
        cv2.boxFilter(cv2.absdiff(here, other), cv2.CV_32F, (patch, patch))
        for other in (there, _along(vectors, there))
    )
    about_as_well = still <= REST_MARGIN * followed + REST_CODES
    near = _lengths(vectors) < NEAR_REST
    rests = (near & about_as_well) | (still <= followed)
    same_light = abs(float(here.mean()) - float(there.mean())) < SAME_LIGHT
    if same_light and rests.mean() >= STANDS:  # a tripod shot: long motion has to prove itself too
        rests = about_as_well
    return rests
