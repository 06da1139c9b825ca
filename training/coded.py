"""Trains what tells how far blocks of a coded picture are off what was there before noise and codec.

    python -m training.coded [--clips 1600] [--steps 5000] [--seed 0] FILE.onnx

Drawn pictures move before the test camera, whose noise and faults of sensor and processing they get, and go through
H.264 or HEVC, some through ProRes after it. The network learns the median of what a block is off, from what is seen
of it (see yellowclean/engine/measure/coded.py). Every clip weighs as much as another. Eight are taught, each begun
otherwise, and their mean is written down: what one seed of learning makes of a clip is a matter of luck.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
import torch
from torch import nn

from benchmarks.clips import coded, described
from benchmarks.faulty import Held
from benchmarks.survey import as_recorded
from yellowclean.engine.colour.curves import bt709_linear
from yellowclean.engine.frames import CV_SCALE
from yellowclean.engine.measure.blocks import block_statistics
from yellowclean.engine.measure.coded import FEATURES, FLOOR_CV
from yellowclean.engine.measure.pairs import pairs_at
from yellowclean.engine.media.formats import OUTPUT_FORMATS, OutputFormat
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.sensor import expose

from .clips import SHOWN, moving
from .pictures import Picture, Rng
from .teaching import Example, asked, made, taught, write

FRAMES, TAKEN, FASTEST_PX = 13, (6, 8, 10, 12), 14.0
"""Frames of a clip, those that are learned from, and most motion a frame, across and down."""

STILL, LIGHT = 0.2, 2.0
"""Share of clips in which nothing moves, and how many times as bright or dark a picture is shown at most."""

STOPS, BAYER, LOG, QUIET = 5.0, 0.6, 0.15, 0.05
"""Most stops under, and the shares of cameras with a colour filter, with a log curve, and without noise."""

SOFTENED, SHARPENED = 0.1, 0.15
"""Shares of clips that the camera blurred or sharpened before it coded them."""

HEVC, BY_QUALITY, TRANSCODED = 0.45, 0.7, 0.2
"""Shares of clips in HEVC, of those coded at a quality for a rate, and of those that went through ProRes after."""

CRF, BITS_A_PIXEL = (14.0, 38.0), (0.06, 1.5)
"""Qualities and rates."""

PIXELS = {
    "yuv420p": (8, "4:2:0"), "yuv420p10le": (10, "4:2:0"),
    "yuv422p10le": (10, "4:2:2"), "yuv444p10le": (10, "4:4:4"),
}  # fmt: skip
USUAL = 0.6, 0.17, 0.16, 0.07
"""Bits and sampling of colour, and how usual each is."""

PRESETS, KEYS = ("veryfast", "fast", "medium", "slow"), (6, 12, 25, 250)
"""How hard the encoder works, and after how many frames one is coded for itself."""

FEWEST = 100
"""Blocks, without which a clip teaches nothing."""

CHANNELS, PATCH, BATCH, RATE = 64, 4, 128, 4e-3
"""Numbers between the layers; blocks in a patch, each way; patches in a step; and the highest rate of learning."""

TOGETHER, HANDED = 8, 6
"""Networks whose mean is taken, and numbers that each hands back."""


def shot(seed: int) -> Example | None:
    """Blocks of one clip, side by side: what is seen of them, and what they are off; none of a clip that is all
    clipped."""
    rng = np.random.default_rng((14, seed))
    fastest = 0 if rng.random() < STILL else FASTEST_PX
    gain = np.float32(np.exp(rng.uniform(-1, 1) * np.log(LIGHT)))
    light = [gain * bt709_linear(frame) for frame in moving(seed, rng, FRAMES, fastest)]
    camera = Camera(
        stops_under=rng.uniform(0, STOPS), bayer=rng.random() < BAYER, noiseless=rng.random() < QUIET,
        curve="log" if rng.random() < LOG else "bt709", seed=seed, lens_sigma=rng.choice([0.0, 0.6]),
    )  # fmt: skip
    processed = _processing(rng)
    clean, noisy = (
        [np.clip(processed(expose(picture, kind, n)), 0, 1) for n, picture in enumerate(light)]
        for kind in (camera.clean(), camera)
    )
    fmt, bits, chroma = _format(rng)
    decoded, info, _ = coded(noisy, described(FRAMES, SHOWN, SHOWN), fmt)
    if rng.random() < TRANSCODED:
        decoded, info, _ = coded(decoded, info, OUTPUT_FORMATS["prores-hq"])
    seen, off = [], []
    for pair in pairs_at(Held(decoded, info), TAKEN):
        if pair.far is not None:
            place, features = pair.far.traces
            rest = np.ascontiguousarray(decoded[pair.n] - as_recorded(clean[pair.n], bits, chroma))
            variance = block_statistics(rest, (-np.inf, np.inf)).variance[place[:, 0], place[:, 1]]
            seen.append(features)
            off.append(np.log(variance * CV_SCALE**2 + FLOOR_CV**2) / 2)
    if sum(len(part) for part in seen) < FEWEST:
        return None
    given, wanted = (np.ascontiguousarray(np.concatenate(parts).T[:, None]) for parts in (seen, off))
    return Example(given, wanted, np.ones(len(wanted), np.float32))


def _processing(rng: Rng) -> Callable[[Picture], Picture]:
    """What a camera does to its pictures before it codes them."""
    kind, sigma, amount = rng.random(), rng.uniform(0.4, 0.8), rng.uniform(0.3, 1.0)

    def processed(frame: Picture) -> Picture:
        if kind < SOFTENED:
            return cv2.GaussianBlur(frame, (0, 0), sigma)
        if kind < SOFTENED + SHARPENED:
            return frame + np.float32(amount) * (frame - cv2.GaussianBlur(frame, (0, 0), 2 * sigma))
        return frame

    return processed


def _format(rng: Rng) -> tuple[OutputFormat, int, str]:
    """A codec as it may have been set, its bits, and its sampling of colour."""
    codec, options = "libx264", {"preset": str(rng.choice(PRESETS)), "g": str(rng.choice(KEYS))}
    if rng.random() < HEVC:
        codec, options["x265-params"] = "libx265", "log-level=none"
    if rng.random() < BY_QUALITY:
        options["crf"] = f"{rng.uniform(*CRF):.1f}"
    else:
        options["b"] = str(int(SHOWN**2 * 24 * np.exp(rng.uniform(*np.log(BITS_A_PIXEL)))))
    pixels = str(rng.choice(list(PIXELS), p=USUAL))
    bits, chroma = PIXELS[pixels]
    return OutputFormat(codec, ".mp4", codec, codec, pixels, bits, chroma, options=options), bits, chroma


class Mean(nn.Module):  # type: ignore[misc]  # torch is not installed where types are checked
    """What several networks hand back on average."""

    def __init__(self, networks: list[nn.Module]) -> None:
        super().__init__()
        self.networks = nn.ModuleList(networks)

    def forward(self, seen: torch.Tensor) -> torch.Tensor:
        return torch.stack([network(seen) for network in self.networks]).mean(dim=0)


def learned(clips: list[Example], steps: int, seed: int) -> nn.Module:
    torch.manual_seed(seed)
    rng = np.random.default_rng(seed)
    layers: list[nn.Module] = []
    for given, handed in ((FEATURES, CHANNELS), (CHANNELS, CHANNELS), (CHANNELS, HANDED)):
        layers += [nn.Conv2d(given, handed, 1), nn.ReLU()]
    network = nn.Sequential(*layers[:-1])

    everything = np.concatenate([clip.given[:, 0] for clip in clips], axis=1)
    usual, spread = everything.mean(axis=1)[:, None, None], everything.std(axis=1)[:, None, None]

    def patch() -> Example:
        given, wanted, weight = clips[rng.integers(len(clips))]
        some = rng.integers(0, given.shape[2], (PATCH, PATCH))
        return Example((given[:, 0][:, some] - usual) / spread, wanted[:, 0][:, some], weight)

    taught(network, patch, steps=steps, batch=BATCH, rate=RATE, rim=0, absolute=1.0, squared=0.0)
    first = network[0]
    with torch.no_grad():  # it is given what is seen as it is
        first.weight /= torch.from_numpy(spread)
        first.bias -= (first.weight * torch.from_numpy(usual)).sum(dim=(1, 2, 3))
    return network


def main() -> None:
    order = asked(__doc__, "clips", 1600, 5000, 0)
    clips = [clip for clip in made(shot, order) if clip is not None]
    seeds = range(TOGETHER * order.seed, TOGETHER * (order.seed + 1))
    write(Mean([learned(clips, order.steps, seed) for seed in seeds]), FEATURES, order.file)


if __name__ == "__main__":
    main()
