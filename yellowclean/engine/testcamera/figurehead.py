"""A daylight-bright scene of what practitioners watch: a painted figurehead with hair of rope ends and a scarf of
fine cloth, ivy on a plastered wall, a clock and lettering. Everything is drawn twice as large and averaged down, so
that edges are as smooth as a lens would leave them."""

from __future__ import annotations

import cv2
import numpy as np
import numpy.typing as npt

from ..frames import Array
from . import textures as tx
from .textures import Rng

Drawing = npt.NDArray[np.uint8]
Points = npt.ArrayLike

FINER = 2
"""How many times larger than the plate lines and outlines are drawn."""


class Plate:
    """Albedo (linear, H×W×3) that outlines are painted onto, in units of the frame's height."""

    def __init__(self, albedo: Array, unit: float) -> None:
        self.albedo, self.unit = albedo, unit
        self._size = albedo.shape[0] * FINER, albedo.shape[1] * FINER

    def pixels(self, points: Points) -> npt.NDArray[np.int32]:
        return np.rint(np.asarray(points, np.float32) * self.unit * FINER).astype(np.int32)

    def empty(self) -> tuple[Drawing, Drawing]:
        return np.zeros((*self._size, 3), np.uint8), np.zeros(self._size, np.uint8)

    def lay(self, drawn: Drawing, covered: Drawing) -> None:
        """Average a drawing (8-bit, the square root of albedo) and its cover down and lay it over the plate."""
        height, width = self.albedo.shape[:2]
        cover = cv2.resize(covered.astype(np.float32) / 255, (width, height), interpolation=cv2.INTER_AREA)[
            ..., None
        ]
        light = (drawn.astype(np.float32) / 255) ** 2 * (covered[..., None] > 0)
        light = cv2.resize(light, (width, height), interpolation=cv2.INTER_AREA)
        self.albedo *= 1 - cover
        self.albedo += light


def _root(colour: tuple[float, float, float], share: float = 1.0) -> tuple[int, int, int]:
    """A linear colour as the drawing routines take it: 8-bit, square root."""
    r, g, b = (int(np.clip(255 * np.sqrt(np.clip(c * share, 0, 1)), 0, 255)) for c in colour)
    return r, g, b


def foliage(plate: Plate, rng: Rng, count: int, box: tuple[float, float, float, float]) -> None:
    """Ivy: pointed leaves with a lighter midrib, laid over each other from the dark depth to the lit front."""
    drawn, covered = plate.empty()
    left, top, right, bottom = box
    turn = np.linspace(0, 2 * np.pi, 17)
    length, breadth = 1 + 0.25 * np.cos(turn), 0.62 - 0.124 * np.cos(3 * turn)
    leaf = np.stack([np.cos(turn) * length, np.sin(turn) * breadth], -1)
    for k in range(count):
        depth = k / count
        size, angle = rng.uniform(0.010, 0.026), rng.uniform(0, 2 * np.pi)
        where = np.array([rng.uniform(left, right), rng.uniform(top, bottom)])
        spin = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        lit = (0.25 + 0.75 * depth) * rng.uniform(0.6, 1.15)
        green = (0.10 + 0.07 * rng.random(), 0.20 + 0.08 * rng.random(), 0.05)
        outline = plate.pixels(where + (leaf * size) @ spin.T)
        cv2.fillPoly(drawn, [outline], _root(green, lit), cv2.LINE_AA)
        cv2.fillPoly(covered, [outline], 255)
        rib = plate.pixels(where + np.array([[-0.9 * size, 0], [1.1 * size, 0]]) @ spin.T)
        cv2.line(drawn, rib[0].tolist(), rib[1].tolist(), _root(green, lit * 1.9), 1, cv2.LINE_AA)
    plate.lay(drawn, covered)


def clock(plate: Plate, x: float, y: float, radius: float) -> None:
    """An enamelled clock face: minute strokes, twelve figures, two hands."""
    drawn, covered = plate.empty()
    centre = plate.pixels([x, y]).tolist()
    size = int(radius * plate.unit * FINER)
    ink, enamel, brass = _root((0.03, 0.03, 0.035)), _root((0.74, 0.72, 0.66)), _root((0.36, 0.25, 0.09))
    cv2.circle(covered, centre, size, 255, -1)
    cv2.circle(drawn, centre, size, brass, -1)
    cv2.circle(drawn, centre, int(size * 0.93), enamel, -1, cv2.LINE_AA)
    for k in range(60):
        way = np.array([np.sin(k * np.pi / 30), -np.cos(k * np.pi / 30)])
        inner = 0.80 if k % 5 == 0 else 0.85
        ends = plate.pixels([np.array([x, y]) + way * radius * r for r in (inner, 0.89)])
        cv2.line(drawn, ends[0].tolist(), ends[1].tolist(), ink, 3 if k % 5 == 0 else 1, cv2.LINE_AA)
        if k % 5 == 0:
            text, scale, thick = str(k // 5 or 12), size / 260, max(size // 110, 1)
            (wide, tall), _ = cv2.getTextSize(text, cv2.FONT_HERSHEY_DUPLEX, scale, 1)
            at = plate.pixels(np.array([x, y]) + way * radius * 0.66) + np.array([-wide // 2, tall // 2])
            cv2.putText(drawn, text, at.tolist(), cv2.FONT_HERSHEY_DUPLEX, scale, ink, thick, cv2.LINE_AA)
    for turn, reach, weight in ((0.385, 0.46, 5), (0.617, 0.72, 3)):
        way = np.array([np.sin(turn * 2 * np.pi), -np.cos(turn * 2 * np.pi)])
        ends = plate.pixels([np.array([x, y]) - way * radius * 0.12, np.array([x, y]) + way * radius * reach])
        cv2.line(drawn, ends[0].tolist(), ends[1].tolist(), ink, max(size * weight // 130, 1), cv2.LINE_AA)
    plate.lay(drawn, covered)


def board(plate: Plate, x: float, y: float, width: float, lines: tuple[tuple[str, float], ...]) -> None:
    """A white board with lines of lettering, each with its height; from a headline down to small print."""
    drawn, covered = plate.empty()
    tall = sum(height * 1.7 for _, height in lines) + 0.02
    corners = plate.pixels([[x, y], [x + width, y + tall]])
    cv2.rectangle(covered, corners[0].tolist(), corners[1].tolist(), 255, -1)
    cv2.rectangle(drawn, corners[0].tolist(), corners[1].tolist(), _root((0.62, 0.60, 0.53)), -1)
    row = y + 0.008
    for text, height in lines:
        row += height * 1.35
        size = height * plate.unit * FINER
        at = plate.pixels([x + 0.015, row]).tolist()
        ink = _root((0.05, 0.06, 0.10))
        cv2.putText(drawn, text, at, cv2.FONT_HERSHEY_DUPLEX, size / 22, ink, max(int(size / 14), 1), cv2.LINE_AA)
        row += height * 0.35
    plate.lay(drawn, covered)


def hair(plate: Plate, rng: Rng, middle: tuple[float, float], side: float, near: float, count: int) -> None:
    """Rope ends combed from the parting of a head around `middle` down one side (-1 or 1), each with its own wave;
    `near` is how close to the face they come, as a share of the head's width."""
    drawn, covered = plate.empty()
    along = np.linspace(0, 1, 40)
    for k in range(count):
        lies, wave = rng.uniform(near, 1.16), rng.uniform(0, 2 * np.pi)
        turn = np.minimum(along * 2.4, 1) * np.radians(rng.uniform(84, 108))
        hang = np.maximum(along - 0.42, 0) * rng.uniform(0.60, 0.78)
        curl = hang * (0.035 * np.sin(17 * along + wave) + 0.05 * np.sin(9 * along + 2 * lies))
        out = side * (0.213 * lies * np.sin(turn) + 0.05 * hang + curl - 0.006)
        rise = 0.312 * (0.90 + 0.16 * (lies - near) / (1.16 - near)) * np.cos(turn)
        path = np.stack([out, hang - rise], -1)
        lit = (0.35 + 0.65 * k / count) * rng.uniform(0.5, 1.3) * (1.0 if side < 0 else 0.7)
        points, thick = [plate.pixels(path + middle)], int(rng.integers(2, 5))
        cv2.polylines(drawn, points, False, _root((0.40, 0.29, 0.14), lit), thick, cv2.LINE_AA)
        cv2.polylines(covered, points, False, 255, thick - 1)
    plate.lay(drawn, covered)


def scarf(plate: Plate, x: float, y: float) -> None:
    """A knotted scarf of fine check, three pixels a thread at the plate's own scale."""
    drawn, covered = plate.empty()
    shape = [[-0.15, 0.0], [-0.02, 0.045], [0.13, -0.005], [0.20, 0.05], [0.05, 0.125], [0.09, 0.30], [-0.01, 0.32],
             [-0.03, 0.13], [-0.19, 0.07]]  # fmt: skip
    cv2.fillPoly(covered, [plate.pixels(np.add(shape, (x, y)))], 255, cv2.LINE_AA)
    rows, columns = np.mgrid[: drawn.shape[0], : drawn.shape[1]].astype(np.float32) / FINER
    slack = 5 * np.sin(columns / 41 + rows / 67)
    across, down = (np.cos(2 * np.pi * at / 4.2) for at in (columns + slack, rows - slack))
    thread = 0.5 + 0.25 * (across + down)
    check = ((columns + slack) // 26 + (rows - slack) // 26) % 2
    fold = 0.75 + 0.25 * np.sin((columns + rows * 0.6) / 17)
    shade = (0.35 + 0.65 * thread) * fold
    for c, (light, dark) in enumerate(zip((0.62, 0.55, 0.42), (0.34, 0.07, 0.06), strict=True)):
        drawn[..., c] = np.clip(255 * np.sqrt(np.where(check > 0, light, dark) * shade), 0, 255)
    plate.lay(drawn, covered)


PAINTED = (
    (0.000, 0.161, 0.062, 0.016, (0.40, 0.07, 0.06)),
    (0.000, 0.184, 0.055, 0.018, (0.40, 0.07, 0.06)),
    (0.085, 0.000, 0.036, 0.017, (0.66, 0.63, 0.57)),
    (0.085, 0.000, 0.016, 0.017, (0.06, 0.15, 0.20)),
    (0.085, 0.000, 0.007, 0.008, (0.01, 0.01, 0.012)),
    (0.085, -0.066, 0.055, 0.008, (0.10, 0.055, 0.03)),
    (0.085, -0.017, 0.040, 0.005, (0.05, 0.03, 0.025)),
)
"""Lips, eyes, brows and lids: how far from the middle to both sides, height, half axes (of the face), colour."""


def bust(rng: Rng, size: int) -> tuple[Array, Array]:
    """(picture, cover) of the figurehead's head and shoulders, size×size: relief of rounded forms under one lamp,
    painted wood with brush strokes, pores and fine cracks in the paint."""
    y, x = np.mgrid[:size, :size].astype(np.float32) / size
    x, y = x - 0.5, y - 0.42

    def form(cx: float, cy: float, rx: float, ry: float, rise: float) -> Array:
        inside = 1 - ((x - cx) / rx) ** 2 - ((y - cy) / ry) ** 2
        return np.float32(rise) * np.sqrt(np.maximum(inside, 0))

    def bump(cx: float, cy: float, rx: float, ry: float, rise: float) -> Array:
        return np.float32(rise) * np.exp(-(((x - cx) / rx) ** 2) - ((y - cy) / ry) ** 2)

    head = form(0, 0, 0.205, 0.285, 0.24)
    neck = form(0, 0.36, 0.105, 0.25, 0.13)
    shoulders = form(0, 0.66, 0.46, 0.28, 0.16)
    relief = np.maximum(np.maximum(head, neck), shoulders)
    relief += bump(0, 0.045, 0.026, 0.075, 0.040) + bump(0, 0.095, 0.036, 0.022, 0.032)
    relief += bump(-0.085, -0.055, 0.07, 0.016, 0.018) + bump(0.085, -0.055, 0.07, 0.016, 0.018)
    relief -= bump(-0.085, -0.005, 0.05, 0.030, 0.030) + bump(0.085, -0.005, 0.05, 0.030, 0.030)
    relief += bump(-0.085, 0.0, 0.030, 0.019, 0.022) + bump(0.085, 0.0, 0.030, 0.019, 0.022)
    relief += bump(0, 0.158, 0.052, 0.013, 0.018) + bump(0, 0.186, 0.045, 0.015, 0.020)
    relief -= bump(0, 0.172, 0.05, 0.004, 0.012)
    relief += bump(0, 0.25, 0.045, 0.03, 0.022)
    relief += bump(-0.12, 0.09, 0.05, 0.05, 0.012) + bump(0.12, 0.09, 0.05, 0.05, 0.012)
    cover = cv2.GaussianBlur((relief > 0.004).astype(np.float32), (0, 0), max(size / 900, 0.7))

    strokes = cv2.GaussianBlur(rng.standard_normal((size, size)).astype(np.float32), (0, 0), size / 80, sigmaY=1.0)
    cracks = np.abs(tx.fractal(rng, size, size, size / 14, 0.62))
    pores = tx.fractal(rng, size, size, 6, 0.9)
    fine = 0.00022 * strokes / strokes.std() + 0.00022 * pores
    slope_y, slope_x = np.gradient(cv2.GaussianBlur(relief, (0, 0), size / 300) + fine / 1.6, 1 / size)
    normal = np.stack([-slope_x, -slope_y, np.ones_like(x)], -1)
    normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
    lamp = np.array([-0.52, -0.48, 0.71], np.float32)
    facing = np.clip(normal @ lamp, 0, 1)
    halfway = (lamp + np.array([0, 0, 1])) / np.linalg.norm(lamp + np.array([0, 0, 1]))
    shine = np.clip(normal @ halfway, 0, 1) ** 38
    hollow = np.clip(1 - 9 * (cv2.GaussianBlur(relief, (0, 0), size / 28) - relief), 0.35, 1.1)

    paint = np.empty((size, size, 3), np.float32)
    paint[:] = (0.56, 0.335, 0.235)
    blush = bump(-0.12, 0.085, 0.06, 0.05, 1.0) + bump(0.12, 0.085, 0.06, 0.05, 1.0) + bump(0, 0.1, 0.03, 0.03, 0.5)
    paint += np.clip(blush, 0, 1)[..., None] * np.array([0.03, -0.085, -0.07], np.float32)
    edge = size / 700
    for apart, cy, rx, ry, colour in PAINTED:
        outline = np.maximum(form(apart, cy, rx, ry, 1), form(-apart, cy, rx, ry, 1))
        share = cv2.GaussianBlur((outline > 0).astype(np.float32), (0, 0), edge)[..., None]
        paint += share * (np.array(colour, np.float32) - paint)
    dress = np.clip((y - 0.44 - 0.25 * np.abs(x)) * 90, 0, 1)[..., None]
    paint += dress * (np.array([0.07, 0.16, 0.21], np.float32) - paint)
    paint *= (1 - 0.45 * np.exp(-((cracks / 0.012) ** 2)))[..., None]
    paint *= (1 + 0.05 * tx.fractal(rng, size, size, size / 8, 0.6) + 0.02 * pores)[..., None]
    picture = paint * (0.20 + 0.95 * facing * hollow)[..., None] + np.float32(0.30) * shine[..., None]
    return np.clip(picture, 0.004, 1.5).astype(np.float32), cover


def painted(rng: Rng, height: int, width: int, unit: float) -> Array:
    """The whole set as one plate in linear light, H×W×3, where `unit` pixels are the frame's height."""
    damp, grit = tx.fractal(rng, height, width, 160, 0.45), tx.fractal(rng, height, width, 4, 0.9)
    wall = 0.30 * (1 + 0.07 * damp + 0.008 * grit)
    plate = Plate(tx.tinted(wall.astype(np.float32), (1.0, 0.96, 0.88)), unit)
    wide, tall = width / unit, height / unit
    clock(plate, 0.42, 0.33, 0.185)
    board(plate, 0.20, 0.60, 0.46, (
        ("HARBOUR OFFICE", 0.036), ("Tide tables, charts, ropes", 0.024),
        ("open at all hours while the lamp is lit", 0.018), ("ring twice and mind the step", 0.013),
    ))  # fmt: skip
    foliage(plate, rng, 2600, (0.78 * wide, -0.02, wide + 0.02, tall + 0.02))
    foliage(plate, rng, 1300, (0.0, 0.86 * tall, 0.62 * wide, tall + 0.02))
    lamp = 0.42 + 0.75 * np.exp(-(((np.mgrid[:height, :width][1] / unit - 0.75) / 0.9) ** 2)).astype(np.float32)
    plate.albedo *= lamp[..., None] * np.array([1.0, 0.95, 0.87], np.float32)
    size = int(1.02 * unit)
    left, top = int(0.66 * unit), height - size
    middle = left / unit + 0.51
    head = middle, top / unit + 0.42 * 1.02
    for side in (-1.0, 1.0):
        hair(plate, rng, head, side, 0.86, 420)
    picture, cover = bust(rng, size)
    seat = plate.albedo[top : top + size, left : left + size]
    seat += cover[..., None] * (picture - seat)
    for side in (-1.0, 1.0):
        hair(plate, rng, head, side, 0.80, 260)
    scarf(plate, middle, top / unit + 0.74)
    return np.clip(plate.albedo, 0.004, 2).astype(np.float32)
