"""Strengths of the noise chain, each with its estimated error: where more begins to cost more than it brings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np

from ..chain import noise_chain
from ..footage import Footage
from ..frames import Array, Frame, Region, StopCheck, never, raise_if
from ..measure.report import Rung
from ..media import Source
from ..motion import Movement
from ..noise.profile import NoiseProfile
from ..plan import Plan
from ..treat.merging import frames_each_side
from .risk import RiskAt

RUNGS, CARRIED_RUNGS = (60.0, 85.0, 110.0, 140.0), (60.0, 100.0, 140.0, 200.0)
"""Percent of the measured sigma. What a codec leaves of noise is nought in most coefficients and large in a few, so
that it takes more than its sigma says."""

CARRIED_LIMITS, TRIED_AT = (1.0, 2.0, 6.0), 140.0
"""Difference limits that are tried where a codec carries noise along, in σ, and the strength at which they are."""

WORTH_TRYING, PLAIN, APART = 0.003, (0.25, 1.0), 1.2
"""By how much of the noise's power another way has to lower the error. The widest limit has to lower it by more,
for frames held out share some of what is merged wrongly, and what moves faintly leaves trails (on nineteen clips
by 0.30 to 0.69 where it gains 0.1 to 0.4 dB, by up to 0.25 where it loses up to 0.8: motion missed in texture);
but by no more than all of the noise, for there the frames held out do not show the same picture (a fine weave
that the sensor's grid turns into other patterns in every frame: 2.2 and 2.4, where it loses up to 1.8 dB). And it
is tried only where frames typically differ by so many times what the noise explains: the limit is counted in a
sigma that is too small there (1.3 to 3.2 where it gains, up to 1.0 in texture that moves, where it loses)."""

LEAST_SIGMA_CV = 0.5
"""Noise below this is not worth a ladder: there is nothing to take, and nothing to estimate by."""

PIECE, AROUND, FURTHER = (384, 216), (768, 432), (960, 540)
"""Size of the piece of a frame that is judged, of what is looked at around it, and where motion over many frames is
looked for."""

NEAR_LOWEST = 1.02
"""The least strength is taken whose error is no more than 2 % above the lowest."""

LEAST_ERROR = 0.005
"""Share of the noise's power below which no estimate of an error is to be believed."""


LEAST_CARRIED, COLOUR_MORE, MOST_AMOUNT = 140.0, 1.4, 200.0
"""Where the picture moves slowly, a codec carries noise along for so many frames that those held out see too little
of what is gained against it, in colour less than in luma: at least so many percent are taken, and so many times
that of colour, up to what a step can take (set on test-camera clips, where 140 to 200 % of luma were best or within
0.1 dB of it, and 1.0 to 2.5 times that of colour)."""

STEP = 5.0
"""Percent between the strengths that are proposed."""

MOST_FAST = 140.0
"""Where the picture moves fast, motion that was missed passes for noise in frames held out: no more is taken."""

SLOW = "the codec repeats noise from frame to frame, so that more of it is there than comparing frames shows"
FAST = "the picture moves too fast to tell by comparing frames whether more would help"


def ladder(
    source: Source, profile: NoiseProfile, movement: Movement, n: int, *, stopped: StopCheck = never
) -> list[Rung]:
    """The rungs at frame n, from a piece of its middle, and one more of that frame alone where Stein's estimate
    can weigh it against the best of them; none for a shot that is clean, or whose noise a codec carried along and
    that is too short to hold frames out: Stein's estimate is wrong there."""
    if max(profile.typical_cv("luma"), profile.chroma_cv) < LEAST_SIGMA_CV:
        return []
    whole = Region(0, 0, source.info.width, source.info.height)
    around = _middle(whole, FURTHER if profile.carried else AROUND)
    footage, each_side = Footage(_Part(source, around)), frames_each_side(movement, carried=profile.carried)
    for k in range(max(n - each_side, 0), min(n + each_side + 1, source.info.frames)):
        footage.frame(k)  # in the order of the frames, so that a decoder seeks once
    judge = RiskAt(footage, Plan(profile=profile), n, _middle(around, PIECE).within(around))
    if profile.carried and not judge.held_out:
        return []

    def rung(strength: float, limit: float = 1.0, *, gentle: bool = False, merged: bool = True) -> Rung:
        raise_if(stopped)
        frames = source.info.frames if merged else 1
        plan = Plan(
            profile=profile,
            steps=noise_chain(
                frames, movement, strength, strength, difference=limit, carried=profile.carried, gentle=gentle
            ),
        )
        risk = judge.of(plan)
        return Rung(
            strength=strength,
            difference=limit,
            gentle=gentle,
            held_out=judge.held_out,
            merged=merged,
            luma=risk.luma.error,
            chroma=risk.chroma.error,
        )

    if not profile.carried:
        rungs = [rung(strength) for strength in RUNGS]
        if source.info.frames == 1:
            return rungs
        return [*rungs, rung(min(rungs, key=lambda r: r.luma).strength, merged=False)]
    limits = CARRIED_LIMITS if judge.typical_apart() > APART else CARRIED_LIMITS[:-1]
    used = widest_that_pays([rung(TRIED_AT, limit) for limit in limits])
    if not movement.slow:  # slow motion carries a codec's errors along, so that frames held out do not tell them
        gentle = rung(TRIED_AT, used.difference, gentle=True)
        used = gentle if gentle.luma < used.luma - WORTH_TRYING else used
    return [used if s == TRIED_AT else rung(s, used.difference, gentle=used.gentle) for s in CARRIED_RUNGS]


def widest_that_pays(rungs: Sequence[Rung]) -> Rung:
    """Of rungs with ever wider difference limits the one to take."""
    used, *wider = rungs
    for other in wider:
        least, most = PLAIN if other.difference == CARRIED_LIMITS[-1] else (WORTH_TRYING, np.inf)
        used = other if least < used.luma - other.luma < most else used
    return used


def _middle(outer: Region, size: tuple[int, int]) -> Region:
    width, height = min(size[0], outer.width), min(size[1], outer.height)
    return Region(outer.x + (outer.width - width) // 2, outer.y + (outer.height - height) // 2, width, height)


class _Part(Source):
    """A part of every frame, so that the ladder costs the same on footage of every size."""

    def __init__(self, source: Source, part: Region) -> None:
        self._source, self._part = source, part
        self.info = source.info.model_copy(update={"width": part.width, "height": part.height})

    def read(self, n: int) -> Frame:
        return np.ascontiguousarray(self._source.read(n)[self._part.slices])

    def close(self) -> None:
        """The source stays open for whoever opened it."""


class Stop(NamedTuple):
    """The strength to stop at, and, where it is not the one with the lowest estimated error, why."""

    strength: float
    because: str = ""


def suggested_stop(rungs: Sequence[Rung], signal: Literal["luma", "chroma"], *, slow: bool = False) -> Stop:
    """The least strength, in steps of `STEP`, near the lowest point of a curve through the rungs, within what
    frames held out can tell; `slow` tells that the picture moves slowly."""
    rungs = [rung for rung in rungs if rung.merged]
    strengths = [rung.strength for rung in rungs]
    held_out = any(rung.held_out for rung in rungs)
    curve = np.polynomial.Polynomial.fit(strengths, [getattr(r, signal) for r in rungs], min(len(rungs) - 1, 3))
    steps = np.arange(strengths[0], strengths[-1] + 1, STEP)
    lowest = float(steps[best_of(curve(steps), held_out=held_out)])
    if not held_out:
        return Stop(lowest)
    if not slow:
        return Stop(lowest) if lowest <= MOST_FAST else Stop(MOST_FAST, FAST)
    least = LEAST_CARRIED
    if signal == "chroma":
        beside = suggested_stop(rungs, "luma", slow=True).strength
        least = min(STEP * round(COLOUR_MORE * beside / STEP), MOST_AMOUNT)
    return Stop(lowest) if lowest >= least else Stop(least, SLOW)


def merging_leaves(rungs: Sequence[Rung]) -> float | None:
    """The estimated error with a merge over time as a share of that of one frame alone, at one strength, in luma or
    in colour, whichever gains more; None where both were not judged."""
    for alone in (rung for rung in rungs if not rung.merged):
        merged = next(r for r in rungs if r.merged and r.strength == alone.strength)
        pairs = ((merged.luma, alone.luma), (merged.chroma, alone.chroma))
        return min(max(a, LEAST_ERROR) / max(b, LEAST_ERROR) for a, b in pairs)
    return None


def best_of(errors: Array, *, held_out: bool) -> int:
    """The first of several estimated errors that is near the lowest. Where noise is cut off at black there is
    less of it than its curve says, and all estimates are too low by the same: the lowest may then come out at
    nothing, or below, and is taken for `LEAST_ERROR`. By frames held out, noise that they share is not seen to go,
    so that a gain is always larger than it looks, and the lowest itself is taken."""
    if held_out:
        return int(np.argmin(errors))
    raised = errors - errors.min() + max(float(errors.min()), LEAST_ERROR)
    return int(np.argmax(raised <= NEAR_LOWEST * raised.min()))
