"""Trains the restorer of compressed footage on the clips that `clips.py` made, and writes its weights as ONNX.
Needs torch and onnx alone (`requirements.txt`)."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import numpy as np
import torch
from torch import nn

SEED, ROUNDS = 41, 8000
PATCH, BATCH = 48, 16
CHANNELS, KERNELS, LAYERS = 25, 40, 6
LUMA_SHARE = 0.75
"""Of the squared error, as the benchmark judges."""

HELD_OUT = 12
"""Every so many clips one is kept for testing."""


def network() -> nn.Sequential:
    """Six layers of 3×3, which at first change nothing."""
    layers: list[nn.Module] = [nn.Conv2d(CHANNELS, KERNELS, 3, padding=1)]
    for _ in range(LAYERS - 2):
        layers += [nn.ReLU(), nn.Conv2d(KERNELS, KERNELS, 3, padding=1)]
    last = nn.Conv2d(KERNELS, 6, 3, padding=1)
    nn.init.zeros_(last.weight)
    nn.init.zeros_(last.bias)
    return nn.Sequential(*layers, nn.ReLU(), last)


Pair = tuple[np.ndarray, np.ndarray]


def batch(pairs: list[Pair], rng: np.random.Generator) -> tuple[torch.Tensor, torch.Tensor]:
    seen, wanted = [], []
    for _ in range(BATCH):
        a, b = pairs[rng.integers(len(pairs))]
        n, y, x = rng.integers(len(a)), rng.integers(a.shape[2] - PATCH), rng.integers(a.shape[3] - PATCH)
        seen.append(a[n, :, y : y + PATCH, x : x + PATCH])
        wanted.append(b[n, :, y : y + PATCH, x : x + PATCH])
    told, true = (torch.from_numpy(np.stack(v).astype(np.float32)) for v in (seen, wanted))
    return told, true


@torch.no_grad()
def gain(net: nn.Module, held: list[Pair]) -> list[float]:
    """dB over the classical result on clips held out, of luma and of colour."""
    before, after = np.zeros(2), np.zeros(2)
    for a, b in held:
        true = torch.from_numpy(b[1:2].astype(np.float32))
        made = net(torch.from_numpy(a[1:2].astype(np.float32)))
        for part, (low, high) in enumerate(((0, 4), (4, 6))):
            before[part] += float((true[:, low:high] ** 2).mean())
            after[part] += float(((made - true)[:, low:high] ** 2).mean())
    return [float(db) for db in -10 * np.log10(after / before)]


def write(net: nn.Module, target: Path) -> None:
    axes = {"seen": {2: "h", 3: "w"}, "change": {2: "h", 3: "w"}}
    torch.onnx.export(
        net, (torch.zeros(1, CHANNELS, 64, 64),), str(target), input_names=["seen"], output_names=["change"],
        dynamic_axes=axes, dynamo=False,
    )  # fmt: skip


def train(folder: Path, target: Path) -> None:
    torch.manual_seed(SEED)
    torch.set_num_threads(2)
    net = network()
    print(sum(w.numel() for w in net.parameters()), "weights")
    clips = [np.load(file) for file in sorted(folder.glob("*.npz"))]
    pairs = [(c["seen"], c["wanted"]) for c in clips]
    held, pairs = pairs[::HELD_OUT], [pair for k, pair in enumerate(pairs) if k % HELD_OUT]
    weights = torch.tensor([LUMA_SHARE / 4] * 4 + [(1 - LUMA_SHARE) / 2] * 2).view(1, 6, 1, 1)
    optimiser = torch.optim.Adam(net.parameters(), 1e-3)
    schedule = torch.optim.lr_scheduler.OneCycleLR(optimiser, 2e-3, ROUNDS)
    rng = np.random.default_rng(SEED)
    started, running = time.time(), 0.0
    for count in range(ROUNDS):
        told, true = batch(pairs, rng)
        loss = (weights * (net(told) - true) ** 2).sum(1).mean()
        optimiser.zero_grad()
        loss.backward()
        optimiser.step()
        schedule.step()
        running += 0.01 * (loss.item() - running) if count else loss.item()
        if count % 500 == 499:
            luma, colour = gain(net, held)
            took = time.time() - started
            print(
                f"{count + 1}: loss {running:.4f}, held out {luma:+.3f} dB, {colour:+.3f} dB, {took:.0f} s",
                flush=True,
            )
    write(net, target)


if __name__ == "__main__":
    train(Path(sys.argv[1]), Path(sys.argv[2]))
