"""Trains what Enlarge begins with: a grey picture at twice its size, from one frame and the deviation of its noise.

    python -m training.enlarge [--pictures 400] [--steps 13000] [--seed 1] FILE.onnx

The network has no constants added and is given detail alone, so that it does the same at any exposure and level
(see yellowclean/engine/treat/_doubling.py); pictures are turned over, and bright for dark, so that it prefers none.
The loss is the mean of absolute errors, and of squared ones.
"""

from __future__ import annotations

import argparse
import time
from concurrent.futures import ProcessPoolExecutor

import cv2
import numpy as np
import onnx
import torch
from torch import nn

from yellowclean.engine.treat._doubling import LAYERS_REACH, of_four, plainly, seen

from .pictures import SIDE, Picture, leaves

CHANNELS, LAYERS = 32, 5
"""Planes between the layers, and how many layers of 3×3 lie between the first, of 5×5, and the last."""

PATCH, BATCH = 48, 16
"""Pixels of a patch's side as it is given, and patches in a step."""

NOISE = 0.1 / 255, 6 / 255
"""Deviations between which noise is laid over the patches."""

RATE, SQUARED = 1.5e-3, 4.0
"""The highest rate of learning, and how much squared errors weigh beside absolute ones."""

TOLD_EVERY = 500


def untaught() -> nn.Module:
    layers: list[nn.Module] = [nn.Conv2d(2, CHANNELS, 5, padding=2, bias=False)]
    for _ in range(LAYERS):
        layers += [nn.ReLU(), nn.Conv2d(CHANNELS, CHANNELS, 3, padding=1, bias=False)]
    return nn.Sequential(*layers, nn.ReLU(), nn.Conv2d(CHANNELS, 4, 3, padding=1, bias=False))


def patch(pictures: list[Picture], rng: np.random.Generator) -> tuple[Picture, Picture]:
    """What the network is given of one place of one picture, and what it is to hand back."""
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
    return seen(small, np.full_like(small, sigma)), of_four(large - plainly(small))


def taught(pictures: list[Picture], steps: int, seed: int) -> nn.Module:
    """A network after so many steps."""
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    network = untaught().to(memory_format=torch.channels_last)
    adam = torch.optim.Adam(network.parameters(), RATE)
    rates = torch.optim.lr_scheduler.OneCycleLR(adam, RATE, steps, pct_start=0.05, final_div_factor=100)
    begun, inside, squares = time.perf_counter(), slice(LAYERS_REACH, -LAYERS_REACH), np.zeros(2)
    for step in range(1, steps + 1):
        made = [patch(pictures, rng) for _ in range(BATCH)]
        given, wanted = (np.stack(planes) for planes in zip(*made, strict=True))
        missed = torch.from_numpy(wanted)[..., inside, inside]
        handed = network(torch.from_numpy(given).to(memory_format=torch.channels_last))
        apart = handed[..., inside, inside] - missed
        loss = apart.abs().mean() + SQUARED * apart.square().mean()
        adam.zero_grad()
        loss.backward()
        adam.step()
        rates.step()
        squares += [missed.square().mean().item(), apart.detach().square().mean().item()]
        if step % TOLD_EVERY == 0:
            gain = 10 * np.log10(squares[0] / squares[1])
            print(f"{step:6} {time.perf_counter() - begun:6.0f} s  {gain:+.2f} dB over bicubic", flush=True)
            squares[:] = 0
    return network


def write(network: nn.Module, path: str) -> None:
    """The network as ONNX, for pictures of any size."""
    network = network.to(memory_format=torch.contiguous_format).eval()
    sides = {2: torch.export.Dim("height"), 3: torch.export.Dim("width")}
    program = torch.onnx.export(
        network, (torch.zeros(1, 2, PATCH, PATCH + 8),), input_names=["seen"], output_names=["missed"],
        dynamic_shapes={"input": sides}, dynamo=True,
    )  # fmt: skip
    model = program.model_proto
    graph = model.graph
    for part in (model, graph, *graph.node, *graph.input, *graph.output, *graph.value_info, *graph.initializer):
        del part.metadata_props[:]  # where each was made, on which machine
    onnx.save(model, path)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("file")
    parser.add_argument("--pictures", type=int, default=400)
    parser.add_argument("--steps", type=int, default=13000)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    with ProcessPoolExecutor() as pool:
        pictures = list(pool.map(leaves, range(asked.seed * 100000, asked.seed * 100000 + asked.pictures)))
    write(taught(pictures, asked.steps, asked.seed), asked.file)


if __name__ == "__main__":
    main()
