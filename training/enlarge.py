"""Trains what Enlarge begins with: a grey picture at twice its size, from one frame and the deviation of its noise.

    python -m training.enlarge [--pictures 400] [--steps 13000] [--seed 1] FILE.onnx

The network has no constants added and is given detail alone, so that it does the same at any exposure and level
(see yellowclean/engine/treat/_doubling.py); pictures are turned over, and bright for dark, so that it prefers none.
"""

from __future__ import annotations

import cv2
import numpy as np
import torch
from torch import nn

from yellowclean.engine.learned import of_four
from yellowclean.engine.treat._doubling import LAYERS_REACH, plainly, seen

from .pictures import SIDE, Picture, leaves
from .teaching import Example, asked, made, taught, untaught, write

CHANNELS, HIDDEN, FIRST = 32, 5, 5
"""Planes between the layers, how many layers lie between the first and the last, and the first one's side."""

PATCH, BATCH = 48, 16
"""Pixels of a patch's side as it is given, and patches in a step."""

NOISE = 0.1 / 255, 6 / 255
"""Deviations between which noise is laid over the patches."""

RATE, SQUARED = 1.5e-3, 4.0
"""The highest rate of learning, and how much squared errors weigh beside absolute ones."""


def patch(pictures: list[Picture], rng: np.random.Generator) -> Example:
    """One place of one picture."""
    large = pictures[rng.integers(len(pictures))]
    y, x = rng.integers(0, SIDE // 2 - PATCH, 2) * 2
    large = large[y : y + 2 * PATCH, x : x + 2 * PATCH]
    if rng.random() < 0.5:
        large = large.T
    large = np.ascontiguousarray(large[:: rng.choice([1, -1]), :: rng.choice([1, -1])])
    large *= np.float32(rng.choice([1, 1, -1]))
    sigma = np.float32(np.exp(rng.uniform(*np.log(NOISE))))
    noise = sigma * rng.standard_normal((PATCH, PATCH), dtype=np.float32)
    small = cv2.resize(large, (PATCH, PATCH), interpolation=cv2.INTER_AREA) + noise
    return Example(seen(small, np.full_like(small, sigma)), of_four(large - plainly(small)), np.ones(4, np.float32))


def learned(pictures: list[Picture], steps: int, seed: int) -> nn.Module:
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    return taught(
        untaught(2, 4, channels=CHANNELS, hidden=HIDDEN, first=FIRST), lambda: patch(pictures, rng),
        steps=steps, batch=BATCH, rate=RATE, rim=LAYERS_REACH, absolute=1.0, squared=SQUARED,
    )  # fmt: skip


def main() -> None:
    order = asked(__doc__, "pictures", 400, 13000, 1)
    write(learned(made(leaves, order), order.steps, order.seed), 2, order.file)


if __name__ == "__main__":
    main()
