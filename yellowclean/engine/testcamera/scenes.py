"""The scenes of Quay Nine, a made-up short documentary about a harbour at night.

A scene is a function of time that returns linear light, H×W×3, where 1 is diffuse white at the
nominal exposure. Layers are painted once, larger than the frame, and moved by a camera path with
parallax; what moves by itself (lantern, water, ropes' shadows) is drawn for each frame.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from ..frames import Array
from . import figurehead as carved
from . import textures as tx

RATE = 24
Render = Callable[[int], Array]


@dataclass(frozen=True, slots=True)
class Motion:
    """A camera path in pixels: steady travel a frame, plus a hand-held sway of some amplitude."""

    dx: float = 0.0
    dy: float = 0.0
    sway: float = 0.0

    def at(self, n: int) -> tuple[float, float]:
        sway_x = self.sway * (np.sin(n * 0.37) + 0.5 * np.sin(n * 0.83 + 1))
        sway_y = self.sway * (np.sin(n * 0.29 + 2) + 0.4 * np.sin(n * 0.71))
        return self.dx * n + float(sway_x), self.dy * n + float(sway_y)


def _window(plate: Array, x: float, y: float, width: int, height: int) -> Array:
    """The frame-sized part of a plate whose corner is at (x, y), sub-pixel, edges mirrored."""
    shift = np.array([[1, 0, -x], [0, 1, -y]], np.float64)
    seen: Array = cv2.warpAffine(
        plate, shift, (width, height), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT_101
    )
    return seen


def _over(under: Array, layer: Array) -> Array:
    """Composite a layer with alpha (H×W×4, not premultiplied) over a picture."""
    alpha = np.clip(layer[..., 3:], 0, 1)
    mixed: Array = under * (1 - alpha) + layer[..., :3] * alpha
    return mixed


def _glow(height: int, width: int, x: float, y: float, size: float) -> Array:
    """Inverse-square light from a lamp at (x, y) whose half-power radius is `size` pixels."""
    gy = (np.arange(height, dtype=np.float32) - np.float32(y))[:, None] ** 2
    gx = (np.arange(width, dtype=np.float32) - np.float32(x))[None, :] ** 2
    light: Array = np.float32(size**2) / (gx + gy + np.float32(size**2))
    return light


def _dusk(height: int, width: int) -> Array:
    """A dusk sky: deep blue above, a warm band at the horizon, smooth to the last bit."""
    t = np.linspace(0, 1, height, dtype=np.float32)[:, None, None]
    high, low = np.array([0.010, 0.022, 0.060], np.float32), np.array([0.30, 0.13, 0.075], np.float32)
    across = 1 + 0.25 * np.linspace(-1, 1, width, dtype=np.float32)[None, :, None]
    sky: Array = (high + (low - high) * t**2.6) * across
    return sky.astype(np.float32)


def _skyline(rng: np.random.Generator, height: int, width: int, cranes: int) -> Array:
    """A matte of harbour silhouettes along the lower edge."""
    matte = np.zeros((height, width), np.float32)
    base = height
    x = 0
    while x < width:
        step, rise = int(rng.integers(60, 190)), int(rng.integers(height // 36, height // 5))
        cv2.rectangle(matte, (x, base - rise), (x + step, base), 1.0, -1)
        x += step
    for k in range(cranes):
        where = int((k + 0.5) * width / cranes + rng.integers(-40, 40))
        reach = int(rng.choice([-1, 1])) * int(rng.integers(90, 220))
        tx.crane_into(matte, where, base, int(height * rng.uniform(0.35, 0.7)), reach)
    return matte


def quay(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """The quay: brick warehouse, lamps, decking, mooring rope; a lantern is carried through fast."""
    rng = np.random.default_rng(seed)
    motion = motion or Motion(dx=7.0, sway=1.5)
    unit = height / 720
    wide = int(width * 1.9)
    wall_height = int(height * 0.62)
    plate = np.zeros((height + 80, wide, 3), np.float32)
    plate[:] = tx.planks(rng, height + 80, wide, max(int(46 * unit), 8))
    plate[:wall_height] = tx.brick(rng, wall_height, wide, max(int(26 * unit), 6))
    for k in range(0, wide, int(430 * unit) + 1):
        left, top = k + int(90 * unit), int(150 * unit)
        cv2.rectangle(plate, (left, top), (left + int(120 * unit), top + int(170 * unit)), (0.02, 0.022, 0.03), -1)
        cv2.rectangle(plate, (left, top), (left + int(120 * unit), top + int(170 * unit)), (0.2, 0.19, 0.17), 3)
        _stencil(plate, "QUAY 9", left - int(40 * unit), top - int(24 * unit), unit)
    edge = float(wall_height + 30 * unit)
    for k in range(3):
        start = k * wide / 3
        bend = [(start + j * wide / 9, edge + 90 * unit * ((j % 2) + 0.4 * k)) for j in range(4)]
        tx.rope_into(plate, rng, bend, 15 * unit + 5)
    light = np.full((*plate.shape[:2], 1), 0.05, np.float32)
    for k in range(0, wide, int(520 * unit) + 1):
        light[..., 0] += 0.9 * _glow(plate.shape[0], wide, k + 200 * unit, 70 * unit, 130 * unit)
    lit = plate * light * np.array([1.0, 0.86, 0.66], np.float32) + 0.002
    pack = (
        np.array([0.34, 0.31, 0.28], np.float32)
        * np.clip(1 + 0.2 * tx.fractal(rng, int(230 * unit), int(110 * unit), 24, 0.7), 0.2, 2)[..., None]
    )

    def render(n: int) -> Array:
        x, y = motion.at(n)
        x = _there_and_back(x, wide - width)
        seen = _window(lit, x, 20 + y, width, height)
        albedo = _window(plate, x, 20 + y, width, height)
        lx = (0.12 * width + (17 * unit) * n) % (1.2 * width) - 0.1 * width
        ly = 0.58 * height + 18 * unit * np.sin(n * 0.6)
        seen = seen + 1.1 * albedo * _glow(height, width, lx, ly, 95 * unit)[..., None] * (1.0, 0.72, 0.40)
        body = np.zeros((height, width, 4), np.float32)
        _paste(body, pack, int(lx - 90 * unit), int(ly - 70 * unit))
        seen = _over(seen, body * np.array([0.28, 0.25, 0.2, 1], np.float32))
        flame = _glow(height, width, lx, ly, 7 * unit) ** 3
        return (seen + 4.0 * flame[..., None] * (1.0, 0.75, 0.42)).astype(np.float32)

    return render


def _there_and_back(x: float, room: float) -> float:
    """A way that turns at 0 and at `room`, so that a long pan ends in no jump."""
    return room - abs(x % (2 * room) - room)


def _stencil(plate: Array, text: str, x: int, y: int, unit: float) -> None:
    """Paint lettering on a wall; the drawing routine takes 8-bit pictures only."""
    matte = np.zeros(plate.shape[:2], np.uint8)
    cv2.putText(matte, text, (x, y), cv2.FONT_HERSHEY_SIMPLEX, 1.1 * unit, 255, max(int(3 * unit), 1))
    alpha = cv2.GaussianBlur(matte, (0, 0), 0.6).astype(np.float32)[..., None] / 255
    plate += (np.array([0.55, 0.53, 0.47], np.float32) - plate) * alpha


def _paste(layer: Array, picture: Array, x: int, y: int) -> None:
    """Put an opaque picture into an H×W×4 layer, cut at the frame."""
    height, width = layer.shape[:2]
    x0, y0, x1, y1 = max(x, 0), max(y, 0), min(x + picture.shape[1], width), min(y + picture.shape[0], height)
    if x1 > x0 and y1 > y0:
        layer[y0:y1, x0:x1, :3] = picture[y0 - y : y1 - y, x0 - x : x1 - x]
        layer[y0:y1, x0:x1, 3] = 1


def cloth(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """Sailcloth close up, with a rope across it and one corner in flat shadow."""
    rng = np.random.default_rng(seed)
    motion = motion or Motion(dx=0.6, dy=0.25, sway=0.8)
    tall, wide = height + 160, width + 260
    plate = tx.sailcloth(rng, tall, wide, 5.0 + 2.0 * height / 720)
    tx.rope_into(plate, rng, [(0, tall * 0.75), (wide * 0.4, tall * 0.6), (wide, tall * 0.82)], 30)
    shadow = np.clip(_glow(tall, wide, wide * 0.62, tall * 0.35, height * 0.5), 0.02, 1)
    wall = (np.mgrid[:tall, :wide][1] < wide * 0.30)[..., None]
    backdrop = np.array([0.060, 0.064, 0.070], np.float32) * shadow[..., None]
    lit = np.where(wall, backdrop, plate * shadow[..., None] * np.array([1, 0.93, 0.82], np.float32))
    lit = lit.astype(np.float32) + np.float32(0.003)

    def render(n: int) -> Array:
        x, y = motion.at(n)
        return _window(lit, 60 + x, 50 + y, width, height)

    return render


def dusk(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """A dusk sky in one long gradient behind crane silhouettes; the camera tilts slowly."""
    rng = np.random.default_rng(seed)
    motion = motion or Motion(dx=0.4, dy=-0.25)
    tall, wide = height + 80, width + 200
    matte = _skyline(rng, tall, wide, 3)[..., None]
    near = np.array([0.004, 0.005, 0.007], np.float32)
    plate = _dusk(tall, wide) * (1 - matte) + near * matte
    windows = (rng.random((tall // 9 + 1, wide // 7 + 1)) > 0.93).astype(np.float32)
    lamps = cv2.resize(windows, (wide, tall), interpolation=cv2.INTER_NEAREST)[..., None]
    low = (np.arange(tall) > tall * 0.86)[:, None, None]
    plate = (plate + 0.22 * lamps * matte * low * np.array([1, 0.7, 0.35], np.float32)).astype(np.float32)

    def render(n: int) -> Array:
        x, y = motion.at(n)
        return _window(plate, 40 + x, 40 + y, width, height)

    return render


def basin(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """The basin: warehouses and lamps across moving water, seen hand-held."""
    rng = np.random.default_rng(seed)
    motion = motion or Motion(dx=1.2, sway=2.0)
    unit = height / 720
    wide, horizon = width + 320, int(height * 0.52)
    wall = tx.brick(rng, horizon + 60, wide, max(int(14 * unit), 5)) * np.float32(0.5)
    light = np.full((horizon + 60, wide), 0.10, np.float32)
    lamps = [(int(x), int(horizon * 0.62)) for x in np.arange(80, wide, 210 * unit + 20)]
    flames = np.zeros_like(light)
    for x, y in lamps:
        light += 0.8 * _glow(horizon + 60, wide, x, y, 60 * unit)
        flames += 3.0 * _glow(horizon + 60, wide, x, y, 4 * unit) ** 3
    upper = wall * light[..., None] * np.array([1, 0.84, 0.6], np.float32)
    upper += flames[..., None] * np.array([1, 0.8, 0.5], np.float32) + np.float32(0.003)

    def render(n: int) -> Array:
        x, y = motion.at(n)
        seen = np.empty((height, width, 3), np.float32)
        seen[:horizon] = _window(upper, 80 + x, 30 + y, width, horizon)
        slope = tx.water(height - horizon, width, n / RATE, seed)
        rows = np.arange(height - horizon, dtype=np.float32)[:, None]
        map_x = np.arange(width, dtype=np.float32)[None, :] + slope * (4 + rows * 0.10)
        map_y = np.clip(horizon - 2 - rows * 0.9 - slope * (8 + rows * 0.25), 0, horizon - 1)
        mirror = cv2.remap(seen[:horizon], map_x.astype(np.float32), map_y.astype(np.float32),
                           cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT_101)  # fmt: skip
        tint = np.array([0.42, 0.50, 0.52], np.float32)
        seen[horizon:] = mirror * tint + (0.006 + 0.004 * slope)[..., None]
        return np.maximum(seen, np.float32(0.0005))

    return render


def stars(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """A night sky wheeling over cranes and still water, one frame a minute."""
    rng = np.random.default_rng(seed)
    del motion  # a time-lapse stands on a tripod
    size = int(np.hypot(width, height)) + 40
    field = tx.stars(rng, size, size, int(size * size / 900))
    haze = np.clip(1 + 0.25 * tx.fractal(rng, size, size, 400, 0.4), 0.3, 2)[..., None]
    field += haze * np.array([0.006, 0.008, 0.014], np.float32)
    matte = _skyline(rng, height, width, 2)[..., None]
    ground = (
        np.array([0.006, 0.006, 0.008], np.float32)
        * np.clip(1 + 0.3 * tx.fractal(rng, height, width, 60, 0.7), 0.2, 2)[..., None]
    )
    glow = 0.05 * np.linspace(0, 1, height, dtype=np.float32)[:, None, None] ** 4
    glow = glow * np.array([1, 0.62, 0.3], np.float32)

    def render(n: int) -> Array:
        turn = cv2.getRotationMatrix2D((size / 2, size / 2), -0.12 * n, 1.0)
        turn[:, 2] += (width / 2 - size / 2, height / 2 - size / 2)
        sky = cv2.warpAffine(field, turn, (width, height), flags=cv2.INTER_CUBIC)
        return (np.maximum(sky, 0) + glow) * (1 - matte) + ground * matte

    return render


def drying(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """A jacket of fine weave and a wire basket, hung to dry before planks: finer than the sensor's colour filter
    can tell apart. Threads are drawn at the pixels themselves, so that they are as fine in every size."""
    rng = np.random.default_rng(seed)
    motion = motion or Motion(dx=0.5, sway=0.6)
    unit = height / 720
    tall, wide = height + 120, width + 240
    planks = tx.planks(rng, tall, wide, max(int(70 * unit), 8)) * np.float32(1.6)
    rail = round(0.17 * tall)
    planks[rail : rail + max(round(10 * unit), 2)] = 0.03
    light = np.clip(_glow(tall, wide, wide * 0.3, tall * 0.3, height * 0.7), 0.15, 1)[..., None]
    lamp = np.array([1, 0.92, 0.8], np.float32)
    jacket, basket = _jacket(tall, wide), _hoop(tall, wide)
    x = np.arange(wide, dtype=np.float32)
    hang = 1.4 * tx.fractal(rng, tall, wide, 260, 0.3)
    folds = 1 + 0.3 * np.sin(x / (34 * unit + 8) + 1.5 * hang)
    lit = planks * light * lamp

    def render(n: int) -> Array:
        at_x, at_y = motion.at(n)
        corner = 100 + at_x, 40 + at_y

        def seen(plate: Array) -> Array:
            return _window(plate, *corner, width, height)

        own_y, own_x = (np.mgrid[:height, :width] + np.array([corner[1], corner[0]])[:, None, None]).astype(
            np.float32
        )
        slack = seen(hang)
        across, down = 2 * np.pi * (own_x + 3 * slack) / 2.6, 2 * np.pi * (own_y - 2 * slack) / 2.5
        cloth = (0.34 + 0.13 * np.cos(across) + 0.1 * np.cos(down)) * seen(folds)
        wire = 0.16 + 0.13 * np.cos(2 * np.pi * (own_x * 0.98 + own_y * 0.2) / 2.9)
        wire += 0.13 * np.cos(2 * np.pi * (own_y * 0.98 - own_x * 0.2) / 3.1)
        shine = seen(light)[..., None] * lamp
        picture = seen(lit)
        for outline, shade, tint in ((jacket, cloth, (0.62, 0.74, 0.92)), (basket, wire, (0.8, 0.8, 0.78))):
            picture += np.clip(seen(outline), 0, 1)[..., None] * (shade[..., None] * tint * shine - picture)
        return np.maximum(picture, np.float32(0.001)).astype(np.float32)

    return render


def _jacket(height: int, width: int) -> Array:
    """The outline of a jacket on a hanger, 0 to 1."""
    x = [0.27, 0.33, 0.43, 0.49, 0.44, 0.40, 0.41, 0.19, 0.20, 0.16, 0.11, 0.17]
    y = [0.17, 0.17, 0.23, 0.62, 0.64, 0.42, 0.88, 0.88, 0.42, 0.64, 0.62, 0.23]
    return _filled(height, width, np.stack([x, y], axis=-1))


def _hoop(height: int, width: int) -> Array:
    """The outline of a round basket that hangs from the rail."""
    turn = np.linspace(0, 2 * np.pi, 60, endpoint=False)
    return _filled(height, width, np.stack([0.68 + 0.13 * np.cos(turn), 0.48 + 0.27 * np.sin(turn)], axis=-1))


def _filled(height: int, width: int, outline: Array) -> Array:
    drawn = np.zeros((height, width), np.float32)
    cv2.fillPoly(drawn, [np.rint(outline * (width, height)).astype(np.int32)], 1.0, cv2.LINE_AA)
    return cv2.GaussianBlur(drawn, (0, 0), 0.7)


def figurehead(width: int, height: int, seed: int, motion: Motion | None = None) -> Render:
    """A painted figurehead in good light, held by hand: skin-like paint, rope ends, ivy, small print."""
    motion = motion or Motion(dx=0.3, dy=0.1, sway=1.2)
    margin = 40 + height // 16
    plate = carved.painted(np.random.default_rng(seed), height + 2 * margin, width + 2 * margin, float(height))

    def render(n: int) -> Array:
        x, y = motion.at(n)
        return np.maximum(_window(plate, margin + x, margin + y, width, height), np.float32(0.001))

    return render


SCENES: dict[str, Callable[..., Render]] = {
    "quay": quay, "cloth": cloth, "dusk": dusk, "basin": basin, "stars": stars, "drying": drying,
    "figurehead": figurehead,
}  # fmt: skip
