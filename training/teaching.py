"""How a network of plain layers is taught and written down."""

from __future__ import annotations

import argparse
import itertools
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from typing import NamedTuple, TypeVar

import numpy as np
import numpy.typing as npt
import onnx
import torch
from torch import nn

Planes = npt.NDArray[np.float32]

Made = TypeVar("Made")

TOLD_EVERY, SEEDS = 500, 100_000
"""Steps after which progress is told, and seeds of pictures that belong to each seed of a training."""


class Example(NamedTuple):
    """What a network is given (C×H×W), what it is to hand back (C'×H×W), and what errors weigh, by plane (C')."""

    given: Planes
    wanted: Planes
    weight: Planes


def piece(examples: list[Example], rng: np.random.Generator, side: int, fours: int) -> Example:
    """One place of `side`×`side` of one of some examples, turned somehow, at times bright for dark. The first
    `fours` fours of what is given are one plane each, and so is the first four of what is wanted; the last plane
    given is a deviation."""
    given, wanted, weight = examples[rng.integers(len(examples))]
    y, x = (int(rng.integers(0, room - side + 1)) for room in given.shape[1:])
    turn = [bool(chance < 0.5) for chance in rng.random(3)]
    place = slice(y, y + side), slice(x, x + side)
    given, wanted = (_turned(planes[:, *place], n, turn) for planes, n in ((given, fours), (wanted, 1)))
    if rng.random() < 0.5:
        given, wanted = -given, -wanted
        given[-1] *= -1
    return Example(given, wanted, weight)


def _turned(planes: Planes, fours: int, turn: list[bool]) -> Planes:
    """Planes upside down, mirrored, and on their side, or not; the first `fours` fours are one plane each."""
    side = planes.shape[1]
    four, rest = planes[: 4 * fours].reshape(fours, 2, 2, side, side), planes[4 * fours :]
    if turn[0]:
        four, rest = four[:, ::-1, :, ::-1], rest[:, ::-1]
    if turn[1]:
        four, rest = four[:, :, ::-1, :, ::-1], rest[:, :, ::-1]
    if turn[2]:
        four, rest = four.transpose(0, 2, 1, 4, 3), rest.transpose(0, 2, 1)
    return np.concatenate([four.reshape(4 * fours, side, side), rest])


def untaught(given: int, handed: int, *, channels: int, hidden: int, first: int) -> nn.Sequential:
    """Layers of 3×3 with no constants added; the first is of `first`×`first`, and `hidden` lie between it and the
    last."""
    last = nn.Conv2d(channels, handed, 3, padding=1, bias=False)
    return nn.Sequential(*layers([given] + (hidden + 1) * [channels], first), last)


def layers(planes: list[int], first: int = 3) -> nn.Sequential:
    """Layers of 3×3, the first of `first`×`first`, from each number of planes to the next, none below 0."""
    made: list[nn.Module] = []
    for n, (before, after) in enumerate(itertools.pairwise(planes)):
        side = first if n == 0 else 3
        made += [nn.Conv2d(before, after, side, padding=side // 2, bias=False), nn.ReLU()]
    return nn.Sequential(*made)


def taught(
    network: nn.Module, example: Callable[[], Example], *, steps: int, batch: int, rate: float, rim: int,
    absolute: float, squared: float,
) -> nn.Module:  # fmt: skip
    """The network after so many steps of Adam, the rate of learning rising and falling (Smith and Topin 2018). The
    loss is the mean of absolute and of squared errors, weighed so, `rim` pixels at the sides left out."""
    network = network.to(memory_format=torch.channels_last)
    adam = torch.optim.Adam(network.parameters(), rate)
    rising = max(0.05, 2 / steps)  # a step at the least
    rates = torch.optim.lr_scheduler.OneCycleLR(adam, rate, steps, pct_start=rising, final_div_factor=100)
    begun, inside, squares = time.perf_counter(), slice(rim, -rim or None), np.zeros(2)
    for step in range(1, steps + 1):
        drawn = [example() for _ in range(batch)]
        given, wanted, weight = (torch.from_numpy(np.stack(planes)) for planes in zip(*drawn, strict=True))
        missed, weight = wanted[..., inside, inside], weight[..., None, None]
        apart = network(given.to(memory_format=torch.channels_last))[..., inside, inside] - missed
        loss = absolute * (weight.sqrt() * apart.abs()).mean() + squared * (weight * apart.square()).mean()
        adam.zero_grad()
        loss.backward()
        adam.step()
        rates.step()
        squares += [(weight * part.detach().square()).mean().item() for part in (missed, apart)]
        if step % TOLD_EVERY == 0:
            gain = 10 * np.log10(squares[0] / squares[1])
            print(f"{step:6} {time.perf_counter() - begun:6.0f} s  {gain:+.2f} dB", flush=True)
            squares[:] = 0
    return network


def asked(about: str | None, examples: str, count: int, steps: int, seed: int) -> argparse.Namespace:
    """What a training is asked for: a file, so many examples and steps, and a seed."""
    parser = argparse.ArgumentParser(description=about)
    parser.add_argument("file")
    parser.add_argument(f"--{examples}", dest="count", type=int, default=count)
    parser.add_argument("--steps", type=int, default=steps)
    parser.add_argument("--seed", type=int, default=seed)
    return parser.parse_args()


def made(kind: Callable[[int], Made], order: argparse.Namespace) -> list[Made]:
    """So many examples, each from a seed of its own, on all cores."""
    with ProcessPoolExecutor() as pool:
        return list(pool.map(kind, range(order.seed * SEEDS, order.seed * SEEDS + order.count)))


def write(network: nn.Module, given: int, path: str) -> None:
    """The network as ONNX, for pictures of any size."""
    network = network.to(memory_format=torch.contiguous_format).eval()
    sides = {2: torch.export.Dim("height"), 3: torch.export.Dim("width")}
    program = torch.onnx.export(
        network, (torch.zeros(1, given, 48, 56),), input_names=["seen"], output_names=["missed"],
        dynamic_shapes=(sides,), dynamo=True,
    )  # fmt: skip
    model = program.model_proto
    graph = model.graph
    for part in (model, graph, *graph.node, *graph.input, *graph.output, *graph.value_info, *graph.initializer):
        del part.metadata_props[:]  # where each was made, on which machine
    onnx.save(model, path)
