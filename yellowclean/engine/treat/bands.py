"""Banding repaired: the ramp rebuilt inside the tube of values that would have been rounded to what is there.

Contours between flat runs tell the step of the quantiser at each place, whatever it was (a codec's, eight bits, a
stretched log picture); half a step to each side the truth lies. Inside that tube the smoothest surface is taken
(`_ramps`), in all planes that were rounded, so that a pixel can only come nearer to what it was: edges, texture and
stars larger than a step stay. Away from contours nothing is touched.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import CV_SCALE, Array, Frame, Region, luma
from ..measure.contours import GAP, alike, contour_steps, in_company, local_mean
from ..media.tags import KR_KB
from ..parameters import Parameters, choice, quantity
from ._ramps import GRID, MARGIN, smoothest
from .base import DIMMED, MARKED, Around, Need, OwnView, Picture, Treatment, Window
from .case import Case, Proposal

NEAR, SOFT = 32, 12
"""Pixels around a contour that are treated in full, and those over which the treatment ends."""

STEP_WITHIN = 48
"""Pixels around a place over which the step of its contours is averaged."""

ALIKE = 0.5
"""By what part of that a contour may differ and be taken for false."""

CODED = 25.0
"""Percent of a step by which a codec moves a value beyond its half step (set on test-camera clips)."""

REAL = np.array([1.0, 1.0, 1.0], np.float32)
"""Colour in which edges of the scene are drawn."""


PLANES = {"rgb": "R′G′B′", "bt709": "luma, chroma 709", "bt470bg": "luma, chroma 601",
          "bt2020nc": "luma, chroma 2020"}  # fmt: skip


class Bands(Parameters):
    """Steps of a rounded ramp."""

    step: float = quantity(
        12, "Largest step", "A contour with a larger step is an edge of the scene and stays.",
        unit="CV", least=1.5, most=64, step=0.5,
    )  # fmt: skip
    run: int = quantity(
        4, "Shortest run", "How long the picture is flat on both sides of a false contour.",
        unit="px", least=3, most=32, step=1,
    )  # fmt: skip
    room: float = quantity(
        0, "Room", "How much farther than half a step a pixel may go; for footage"
        " that a codec has changed since.", unit="% of a step", least=0, most=100, step=5,
    )  # fmt: skip
    planes: str = choice("rgb", "Rounded as", "The planes whose codes made the steps.", names=PLANES)


@dataclass(frozen=True, slots=True)
class Found:
    """Where false contours lie, in any plane, and how far each plane may be off, P×H×W (0 where no step is
    near)."""

    false: npt.NDArray[np.bool_]
    half: Array


def need(p: Bands) -> Need:
    return Need(margin=MARGIN + 2 * STEP_WITHIN + p.run + GAP + 8, grid=GRID)


def apply(p: Bands, window: Window, around: Around) -> Picture:
    """Rebuild the ramps between the contours."""
    here = window.here.part(window.inside)
    place, planes = _seen(p, window)
    found = _found(p, planes)
    inside = window.wanted.within(place).slices
    share = _near(found.false)[inside]
    if not share.any():
        return here
    change = (smoothest(planes, found.half, 50 / (50 + p.room)) - planes)[:, *inside]
    return Picture(here.rgb + _together(share * change, p.planes), here.noise)


def _seen(p: Bands, window: Window) -> tuple[Region, Array]:
    """Where the planes are looked at, and the planes. The surface ends at the frame, where nothing bends it."""
    place = window.seen(GRID)
    rows, columns = place.within(window.place).slices
    return place, _apart(np.nan_to_num(window.here.rgb[rows, columns]), p.planes)


def _found(p: Bands, planes: Array) -> Found:
    false, half = np.zeros(planes.shape[1:], bool), np.zeros_like(planes)
    for k, plane in enumerate(planes):
        steps = contour_steps(plane, run=p.run, largest=p.step / CV_SCALE)
        lines = alike(steps, in_company(steps > 0), STEP_WITHIN, ALIKE)
        false |= lines
        half[k] = local_mean(steps, lines, STEP_WITHIN) * np.float32(0.5 + p.room / 100)
    return Found(false, half)


def _near(false: npt.NDArray[np.bool_]) -> Array:
    """1 near false contours, falling to 0."""
    away = cv2.dilate(false.astype(np.float32), np.ones((2 * NEAR + 1, 2 * NEAR + 1), np.uint8))
    for _ in range(SOFT):
        away = np.maximum(away, cv2.dilate(away, np.ones((3, 3), np.uint8)) - np.float32(1 / SOFT))
    return away


def _matrix(planes: str) -> npt.NDArray[np.float64]:
    """From R'G'B' to the planes, rows P×3 (BT.709 and its like: luma, and scaled differences to it)."""
    if planes == "rgb":
        return np.eye(3)
    kr, kb = KR_KB[planes]
    luma_row = np.array([kr, 1 - kr - kb, kb])
    return np.stack([
        luma_row, (np.array([0, 0, 1]) - luma_row) / (2 - 2 * kb), (np.array([1, 0, 0]) - luma_row) / (2 - 2 * kr),
    ])  # fmt: skip


def _apart(rgb: Frame, planes: str) -> Array:
    return _times(np.moveaxis(rgb, -1, 0), _matrix(planes))


def _together(change: Array, planes: str) -> Frame:
    return np.ascontiguousarray(np.moveaxis(_times(change, np.linalg.inv(_matrix(planes))), 0, -1))


def _times(planes: Array, matrix: npt.NDArray[Any]) -> Array:
    """Term by term, as `frames.weighted`; a plane that is no mixture stays as it is, to the last bit."""
    rows = np.asarray(matrix, np.float32)
    if (rows == np.eye(3)).all():
        return np.ascontiguousarray(planes, np.float32)
    return np.stack([planes[0] * r[0] + planes[1] * r[1] + planes[2] * r[2] for r in rows])


def contours_shown(p: Bands, window: Window, around: Around) -> Frame:
    """The picture dimmed, false contours and edges of the scene drawn over it."""
    place, planes = _seen(p, window)
    found = _found(p, planes)
    grey = luma(window.here.rgb[place.within(window.place).slices])
    shown = np.repeat((np.clip(grey, 0, 1) * DIMMED)[..., None], 3, axis=2)
    tall = np.abs(np.diff(grey, axis=0, prepend=grey[:1])), np.abs(np.diff(grey, axis=1, prepend=grey[:, :1]))
    shown[np.maximum(*tall) > p.step / CV_SCALE] = REAL
    shown[found.false] = MARKED
    return np.ascontiguousarray(shown[window.wanted.within(place).slices])


def propose(case: Case) -> Proposal | None:
    """Rebuild what steps visibly, with room for what a codec did since."""
    finding = case.outside("banding")
    if finding is None or (case.luma.percent and case.profile.typical_cv("luma") > DITHERS * finding.value):
        return None
    coded = case.media.lossy
    settings = {
        "step": float(np.clip(np.ceil(2 * LARGER * finding.value) / 2, 1.5, 64)),
        "room": CODED if coded else 0.0,
        "planes": _recorded_as(case),
    }
    told = finding.detail[:1].upper() + finding.detail[1:]
    return Proposal(settings, f"{told}: contours up to {settings['step']:g} CV are taken for false.")


DITHERS = 0.5
"""Noise of more than so much of a step keeps it from showing (Roberts 1962, "Picture coding using pseudo-random
noise"). Contours that a codec leaves among such noise are elsewhere in each frame, and go with it: rebuilding ramps
behind noise reduction cost 0.4 to 0.7 dB on three of twenty-six shots, where no contour was left."""

LARGER = 2.0
"""Largest step that is taken for false, as a multiple of the typical one."""


def _recorded_as(case: Case) -> str:
    if case.media.chroma in {"rgb", "gray"}:
        return "rgb"
    same = next((name for name in PLANES if KR_KB.get(name) == KR_KB.get(case.media.matrix)), None)
    return same or "bt709"


TREATMENT = Treatment(
    kind="bands", title="Bands", treats=("banding",), order=60, parameters=Bands, need=need, apply=apply,
    propose=propose, mends=True,
    views=(
        OwnView(
            "contours", "Contours",
            "Contours taken for false in yellow, edges taken for real in white, over the dimmed picture.",
            contours_shown,
        ),
    ),
    early="noise fills the steps, so that it finds none",
)  # fmt: skip
