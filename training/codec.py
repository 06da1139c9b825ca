"""Trains what Codec traces ends with where that is asked for: what a frame that a codec coarsened is missing still.

    python -m training.codec [--clips 800] [--steps 30000] [--seed 0] FILE.onnx

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
from .teaching import Example, asked, layers, made, piece, taught, write

CHANNELS, COARSER = 48, 64
"""Planes between the layers, and between those in half the size again."""

BEFORE, DEEP, AFTER = 3, 3, 4
"""Layers before the halves, of halves, and after."""

PATCH, BATCH, RATE = 40, 12, 1.2e-3
"""Pixels of a patch's side in half the size, patches in a step, and the highest rate of learning."""

RIM = 6
"""Pixels at the sides of a patch that are left out: of what lies beyond, little is missed behind them."""

LUMA_WEIGHS = 0.75


def whole(sample: Sample) -> Example:
    """A frame as the network is given it."""
    missing = sample.truth - sample.treated
    wanted = np.concatenate([of_four(missing[0]), np.stack([quartered(plane) for plane in missing[1:]])])
    power = [max(float(np.mean(part**2)), 1e-9) for part in (wanted[:4], wanted[4:])]
    weight = np.repeat([LUMA_WEIGHS / 4 / power[0], (1 - LUMA_WEIGHS) / 2 / power[1]], [4, 2]) * HANDED
    return Example(seen(*sample[:5]), wanted, weight.astype(np.float32))


class Restorer(nn.Module):  # type: ignore[misc]  # torch is not installed where types are checked
    """Layers of 3×3 with no constants added; to what the first ones see, others add what they see in half the size
    (Ronneberger, Fischer, Brox 2015)."""

    def __init__(self) -> None:
        super().__init__()
        self.before = layers([GIVEN] + BEFORE * [CHANNELS])
        self.halved = nn.Conv2d(CHANNELS, COARSER, 2, stride=2, bias=False)
        self.deep = layers((DEEP + 1) * [COARSER])
        self.doubled = nn.ConvTranspose2d(COARSER, CHANNELS, 2, stride=2, bias=False)
        self.after = layers(AFTER * [CHANNELS])
        self.last = nn.Conv2d(CHANNELS, HANDED, 3, padding=1, bias=False)
        for part in (self.doubled, self.last):
            nn.init.zeros_(part.weight)  # nothing is missing, until something is learned

    def forward(self, given: torch.Tensor) -> torch.Tensor:
        fine = self.before(given)
        coarse = self.doubled(self.deep(torch.relu(self.halved(fine))))
        return self.last(self.after(torch.relu(fine + coarse)))


def learned(frames: list[Example], steps: int, seed: int) -> nn.Module:
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    return taught(
        Restorer(), lambda: piece(frames, rng, PATCH, FOURS), steps=steps, batch=BATCH, rate=RATE, rim=RIM,
        absolute=0.0, squared=1.0,
    )  # fmt: skip


def main() -> None:
    order = asked(__doc__, "clips", 800, 30000, 0)
    frames = [whole(sample) for clip in made(samples, order) for sample in clip]
    write(learned(frames, order.steps, order.seed), GIVEN, order.file)


if __name__ == "__main__":
    main()
