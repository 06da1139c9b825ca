"""Footage with moiré and its truth: cloth finer than a colour filter can tell apart, before photographs, through
the test camera with its filter and, for the truth, with a sensor for each colour."""

from __future__ import annotations

import itertools
from collections.abc import Callable

import cv2
import numpy as np

from yellowclean.engine.colour.curves import bt709_linear
from yellowclean.engine.frames import Array
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.sensor import expose

from .clips import coded, described
from .faulty import HEIGHT, WIDTH, Scene, h264, panned, pictures

FINER = 3
"""Samples a pixel, each way, that a pattern is drawn with."""

LENS = 0.3
"""Blur of the lens in pixels: sharper than the filter's grid."""

Y, X = ((np.mgrid[: HEIGHT * FINER, : WIDTH * FINER] + 0.5) / FINER - 0.5).astype(np.float32)


def stripes(t: float) -> Array:
    """Grey stripes of 2.1 px that widen to the right."""
    across = (X - 0.9 * t) * np.cos(0.2) + Y * np.sin(0.2)
    shade = 0.55 * (0.5 + 0.45 * np.sin(2 * np.pi * (across / 2.1 - 0.00033 * across * across)))
    return np.repeat(shade[..., None], 3, axis=2).astype(np.float32)


def grid(t: float) -> Array:
    """A grille that turns slowly, before a warm light."""
    turn = np.deg2rad(11 + 0.15 * t)
    u = (X - 0.6 * t) * np.cos(turn) + Y * np.sin(turn)
    v = Y * np.cos(turn) - (X - 0.6 * t) * np.sin(turn)
    holes = _bars(u, 2.7) * _bars(v, 3.1)
    return ((0.06 + 0.7 * holes)[..., None] * np.array([0.9, 0.85, 0.7])).astype(np.float32)


def _bars(across: Array, period: float) -> Array:
    return 1 / (1 + np.exp(-6 * (np.cos(2 * np.pi * across / period) + 0.1)))


def weave(t: float) -> Array:
    """Bluish threads both ways, in folds."""
    u, v = X - 1.3 * t, Y - 0.4 * t
    fold = 3 * np.sin(u / 47 + v / 90) + 2 * np.sin(v / 38 - u / 120)
    threads = 0.32 + 0.13 * np.cos(2 * np.pi * (u + fold) / 2.5) + 0.1 * np.cos(2 * np.pi * (v + 0.7 * fold) / 2.6)
    shade = threads * (1 + 0.25 * np.sin(u / 40 + v / 60))
    return (shade[..., None] * np.array([0.75, 0.9, 1.15])).astype(np.float32)


PATTERNS: dict[str, tuple[Callable[[float], Array], tuple[float, float], tuple[float, float]]] = {
    "stripes": (stripes, (250, 180), (0.9, 0)),
    "grid": (grid, (400, 170), (0.6, 0)),
    "weave": (weave, (300, 190), (1.3, 0.4)),
}
"""How each is drawn, where its middle lies in the first frame, and how it moves, in pixels."""


def _outline(kind: str, t: float) -> Array:
    """What of the picture is cloth, 0 to 1."""
    _, (x, y), (across, down) = PATTERNS[kind]
    middle = round((x + across * t) * FINER), round((y + down * t) * FINER)
    drawn = np.zeros(X.shape, np.float32)
    if kind == "grid":
        (left, top), (right, bottom) = ((middle[0] + s * 150 * FINER, middle[1] + s * 100 * FINER) for s in (-1, 1))
        cv2.rectangle(drawn, (left, top), (right, bottom), 1.0, -1)
    else:
        cv2.ellipse(drawn, middle, (150 * FINER, 120 * FINER), 10, 0, 360, 1.0, -1)
    return cv2.GaussianBlur(drawn, (0, 0), FINER)


def fringed(most: int = 4) -> list[Scene]:
    """Each pattern before photographs, as the sensor gives it and after H.264."""
    count = 5
    filtered = Camera(stops_under=0, lens_sigma=0.0)
    apart = filtered.model_copy(update={"bayer": False, "noiseless": True})
    scenes = []
    for (name, picture), kind in itertools.product(itertools.islice(pictures().items(), 4, 4 + most), PATTERNS):
        frames, truth, inside = [], [], []
        for t, behind in enumerate(panned(picture, count, 1.1, 0.3)):
            soft = bt709_linear(cv2.GaussianBlur(np.clip(behind, 0, 1), (0, 0), 0.7)).astype(np.float32)
            outline = _outline(kind, t)[..., None]
            large = cv2.resize(soft, X.shape[::-1], interpolation=cv2.INTER_CUBIC)
            light = cv2.GaussianBlur(large + outline * (PATTERNS[kind][0](t) - large), (0, 0), LENS * FINER)
            light = cv2.resize(light, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)
            frames.append(np.clip(expose(light, filtered, t), 0, 1))
            truth.append(np.clip(expose(light, apart, t), 0, 1))
            inside.append(cv2.resize(outline, (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA) > 0.5)
        info = described(count, WIDTH, HEIGHT)
        coded_frames, coded_info, _ = coded(frames, info, h264(18))
        judged = range(1, count - 1)
        scenes += [
            Scene(f"{name}; {kind}", frames, truth, inside, judged, info),
            Scene(f"{name}; {kind}, H.264", coded_frames, truth, inside, judged, coded_info),
        ]
    return scenes
