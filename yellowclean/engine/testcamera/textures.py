"""Procedural materials of Quay Nine, in linear light: albedo maps with detail at every scale."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

from ..frames import Array

Rng = np.random.Generator


def fractal(rng: Rng, height: int, width: int, coarsest: float = 128.0, roughness: float = 0.55) -> Array:
    """Noise with octaves from `coarsest` pixels down to one pixel, zero mean, unit deviation."""
    total = np.zeros((height, width), np.float32)
    cell, weight = coarsest, 1.0
    while cell >= 1:
        grid = rng.standard_normal((int(height / cell) + 3, int(width / cell) + 3)).astype(np.float32)
        size = int(grid.shape[1] * cell), int(grid.shape[0] * cell)
        fine = cv2.resize(grid, size, interpolation=cv2.INTER_CUBIC)
        total += np.float32(weight) * fine[:height, :width]
        cell, weight = cell / 2, weight * roughness
    total -= total.mean()
    spread: Array = total / max(total.std(), np.float32(1e-9))
    return spread


def tinted(shade: Array, colour: tuple[float, float, float]) -> Array:
    """A grey albedo map times a linear colour."""
    return shade[..., None] * np.array(colour, np.float32)


def brick(rng: Rng, height: int, width: int, course: int = 26) -> Array:
    """A brick wall: staggered courses, mortar joints, colour from brick to brick, pitted faces."""
    length = course * 5 // 2
    y, x = np.mgrid[:height, :width].astype(np.float32)
    row = (y // course).astype(int)
    shifted = x + (row % 2) * length / 2
    column = (shifted // length).astype(int)
    in_y, in_x = y % course, shifted % length
    joint = np.minimum(np.minimum(in_y, course - in_y), np.minimum(in_x, length - in_x))
    joint += 0.8 * fractal(rng, height, width, 8)
    face = np.clip((joint - 1.5) / 1.5, 0, 1)
    tones = rng.uniform(0.6, 1.25, (row.max() + 2, column.max() + 2)).astype(np.float32)
    warmth = rng.uniform(-0.04, 0.04, tones.shape).astype(np.float32)
    pitted = tones[row, column] * (1 + 0.16 * fractal(rng, height, width, 16, 0.75))
    bricks = tinted(np.clip(pitted, 0.15, 2), (0.30, 0.135, 0.085))
    bricks[..., 0] += 0.3 * warmth[row, column]
    mortar = tinted(1 + 0.12 * fractal(rng, height, width, 6), (0.21, 0.195, 0.17))
    wall = mortar + (bricks - mortar) * face[..., None]
    stains = np.clip(1 + 0.18 * fractal(rng, height, width, 256), 0.4, 1.4)
    painted: Array = (np.clip(wall, 0.01, 1) * stains[..., None]).astype(np.float32)
    return painted


def planks(rng: Rng, height: int, width: int, board: int = 46) -> Array:
    """Weathered decking: boards with long grain, gaps and nail heads."""
    grain = cv2.GaussianBlur(rng.standard_normal((height, width)).astype(np.float32), (0, 0), 9, sigmaY=0.8)
    grain /= grain.std()
    y, x = np.mgrid[:height, :width].astype(np.float32)
    number = (y // board).astype(int)
    tone = rng.uniform(0.7, 1.2, number.max() + 1).astype(np.float32)[number]
    gap = np.clip(np.abs((y + 2) % board - 2) / 2.5, 0.12, 1)
    rough = 1 + 0.22 * grain + 0.10 * fractal(rng, height, width, 64, 0.7)
    nails = ((x % 160 - 80) ** 2 + (y % board - board / 2) ** 2) < 7
    shade = np.where(nails, 0.3, np.clip(tone * rough, 0.1, 2) * gap)
    return tinted(shade.astype(np.float32), (0.17, 0.145, 0.12))


def sailcloth(rng: Rng, height: int, width: int, thread: float = 5.0) -> Array:
    """Woven canvas: over-and-under threads with uneven yarn, seams with stitches, slack folds."""
    y, x = np.mgrid[:height, :width].astype(np.float32)
    bend = 2.5 * fractal(rng, height, width, 200, 0.3)
    u, v = (x + bend) / thread, (y - bend) / thread
    warp, weft = np.sin(2 * np.pi * u), np.sin(2 * np.pi * v)
    over = np.sin(np.pi * u) * np.sin(np.pi * v)
    weave = 0.55 * np.where(over > 0, warp, weft) + 0.25 * over
    yarn = 0.35 * fractal(rng, height, width, 12, 0.8)
    seam = np.abs((x * 0.94 + y * 0.34) % 420 - 210)
    stitched = np.where((seam < 3) & ((y % 14) < 8), 0.45, 1.0) * np.where(np.abs(seam - 7) < 1.5, 0.7, 1.0)
    folds = 1 + 0.35 * np.sin(x / 190 + 1.6 * fractal(rng, height, width, 400, 0.3))
    shade = (1 + 0.20 * weave + 0.12 * yarn) * stitched * folds
    return tinted(np.clip(shade, 0.05, 3).astype(np.float32), (0.50, 0.47, 0.39))


def rope_into(plate: Array, rng: Rng, points: list[tuple[float, float]], thickness: float) -> None:
    """Lay a three-strand rope along a smooth path through `points` (x, y) onto `plate`."""
    knots = np.array(points, np.float32)
    t = np.linspace(0, len(knots) - 1, 60 * len(knots))
    path = np.stack([np.interp(t, np.arange(len(knots)), knots[:, k]) for k in (0, 1)], axis=1)
    path = cv2.blur(path.reshape(-1, 1, 2), (1, 41), borderType=cv2.BORDER_REPLICATE).reshape(-1, 2)
    steps = np.hypot(*np.diff(path, axis=0).T)
    along = np.concatenate([[0], np.cumsum(steps)])
    count = int(along[-1] * 2)
    centre = np.stack([np.interp(np.linspace(0, along[-1], count), along, path[:, k]) for k in (0, 1)], axis=1)
    ahead = np.gradient(centre, axis=0)
    ahead /= np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-6)
    across = np.linspace(-thickness / 2, thickness / 2, int(thickness * 2))
    s = np.linspace(0, along[-1], count)[:, None]
    xs = (centre[:, :1] - ahead[:, 1:] * across).round().astype(int)
    ys = (centre[:, 1:] + ahead[:, :1] * across).round().astype(int)
    twist = np.sin(2 * np.pi * (s / (thickness * 0.9) + across / thickness * 0.8))
    roundness = np.sqrt(np.clip(1 - (2 * across / thickness) ** 2, 0.02, 1))
    fibre = rng.standard_normal((count, len(across)))
    shade = roundness * (0.75 + 0.3 * twist) * (1 + 0.12 * fibre)
    inside = (xs >= 0) & (xs < plate.shape[1]) & (ys >= 0) & (ys < plate.shape[0])
    plate[ys[inside], xs[inside], :3] = np.clip(shade, 0.03, 2)[inside][:, None] * np.array([0.42, 0.33, 0.20])
    if plate.shape[2] == 4:
        plate[ys[inside], xs[inside], 3] = 1


def water(height: int, width: int, time: float, seed: int) -> Array:
    """Slope of moving water at `time` seconds, H×W, about -1 to 1: crossing wave trains."""
    rng = np.random.default_rng(seed)
    y = np.linspace(0.25, 1.6, height, dtype=np.float32)[:, None]
    depth = 60 / y  # nearer water shows longer waves
    x = np.arange(width, dtype=np.float32)[None, :]
    slope = np.zeros((height, width), np.float32)
    for _ in range(9):
        length = rng.uniform(0.12, 1.3)
        angle = rng.uniform(-0.5, 0.5)
        speed = rng.uniform(1.2, 3.2)
        phase = x * (np.sin(angle) / (length * 30)) + depth * (np.cos(angle) / length) * 3
        slope += np.sin(phase + speed * time / np.sqrt(length)).astype(np.float32) * np.float32(length**0.5)
    return slope / np.float32(3)


def stars(rng: Rng, height: int, width: int, count: int) -> Array:
    """A star field, H×W×3: a few bright, many faint, each about one pixel wide, slightly coloured."""
    field = np.zeros((height, width, 3), np.float32)
    ys, xs = rng.integers(2, height - 2, count), rng.integers(2, width - 2, count)
    power = 0.02 + 0.5 * rng.pareto(2.2, count).clip(0, 6) / 6
    hue = 1 + rng.uniform(-0.18, 0.18, (count, 3))
    field[ys, xs] = (power[:, None] * hue).astype(np.float32)
    soft: Array = cv2.GaussianBlur(field, (0, 0), 0.75) * 3
    return soft


def crane_into(matte: Array, x: int, base: int, height: int, reach: int) -> None:
    """Draw the silhouette of a lattice crane into a 0-1 matte."""
    top = base - height
    line: dict[str, Any] = {"color": 1.0, "lineType": cv2.LINE_AA}
    for side in (-7, 7):
        cv2.line(matte, (x + side, base), (x + side // 2, top), thickness=3, **line)
    for y in range(top, base, 16):
        cv2.line(matte, (x - 6, y), (x + 6, y + 16), thickness=1, **line)
        cv2.line(matte, (x + 6, y), (x - 6, y + 16), thickness=1, **line)
    tip = x + reach, top - abs(reach) // 5
    for lift in (0, 9):
        cv2.line(matte, (x - reach // 4, top + lift), (tip[0], tip[1] + lift // 2), thickness=2, **line)
    for k in range(0, abs(reach), 14):
        ax = x + int(np.sign(reach)) * k
        ay = top - k // 5
        cv2.line(matte, (ax, ay), (ax + 7 * int(np.sign(reach)), ay + 8), thickness=1, **line)
    cv2.line(matte, (tip[0], tip[1]), (tip[0], tip[1] + height // 3), thickness=1, **line)
    cv2.rectangle(matte, (x - 12, top - 2), (x + 12, top + 20), 1.0, -1)
