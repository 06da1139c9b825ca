"""Trains what Sharpen ends with where that is asked for: what undoing a blur leaves missing.

    python -m training.sharpen [--clips 640] [--steps 12000] [--seed 0] FILE.onnx

Clips of drawn pictures are blurred in light, by a Gaussian or a disc, get noise, and go through the classical
treatment, which is told the blur a little wrongly, as measuring does; the network learns what its change lacks (see
yellowclean/engine/treat/_unblurring.py). Noise is not to be taken: what a blur took is all that is missed. Every
frame weighs as much as another; pictures are turned over, and bright for dark.
"""

from __future__ import annotations

import numpy as np
import torch
from torch import nn

from benchmarks.clips import described
from benchmarks.detail import Case, through
from benchmarks.faulty import Held
from yellowclean.engine.colour.curves import bt709_encoded, bt709_linear
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, luma
from yellowclean.engine.learned import of_four
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.treat import sharpen
from yellowclean.engine.treat._unblurring import FOURS, GIVEN, HANDED, seen

from .clips import SHOWN, moving
from .pictures import Picture, Rng
from .teaching import Example, asked, made, piece, taught, untaught, write

MOST_FRAMES, FASTEST_PX, STILL = 3, 6.0, 0.2
"""Neighbours each side at most, most motion a frame, across and down, and the share of clips without any."""

LIGHT, BRIGHTEST = 2.0, 0.9
"""How many times as bright or dark a picture is shown at most, and its brightest: what is cut off is left alone."""

DISC, RADII, BLURS = 0.25, (1.2, 3.8), (0.4, 2.2)
"""Share of clips that are out of focus, the radii of their discs, and the deviations of the others, in pixels."""

NOISE, EIGHT_BITS = (0.2, 6.0), 0.3
"""Deviations of the noise in codes of 8 bits, and the share of clips that are rounded to those; else to ten."""

TOLD = 0.88, 1.06
"""How many times the blur is told that there is. What is told much too small teaches to add what is lacking, which
is then added where it is told rightly too."""

CHANNELS, HIDDEN, FIRST = 48, 5, 3
"""Planes between the layers, how many layers lie between the first and the last, and the first one's side."""

PATCH, BATCH, RATE, RIM = 32, 16, 5e-4, 4
"""Pixels of a patch's side in half the size, patches in a step, the highest rate of learning, and pixels at the
sides of a patch that are left out: of what lies beyond, little is missed behind them."""

HEAVIEST = 6.0
"""Times what a frame lacks on the mean that a patch of it may lack and still count in full."""


def shot(seed: int) -> Example:
    """The middle frame of one clip as the network is given it, and what it lacks."""
    rng = np.random.default_rng((15, seed))
    frames = int(rng.integers(0, MOST_FRAMES + 1))
    case = _case(rng)
    gain = np.float32(np.exp(rng.uniform(-1, 1) * np.log(LIGHT)))
    fastest = 0 if rng.random() < STILL else FASTEST_PX
    light = [gain * bt709_linear(frame) for frame in moving(seed, rng, 2 * frames + 1, fastest)]
    shown = np.float32(min(1, BRIGHTEST / max(float(frame.max()) for frame in light)))
    light = [shown * frame for frame in light]
    blurred = [bt709_encoded(through(frame, case)) for frame in light]
    codes = 255 if rng.random() < EIGHT_BITS else 1023
    recorded = [_recorded(frame, case.noise, codes, rng) for frame in blurred]

    told = case.blur * rng.uniform(*TOLD) / (2 if case.disc else 1)
    shape = "disc" if case.disc else "gaussian"
    settings = {"blur": float(np.clip(told, 0.3, 4)), "shape": shape, "frames": frames, "learned": True}
    plan = Plan(profile=white_profile(case.noise * CV_SCALE / 255), steps=[Step(kind="sharpen", settings=settings)])
    step = sharpen.Sharpen.model_validate(settings)
    window, around = Pipeline(Footage(Held(recorded, described(len(light), SHOWN, SHOWN))), plan).handed(0, frames)
    core, merged = sharpen.merged_around(step, window, around)
    plane = np.ascontiguousarray(luma(merged.rgb))
    undone = sharpen.undone(step, "luma", plane, merged.noise[0], around, window.wanted.within(core))

    missing = luma(bt709_encoded(light[frames])) - luma(blurred[frames]) - undone.change
    weight = np.full(HANDED, 1 / max(float(np.mean(missing**2)), 1e-8), np.float32)
    return Example(seen(undone), of_four(missing).astype(np.float32), weight)


def _case(rng: Rng) -> Case:
    disc = bool(rng.random() < DISC)
    blur, noise = rng.uniform(*(RADII if disc else BLURS)), np.exp(rng.uniform(*np.log(NOISE)))
    return Case("drawn", float(blur), float(noise), disc=disc)


def _recorded(frame: Picture, noise: float, codes: int, rng: Rng) -> Picture:
    grain = rng.standard_normal(frame.shape, dtype=np.float32) * np.float32(noise / 255)
    return (np.rint(np.clip(frame + grain, 0, 1) * codes) / codes).astype(np.float32)


def tame(example: Example) -> Example:
    """A patch that weighs no more than one that lacks `HEAVIEST` times as much as its frame: a few edges on a flat
    would put an end to learning at its first steps."""
    power = float(np.mean(example.wanted**2) * example.weight[0])
    return example._replace(weight=example.weight / np.float32(max(power / HEAVIEST, 1)))


def learned(frames: list[Example], steps: int, seed: int) -> nn.Module:
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    network = untaught(GIVEN, HANDED, channels=CHANNELS, hidden=HIDDEN, first=FIRST)
    for layer in network:
        if isinstance(layer, nn.Conv2d):  # so that each hands on as much as it is given (He, Zhang, Ren, Sun 2015)
            nn.init.kaiming_normal_(layer.weight, nonlinearity="relu")
    nn.init.zeros_(network[-1].weight)  # nothing is missing, until something is learned
    return taught(
        network, lambda: tame(piece(frames, rng, PATCH, FOURS)), steps=steps, batch=BATCH, rate=RATE, rim=RIM,
        absolute=0.0, squared=1.0,
    )  # fmt: skip


def main() -> None:
    order = asked(__doc__, "clips", 640, 12000, 0)
    write(learned(made(shot, order), order.steps, order.seed), GIVEN, order.file)


if __name__ == "__main__":
    main()
