"""Short clips of drawn pictures as codecs leave them, beside what the classical treatment of codec traces makes of
them and what was there before the codec."""

from __future__ import annotations

from typing import NamedTuple

import cv2
import numpy as np
import numpy.typing as npt

from benchmarks.faulty import Held, as_coded, h264, mjpeg, mpeg2
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Region
from yellowclean.engine.media.formats import OutputFormat
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera.textures import fractal
from yellowclean.engine.treat import compression

from .pictures import SIDE, Picture, Rng, coloured

FRAMES, SHOWN = 9, 256
"""Frames of a clip, and pixels of their sides."""

TAKEN = 2
"""Frames of each clip that are learned from."""

FASTEST_PX, TURNS, GROWS = 5.0, 0.004, 0.003
"""Most motion a frame, across and down; radians and share of the size by which a frame turns and grows at most."""

TWO_LAYERED, GRAINY, WOVEN = 0.5, 0.4, 0.2
"""Shares of clips with something that moves before the rest, of pictures that hold grain of their own, and of clips
with cloth before them."""

THREADS_PX, THREADS_DIFFER, DEEPEST, BENT = (1.3, 9.0), 0.35, 0.5, 0.5
"""From one thread of a cloth to the next, some finer than pixels tell; by how much that differs, logarithmic, from
one way to the other; how dark threads are, and by how many threads they bend, at most."""

CRF, PRESETS, UNFILTERED = (17, 43), ("veryfast", "medium", "slow"), 0.15
"""How H.264 is used, and the share of its clips without a loop filter."""

OTHER_CODECS, STEPS = (0.1, 0.1), (3, 13)
"""Shares of clips in MPEG-2 and MJPEG, and their quantiser scales."""


class Sample(NamedTuple):
    """One frame: luma and colour differences (3×H×W) as decoded, merged along the motion, treated, and true;
    the error that the codec was let make, H×W; and what tells of luma from far around, 2×H×W."""

    decoded: Picture
    merged: Picture
    treated: Picture
    error: Picture
    far: Picture
    truth: Picture


def samples(seed: int) -> list[Sample]:
    """Frames of one clip."""
    rng = np.random.default_rng((12, seed))
    frames = moving(seed, rng, FRAMES, FASTEST_PX)
    if rng.random() < WOVEN:
        frames = behind_cloth(rng, frames)
    return taken(frames, _format(rng), [int(n) for n in rng.choice(FRAMES, TAKEN, replace=False)])


def taken(frames: list[Picture], fmt: OutputFormat, chosen: list[int]) -> list[Sample]:
    """Frames of a clip after a codec; none where it made no error to speak of."""
    height, width = frames[0].shape[:2]
    decoded, info, errors, settings = as_coded(frames, fmt)
    settings["learned"] = True
    plan = Plan(profile=white_profile(1.0), steps=[Step(kind="compression", settings=settings)])
    step = compression.Compression.model_validate(settings)
    found = []
    for n in chosen:
        told = errors[n]
        if told is None or (told * CV_SCALE <= compression.FULL).any():
            continue
        treated = compression.classically(step, *Pipeline(Footage(Held(decoded, info, errors)), plan).handed(0, n))
        if treated is not None:
            core, *planes = treated
            inside = Region(0, 0, width, height).within(core).slices
            before, merged, after, error, far = (plane[..., *inside] for plane in planes if plane is not None)
            found.append(Sample(before, merged, after, error, far, compression.planes_of(frames[n])))
    return found


def moving(seed: int, rng: Rng, count: int, fastest_px: float) -> list[Picture]:
    """A camera's travel over a picture, with another before it or not."""
    frames, _ = _travelled(2 * seed, rng, count, fastest_px)
    if rng.random() < TWO_LAYERED:
        before, ways = _travelled(2 * seed + 1, rng, count, fastest_px)
        shape = fractal(rng, SIDE, SIDE, rng.uniform(60, 200), 0.4)
        shape = np.clip((shape - np.quantile(shape, rng.uniform(0.5, 0.9))) * rng.uniform(5, 40), 0, 1)
        masks = [mask[..., None] for mask in _along(shape.astype(np.float32), ways)]
        frames = [m * a + (1 - m) * b for m, a, b in zip(masks, before, frames, strict=True)]
    return [frame.clip(0, 1).astype(np.float32) for frame in frames]


def _travelled(seed: int, rng: Rng, count: int, fastest_px: float) -> tuple[list[Picture], list[Picture]]:
    """A picture as a camera that glides over it shows it, frame by frame, and the way (2×3) of each."""
    picture = coloured(seed)
    if rng.random() < GRAINY:
        grain = rng.standard_normal(picture.shape, dtype=np.float32)
        picture = picture + np.float32(rng.uniform(0, 4) / 255) * cv2.GaussianBlur(
            grain, (0, 0), rng.uniform(0.3, 1)
        )
    speed = _speed(rng, fastest_px)
    turn, grow = rng.uniform(-1, 1, 2) * (TURNS, GROWS) * rng.integers(0, 2)
    ways = []
    for n in range(count):
        way = cv2.getRotationMatrix2D((SIDE / 2, SIDE / 2), float(np.degrees(turn * n)), float(1 + grow * n))
        way[:, 2] += speed * (n - count / 2) - (SIDE - SHOWN) / 2
        ways.append(way)
    return _along(picture, ways), ways


def behind_cloth(rng: Rng, frames: list[Picture]) -> list[Picture]:
    """Frames with cloth over them, or over a part: threads of two ways, bent, that move by themselves."""
    angle, period = rng.uniform(0, np.pi), np.exp(rng.uniform(*np.log(THREADS_PX)))
    periods = period * np.exp(rng.uniform(-THREADS_DIFFER, THREADS_DIFFER, 2) * (1, -1))
    parts = rng.uniform(-1, 1, 3)
    parts *= rng.uniform(0.1, 1) * DEEPEST / np.abs(parts).sum()
    speed = _speed(rng, FASTEST_PX)
    bent = [rng.uniform(0, BENT) * fractal(rng, SIDE, SIDE, rng.uniform(60, 250), 0.4) for _ in range(2)]
    shape = fractal(rng, SIDE, SIDE, rng.uniform(60, 200), 0.4)
    shape = np.clip((shape - np.quantile(shape, max(rng.uniform(-0.5, 0.7), 0))) * rng.uniform(5, 40) + 0.5, 0, 1)
    rows, columns = np.mgrid[:SHOWN, :SHOWN].astype(np.float32)
    shown = []
    for n, frame in enumerate(frames):
        x, y = speed * (n - len(frames) / 2)
        way = np.array([[1, 0, x - (SIDE - SHOWN) / 2], [0, 1, y - (SIDE - SHOWN) / 2]])
        across, down, cover = (_along(part.astype(np.float32), [way])[0] for part in (*bent, shape))
        u = (columns - x) * np.cos(angle) + (rows - y) * np.sin(angle)
        v = (rows - y) * np.cos(angle) - (columns - x) * np.sin(angle)
        warp, weft = np.cos(2 * np.pi * (u / periods[0] + across)), np.cos(2 * np.pi * (v / periods[1] + down))
        threads = parts[0] * warp + parts[1] * weft + parts[2] * warp * weft
        shown.append(np.clip(frame * (1 + cover.clip(0, 1) * threads)[..., None], 0, 1).astype(np.float32))
    return shown


def _speed(rng: Rng, fastest_px: float) -> npt.NDArray[np.float64]:
    """Pixels a frame, across and down, mostly slow."""
    speed: npt.NDArray[np.float64] = rng.uniform(-1, 1, 2) * fastest_px * rng.uniform(0, 1) ** 2
    return speed


def _along(picture: Picture, ways: list[Picture]) -> list[Picture]:
    return [
        cv2.warpAffine(picture, way, (SHOWN, SHOWN), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101)
        for way in ways
    ]


def _format(rng: Rng) -> OutputFormat:
    kind = rng.random()
    if kind < sum(OTHER_CODECS):
        return (mpeg2 if kind < OTHER_CODECS[0] else mjpeg)(int(rng.integers(*STEPS)))
    crf, options = rng.uniform(*CRF), {"preset": str(rng.choice(PRESETS))}
    if rng.random() < UNFILTERED:
        options["x264-params"] = "no-deblock=1"
    return h264(round(crf, 1), **options)
