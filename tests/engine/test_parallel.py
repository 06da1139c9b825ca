"""Work beside work, numbers beside numbers: nothing waits for itself, and neighbours do not change a value."""

from __future__ import annotations

import threading
from unittest import TestCase, mock

import numpy as np

from yellowclean.engine import parallel
from yellowclean.engine.motion import Track
from yellowclean.engine.tables import read
from yellowclean.engine.treat.fetching import fetched


class Beside(TestCase):
    def test_work_that_waits_for_work_ends_on_few_threads(self) -> None:
        def deep(level: int) -> int:
            if level == 0:
                return 1
            three = [level - 1] * 3
            return sum(parallel.side_by_side(deep, three)) + sum(parallel.ahead(deep, three))

        found: list[int] = []
        with mock.patch.dict("os.environ", YELLOW_CLEAN_THREADS="2"):
            threads = [threading.Thread(target=lambda: found.append(deep(4)), daemon=True) for _ in range(3)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(60)
        self.assertEqual(found, [6**4] * 3)


class Values(TestCase):
    def test_tables_are_read_as_numpy_reads_them(self) -> None:
        rng = np.random.default_rng(3)
        x = rng.uniform(-0.5, 1.5, (40, 33)).astype(np.float32)
        x[0, :3] = 0, 1, np.nan
        for at in (np.linspace(0, 1, 1001), np.sort(rng.uniform(0, 1, 300)) ** 3, np.array([0.2, 0.21, 0.9])):
            told = rng.standard_normal(len(at))
            np.testing.assert_array_equal(read(x, at, told), np.interp(x, at, told).astype(np.float32))

    def test_a_fetched_pixel_is_catmull_and_roms_whatever_moves_beside_it(self) -> None:
        """Independent reference: their weights (1974) as polynomials, on whole rows and columns."""
        other = np.random.default_rng(4).standard_normal((3, 40, 70)).astype(np.float32)
        motions = [(2.25, -1.5), (-3.0, 0.75), (0.0, 0.0)]
        field = np.zeros((40, 70, 3), np.float32)
        turns = np.arange(70) // 5 % 3  # three motions among sixteen pixels
        for k, (mx, my) in enumerate(motions):
            field[:, turns == k, :2] = mx, my
        place = np.array([0, 0, 0, 0, 8], np.float32)
        moved, gain, _ = fetched(other, Track(field, (1, 1)), place, other.shape)
        for k, (mx, my) in enumerate(motions):
            there = _moved(_moved(other, mx, 2), my, 1)
            inner = np.s_[:, 6:-6, np.nonzero(turns == k)[0]]
            np.testing.assert_allclose(moved[inner], there[inner], atol=2e-5)
        self.assertEqual(float(gain[20, turns == 2].min()), 1.0)  # what stands keeps its noise
        np.testing.assert_array_equal(moved[:, :, turns == 2], other[:, :, turns == 2])


def _moved(planes: np.ndarray, by: float, axis: int) -> np.ndarray:
    whole, t = int(np.floor(by)), by - np.floor(by)
    weights = np.array([[0, -1, 2, -1], [2, 0, -5, 3], [0, 1, 4, -3], [0, 0, -1, 1]]) @ t ** np.arange(4) / 2
    wide = np.pad(planes, [(8, 8) if a == axis else (0, 0) for a in range(3)], "edge")
    size = planes.shape[axis]
    taken = [np.take(wide, np.arange(size) + 8 + whole - 1 + k, axis=axis) for k in range(4)]
    return sum(w * piece for w, piece in zip(weights, taken, strict=True))
