"""Shots of one camera at one setting: told by what their files name, and by how their noise curves fit.

Two shots belong together where no camera or gain that both name differs, their sigmas agree at the levels that
both hold (blind curves of one camera do within 10 %, one stop makes 40), and their grain has one size. What shots
of a group hold at different levels makes one profile of all levels.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel

from ..colour.opponent import SIGNALS
from ..frames import CV_SCALE, Array
from ..noise.profile import LEAST_DEVIATION, NoiseCurve, NoiseProfile
from .fit import FITS_WITHIN

GRAIN_APART = 0.2
"""How far sizes of grain may, as a share."""

LEAST_SHARED = 0.05
"""Share of the pixels of either at levels that both hold, below which nothing can be compared."""

COMPARED = 3
"""Shots of a group that one more is compared with: more say little, and a reel has hundreds."""

GRID = np.linspace(0, CV_SCALE, 34)


class Heard(BaseModel):
    """What of a noise profile tells shots apart."""

    curve: NoiseCurve
    grain_px: float

    @staticmethod
    def of(profile: NoiseProfile) -> Heard:
        return Heard(curve=profile.curve, grain_px=profile.grain_px)


@dataclass(frozen=True, slots=True)
class Taken:
    """What is known of a shot's noise: camera and gain as its file names them ("" where it does not), and what was
    measured."""

    camera: str
    gain: str
    noise: Heard


def groups(shots: Sequence[Taken]) -> list[list[int]]:
    """Indices of the shots that belong together, each group in their order; every shot is in one. A shot joins the
    first group whose first ones it fits."""
    found = list[list[int]]()
    for k, shot in enumerate(shots):
        group = next((g for g in found if all(_together(shot, shots[i]) for i in g[:COMPARED])), None)
        if group is None:
            found.append([k])
        else:
            group.append(k)
    return found


def _together(one: Taken, other: Taken) -> bool:
    for a, b in ((one.camera, other.camera), (one.gain, other.gain)):
        if a and b and a.casefold() != b.casefold():
            return False
    sizes = sorted((one.noise.grain_px, other.noise.grain_px))
    if sizes[1] > sizes[0] * (1 + GRAIN_APART):
        return False
    apart = difference(one.noise, other.noise)
    if apart is None:  # only what the files say can tell
        return bool(one.camera and one.camera.casefold() == other.camera.casefold() and one.gain == other.gain)
    return apart <= FITS_WITHIN


def difference(one: Heard, other: Heard) -> float | None:
    """By how much sigmas differ, as a share: the larger of luma's and chroma's, each the weighted mean over levels
    that both hold; None where they hold next to none in common."""
    weights = np.minimum(*(_held(p.curve) for p in (one, other)))
    if weights.sum() < LEAST_SHARED:
        return None
    apart = []
    for signals in (("luma",), ("cb", "cr")):
        a, b = (np.sqrt(sum(_on_grid(p.curve, s) ** 2 for s in signals)) for p in (one, other))
        ratio = np.abs(np.log(np.maximum(a, LEAST_DEVIATION) / np.maximum(b, LEAST_DEVIATION)))
        apart.append(float(np.expm1((ratio * weights).sum() / weights.sum())))
    return max(apart)


def pooled(profiles: Sequence[NoiseProfile], name: str = "") -> NoiseProfile:
    """One profile of several of one camera and setting: at every level the mean of those that hold it, by how much
    of each picture lies there and how sure it was."""
    sure = np.array([max(p.confidence, 0.01) for p in profiles])
    held = np.array([_held(p.curve) for p in profiles]) * sure[:, None]
    # where none holds anything, all speak alike, each by its own curve's end
    weights = np.where(held.sum(axis=0) > 1e-6, held, 1e-6 * sure[:, None])
    weights = weights / weights.sum(axis=0)

    def mean(values: Array) -> Any:
        return np.tensordot(sure / sure.sum(), values, axes=1)

    powers = {s: np.array([_on_grid(p.curve, s) ** 2 for p in profiles]) for s in SIGNALS}
    lists = {f"{s}_cv": np.sqrt((weights * power).sum(axis=0)).tolist() for s, power in powers.items()}
    share = held.sum(axis=0) / max(held.sum(), 1e-9)
    cut = [set(getattr(p.curve, what)) for what in ("dead", "cut") for p in profiles]
    dead, broken = set.intersection(*cut[: len(profiles)]), set.intersection(*cut[len(profiles) :])
    coherent = all(p.coherence for p in profiles)
    return NoiseProfile(
        name=name,
        curve=NoiseCurve(
            level_cv=GRID.tolist(), share=share.tolist(), dead=sorted(dead), cut=sorted(broken), **lists
        ),
        correlation=mean(np.array([p.correlation for p in profiles])).tolist(),
        spectrum=np.sqrt(mean(np.array([p.spectrum for p in profiles]) ** 2)).tolist(),
        coherence=mean(np.array([p.coherence for p in profiles])).tolist() if coherent else [],
        grain_px=float(mean(np.array([p.grain_px for p in profiles]))),
        carried=sum(p.carried for p in profiles) * 2 > len(profiles),
        confidence=float(max(p.confidence for p in profiles)),
        origin=f"pooled of {len(profiles)} shots",
    )


def _held(curve: NoiseCurve) -> Array:
    """Share of the picture at each level of the grid, summing to 1; none beyond the levels that were measured."""
    levels, share = np.array(curve.level_cv), np.array(curve.share, np.float64)
    on_grid = np.interp(GRID, levels, share, left=0, right=0)
    if on_grid.sum() <= 0:
        nearest = np.abs(GRID[:, None] - levels).argmin(axis=0)
        on_grid = np.bincount(nearest, share, len(GRID)).astype(np.float64)
    return np.asarray(on_grid / max(on_grid.sum(), 1e-9))


def _on_grid(curve: NoiseCurve, signal: str) -> Array:
    return np.asarray(np.interp(GRID, curve.level_cv, curve.signal(signal)))
