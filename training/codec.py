"""Trains what Codec traces ends with where that is asked for: what a frame that a codec coarsened is missing still.

    python -m training.codec [--clips 640] [--steps 16000] [--seed 0] FILE.onnx

Clips of drawn pictures go through H.264, MPEG-2 and MJPEG, and through the classical treatment; the network learns
what the result lacks (see yellowclean/engine/treat/_restoring.py). Every frame's error weighs as much as another's,
luma three times as much as colour; pictures are turned over, and bright for dark.
"""

from __future__ import annotations

import numpy as np
import torch
from torch import nn

from yellowclean.engine.learned import of_four
from yellowclean.engine.octaves import quartered
from yellowclean.engine.treat._restoring import FOURS, GIVEN, HANDED, seen

from .clips import Sample, samples
from .teaching import Example, asked, made, piece, taught, untaught, write

CHANNELS, HIDDEN, FIRST = 48, 5, 3
"""Planes between the layers, how many layers lie between the first and the last, and the first one's side."""

PATCH, BATCH, RATE = 32, 16, 1.2e-3
"""Pixels of a patch's side in half the size, patches in a step, and the highest rate of learning."""

RIM = 4
"""Pixels at the sides of a patch that are left out: of what lies beyond, little is missed behind them."""

LUMA_WEIGHS = 0.75


def whole(sample: Sample) -> Example:
    """A frame as the network is given it."""
    missing = sample.truth - sample.treated
    wanted = np.concatenate([of_four(missing[0]), np.stack([quartered(plane) for plane in missing[1:]])])
    power = [max(float(np.mean(part**2)), 1e-9) for part in (wanted[:4], wanted[4:])]
    weight = np.repeat([LUMA_WEIGHS / 4 / power[0], (1 - LUMA_WEIGHS) / 2 / power[1]], [4, 2]) * HANDED
    return Example(seen(*sample[:4]), wanted, weight.astype(np.float32))


def learned(frames: list[Example], steps: int, seed: int) -> nn.Module:
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    network = untaught(GIVEN, HANDED, channels=CHANNELS, hidden=HIDDEN, first=FIRST)
    nn.init.zeros_(network[-1].weight)  # nothing is missing, until something is learned
    return taught(
        network, lambda: piece(frames, rng, PATCH, FOURS), steps=steps, batch=BATCH, rate=RATE, rim=RIM,
        absolute=0.0, squared=1.0,
    )  # fmt: skip


def main() -> None:
    order = asked(__doc__, "clips", 640, 16000, 0)
    frames = [whole(sample) for clip in made(samples, order) for sample in clip]
    write(learned(frames, order.steps, order.seed), GIVEN, order.file)


if __name__ == "__main__":
    main()
