"""The camera's own motion: against moves that photographs are known to have made."""

from __future__ import annotations

from unittest import TestCase

import cv2
import numpy as np
import numpy.typing as npt
from skimage import data

from yellowclean.engine.camera import Camera, camera_between, paced
from yellowclean.engine.frames import Array
from yellowclean.engine.motion import dense, prepared, rested, steadied

WIDTH, HEIGHT = 480, 320
Codes = npt.NDArray[np.uint8]


def way(x: float, y: float, grows: float = 0.0, turns: float = 0.0) -> Array:
    """Where each pixel goes under a shift of the middle, growth and a turn, H×W×2."""
    across, down = np.meshgrid(np.arange(WIDTH) - WIDTH / 2, np.arange(HEIGHT) - HEIGHT / 2)
    return np.dstack([x + grows * across - turns * down, y + grows * down + turns * across]).astype(np.float32)


def seen(picture: npt.NDArray[np.uint8], moved: Array | None = None) -> Array:
    """A photograph's middle, or what lies there once its pixels have gone their way (the way back found by going
    it several times)."""
    large = cv2.resize(picture, (WIDTH + 80, HEIGHT + 80), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    x, y = np.meshgrid(np.arange(WIDTH, dtype=np.float32), np.arange(HEIGHT, dtype=np.float32))
    from_x, from_y = x, y
    for _ in range(0 if moved is None else 6):
        assert moved is not None
        there = cv2.remap(moved, from_x, from_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        from_x, from_y = x - there[..., 0], y - there[..., 1]
    return cv2.remap(large, from_x + 40, from_y + 40, cv2.INTER_CUBIC)


def noisy(picture: Array, seed: int) -> Codes:
    noise = np.random.default_rng(seed).normal(0, 0.02, picture.shape)
    return prepared(np.clip(picture + noise, 0, 1).astype(np.float32))


def off_px(found: Array, truth: Array) -> float:
    return float(np.hypot(*np.moveaxis(found - truth, 2, 0)).mean())


class CameraMotion(TestCase):
    def test_a_shift_a_turn_and_a_change_of_size_of_photographs_under_noise(self) -> None:
        for picture in (data.astronaut(), data.chelsea(), data.coffee()):
            for truth in (way(2.37, -1.62), way(-0.6, 0.9, 0.004, -0.006), way(-9.4, 3.3, -0.002, 0.003)):
                here, there = noisy(seen(picture), 1), noisy(seen(picture, truth), 2)
                flow = dense(here, there, WIDTH)
                camera = camera_between(here, there, flow)
                assert camera is not None
                off = off_px(camera.vectors(here.shape), truth)
                self.assertLess(off, 0.06)
                self.assertLess(off, 0.5 * off_px(flow, truth))

    def test_the_way_back_leads_home(self) -> None:
        camera = Camera(7.3, -2.1, 0.02, -0.05)
        x, y = 131.0, 47.0
        for motion in (camera, camera.back()):
            moved = motion.vectors((HEIGHT, WIDTH))
            found = cv2.remap(moved, np.float32([[x]]), np.float32([[y]]), cv2.INTER_LINEAR)[0, 0]  # type: ignore[arg-type]
            x, y = x + float(found[0]), y + float(found[1])
        np.testing.assert_allclose((x, y), (131, 47), atol=1e-3)

    def test_a_pace_goes_before_what_a_codec_displaced_and_a_shaken_hand_before_a_pace(self) -> None:
        at, rng = np.arange(-3, 4), np.random.default_rng(8)
        pace = np.stack([3.1 * at + 0.2 * at**2, 1.1 * at, 2e-3 * at, 0 * at], 1)

        def off(displaced: float) -> tuple[float, float]:
            """How much nearer to the pace what is found is than what is shown, and its pixels from that."""
            apart = []
            for _ in range(20):
                shown = pace + displaced * rng.standard_normal((7, 1)) * (1, 1, 0, 0)
                measured = {int(n): Camera(*shown[n + 3] - shown[3]) for n in at if n}
                for n, own in measured.items():
                    found = paced(measured, n, astray=0.05)
                    apart.append([np.subtract(found, pace[n + 3]), own - pace[n + 3], np.subtract(found, own)])  # type: ignore[arg-type]
                    self.assertEqual(paced(measured, n, astray=0), own)
            from_pace, own_from_pace, from_own = np.hypot(*np.moveaxis(np.array(apart)[..., :2], 2, 0)).mean(axis=0)
            return from_pace / own_from_pace, from_own

        self.assertLess(off(0.04)[0], 0.7)
        self.assertLess(off(0.8)[1], 0.05)

    def test_a_pace_tells_what_could_not_be_measured(self) -> None:
        measured = {n: Camera(3.1 * n + 0.2 * n**2, 1.1 * n, 2e-3 * n, 0) for n in (-3, -2, 1, 3)}
        found = paced(measured, 2, astray=0.05)
        assert found is not None
        np.testing.assert_allclose(found, (7, 2.2, 4e-3, 0), atol=1e-9)
        self.assertIsNone(paced({1: measured[1]}, 2, astray=0.05))

    def test_what_moves_by_itself_or_lies_over_the_picture_keeps_its_own(self) -> None:
        camera, own = way(3.1, 1.1), way(-4.0, 0.0)
        behind, before = data.astronaut(), data.coffee()
        title = np.kron(np.random.default_rng(5).choice([0.1, 0.9], (5, 15, 1)), np.ones((8, 8, 3)))
        here, there = seen(behind), seen(behind, camera)
        here[60:200, 220:420] = seen(before)[60:200, 220:420]
        there[60:200, 216:416] = seen(before, own)[60:200, 216:416]
        for shown in (here, there):
            shown[270:310, 30:150] = title
        first, second = noisy(here, 1), noisy(there, 2)
        flow = dense(first, second, WIDTH)
        moved = camera_between(first, second, flow)
        assert moved is not None
        found = steadied(first, second, rested(first, second, flow, WIDTH), moved)
        self.assertLess(off_px(found.vectors[80:180, 240:380], own[80:180, 240:380]), 0.5)
        self.assertLess(off_px(found.vectors[10:310, 430:470], camera[10:310, 430:470]), 0.1)
        np.testing.assert_array_equal(found.vectors[280:300, 50:130], 0)

    def test_where_the_camera_stands_or_nothing_is_followed_there_is_none(self) -> None:
        rng = np.random.default_rng(3)
        here = seen(data.chelsea())
        flat = np.full((HEIGHT, WIDTH, 3), 0.3, np.float32)
        cut = noisy(seen(data.coffee()), 4)
        for first, second in (
            (noisy(here, 1), noisy(here, 2)), (noisy(flat, 1), noisy(flat, 2)), (prepared(flat), prepared(flat)),
            (noisy(here, 1), cut), (noisy(rng.random((9, 200, 3)).astype(np.float32), 1),) * 2,
            (np.zeros((1, 1), np.uint8),) * 2,
        ):  # fmt: skip
            with self.subTest(first.shape):
                self.assertIsNone(camera_between(first, second, dense(first, second, first.shape[1])))
