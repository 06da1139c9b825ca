"""Pictures that a network learns from: dead leaves (Lee, Mumford and Huang 2001), whose edges, sizes and textures
are spread as in nature, each drawn from its own seed. No outside picture is used."""

from __future__ import annotations

import cv2
import numpy as np
import numpy.typing as npt

from yellowclean.engine.colour.curves import bt709_encoded
from yellowclean.engine.testcamera.textures import fractal

SIDE, FINER = 384, 2
"""Pixels of a picture's side, and how many times as large it is drawn."""

LEAVES, SMALLEST, LARGEST, MIDDLE = 4000, 1.2, 120.0, 0.15
"""Shapes in a picture, their radii in its pixels, and the light of the middle one."""

SMALLEST_OF_COLOURED, CONTRAST = (1.2, 40.0), (0.25, 1.15)
"""Between which the smallest radius in a picture in colours lies, and the power to which its light is raised."""

DYED, SPREAD = (0.02, 0.3), (0.01, 0.06)
"""Logarithmic deviations of its dyes, and of the shapes about their dye."""

SHARP, OUT_OF_FOCUS = 0.6, (0.9, 6.0)
"""Share of pictures in focus, and by how much the others are not: deviations in pixels."""

TEXTURES, DYES = 6, 12
"""Kinds of texture, and of colour, on the shapes of one picture."""

Rng = np.random.Generator
Picture = npt.NDArray[np.float32]


def leaves(seed: int) -> Picture:
    """A grey picture of SIDE×SIDE, encoded, 0-1."""
    rng = np.random.default_rng((11, seed))
    light, _ = _drawn(rng, SMALLEST)
    return _photographed(light, rng)


def coloured(seed: int) -> Picture:
    """A picture in colours, SIDE×SIDE×3, encoded, 0-1; of some, all shapes are large."""
    rng = np.random.default_rng((13, seed))
    light, shown = _drawn(rng, float(np.exp(rng.uniform(*np.log(SMALLEST_OF_COLOURED)))))
    light = np.float32(MIDDLE) * (light / np.float32(MIDDLE)) ** np.float32(rng.uniform(*CONTRAST))
    dyes = np.exp(rng.normal(0, rng.uniform(*DYED), (DYES, 3)))
    spread = np.exp(rng.normal(0, rng.uniform(*SPREAD), (LEAVES, 3)))
    tint = (spread * dyes[rng.integers(0, DYES, LEAVES)]).astype(np.float32)
    return _photographed(light[..., None] * tint[shown], rng)


def _drawn(rng: Rng, smallest: float) -> tuple[Picture, npt.NDArray[np.int32]]:
    """The light of a picture, FINER times as large as it will be, and which shape lies where."""
    side = SIDE * FINER
    shown = np.zeros((side, side), np.int32)
    for k in range(1, LEAVES):
        _draw(shown, k, rng, smallest)
    tones = np.exp(rng.normal(np.log(MIDDLE), rng.uniform(0.3, 1.0), LEAVES)).astype(np.float32)
    rough = (rng.uniform(0, 0.4, LEAVES) ** 1.5).astype(np.float32)
    kind = rng.integers(0, TEXTURES, LEAVES)
    textures = np.stack([_texture(rng, side) for _ in range(TEXTURES)])
    rows, columns = np.mgrid[:side, :side]
    light = tones[shown] * np.clip(1 + rough[shown] * textures[kind[shown], rows, columns], 0.1, 3)
    light *= np.clip(1 + 0.3 * fractal(rng, side, side, side / 3, 0.3), 0.3, 2)
    return light, shown


def _photographed(light: Picture, rng: Rng) -> Picture:
    """Light as a lens, in focus or not, and a camera give it."""
    light = cv2.resize(light, (SIDE, SIDE), interpolation=cv2.INTER_AREA)
    soft = rng.uniform(0.3, 0.9) if rng.random() < SHARP else np.exp(rng.uniform(*np.log(OUT_OF_FOCUS)))
    return np.clip(bt709_encoded(cv2.GaussianBlur(light, (0, 0), soft)), 0, 1).astype(np.float32)


def _texture(rng: Rng, side: int) -> Picture:
    """Cloud, grain, or lines, of unit deviation."""
    if rng.random() < 0.6:
        return fractal(rng, side, side, float(rng.uniform(4, 64)), float(rng.uniform(0.5, 0.9)))
    y, x = np.mgrid[:side, :side].astype(np.float32)
    angle, period = rng.uniform(0, np.pi), FINER * rng.uniform(2.5, 14)
    bent = np.float32(2) * fractal(rng, side, side, 64, 0.4)
    waves = np.sin(2 * np.pi / period * (x * np.cos(angle) + y * np.sin(angle) + bent)) * rng.uniform(1, 4)
    return (np.clip(waves, -1, 1) * np.float32(1.4)).astype(np.float32)


def _draw(shown: npt.NDArray[np.int32], k: int, rng: Rng, smallest: float) -> None:
    """One shape: a leaf, a polygon, or a stroke, radii spread as r^-3."""
    low, high = smallest**-2, LARGEST**-2
    radius = FINER * (low + rng.random() * (high - low)) ** -0.5
    middle = rng.uniform(-radius, len(shown) + radius, 2)
    angle, what = rng.uniform(0, 2 * np.pi), rng.random()
    if what < 0.45:
        turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
        corners = np.stack([np.cos(turn), np.sin(turn) * rng.uniform(0.3, 1)], axis=1)
    elif what < 0.8:
        turn = np.sort(rng.uniform(0, 2 * np.pi, rng.integers(3, 7)))
        corners = np.stack([np.cos(turn), np.sin(turn)], axis=1)
    else:
        length, thin = rng.uniform(2, 12), rng.uniform(0.3, 1)
        radius = min(radius, 6 * FINER)
        corners = np.array([[-length, -thin], [length, -thin], [length, thin], [-length, thin]])
    turned = corners @ np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
    cv2.fillPoly(shown, [np.rint((middle + radius * turned) * 16).astype(np.int32)], int(k), cv2.LINE_8, 4)
