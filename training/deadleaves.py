"""Dead leaves: pictures of shapes that cover one another, with sizes spread like those in natural pictures (Lee,
Mumford, Huang 2001), textures on them, and a camera that moves before several depths of them. All is drawn from a
seed; no outside picture is used."""

from __future__ import annotations

import cv2
import numpy as np

from yellowclean.engine.frames import Frame
from yellowclean.engine.testcamera.textures import fractal


def leaves(rng: np.random.Generator, height: int, width: int, count: int) -> tuple[Frame, Frame]:
    """A layer: colour H×W×3 and what of it is covered, H×W."""
    colour, covered = np.zeros((height, width, 3), np.float32), np.zeros((height, width), np.float32)
    textures = [
        fractal(rng, height, width, float(rng.uniform(4, 120)), float(rng.uniform(0.3, 0.9))) for _ in range(4)
    ]
    rows, columns = np.mgrid[:height, :width].astype(np.float32)
    base = rng.uniform(0.05, 0.9, (5, 3))
    for _ in range(count):
        size = float(np.clip(4 * rng.pareto(1.6) + 3, 3, 0.5 * height))
        x, y = rng.uniform(0, width), rng.uniform(0, height)
        mask = np.zeros((height, width), np.uint8)
        if rng.random() < 0.6:
            axes = max(round(size), 1), max(round(size * rng.uniform(0.2, 1)), 1)
            cv2.ellipse(mask, (round(x), round(y)), axes, rng.uniform(0, 180), 0, 360, 255, -1, cv2.LINE_AA)
        else:
            corners = rng.integers(3, 7)
            turn = np.sort(rng.uniform(0, 2 * np.pi, corners))
            points = np.stack([x + size * np.cos(turn), y + size * np.sin(turn)], axis=-1)
            cv2.fillPoly(mask, [np.rint(points).astype(np.int32)], 255, cv2.LINE_AA)
        part = mask[..., None].astype(np.float32) / 255
        shade = base[rng.integers(len(base))] * rng.uniform(0.5, 1.3) + rng.normal(0, 0.06, 3)
        pattern: Frame = rng.uniform(0, 0.25) * textures[rng.integers(len(textures))]
        if rng.random() < 0.25:
            turn, period = rng.uniform(0, np.pi), rng.uniform(2.5, 16)
            across = columns * np.cos(turn) + rows * np.sin(turn)
            pattern = pattern + rng.uniform(0.05, 0.3) * np.sin(2 * np.pi * across / period)
        slope = rng.uniform(-0.3, 0.3) * (columns - x) / width + rng.uniform(-0.3, 0.3) * (rows - y) / height
        leaf = shade * (1 + pattern + slope)[..., None]
        colour += part * (leaf.astype(np.float32) - colour)
        covered = np.maximum(covered, part[..., 0])
    blur = float(rng.choice([0.4, 0.6, 0.8, 1.2, 2.5]))
    return cv2.GaussianBlur(colour, (0, 0), blur).clip(0, 1), cv2.GaussianBlur(covered, (0, 0), blur)


def clip(seed: int, height: int, width: int, frames: int) -> list[Frame]:
    """A moving camera before a wall of leaves and some that hang nearer."""
    rng = np.random.default_rng(seed)
    tall, wide = height + 120, width + 160
    far, _ = leaves(rng, tall, wide, 260)
    near, covered = leaves(rng, tall, wide, 5)
    gone, speed = rng.uniform(-4, 4, 2) * rng.choice([0, 0.3, 1]), rng.uniform(1, 2)
    turn, zoom = rng.normal(0, 0.15), rng.normal(0, 0.0015)
    shots = []
    for n in range(frames):
        t = n - frames // 2

        def seen(plate: Frame, far_off: float, t: float = t) -> Frame:
            move = cv2.getRotationMatrix2D((wide / 2, tall / 2), turn * t, 1 + zoom * t)
            move[:, 2] += far_off * gone * t - (80, 60)
            return cv2.warpAffine(
                plate, move, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT
            )

        cover = seen(covered, speed)[..., None]
        shots.append(np.clip(seen(far, 1.0) * (1 - cover) + seen(near, speed) * cover, 0, 1).astype(np.float32))
    return shots
