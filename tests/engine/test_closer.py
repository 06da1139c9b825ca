"""Looks: closed forms of what each shows."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from yellowclean.engine.frames import LUMA_WEIGHTS, luma
from yellowclean.engine.judge.closer import MOST_CONTRAST, amplified, signal_of, stress_level, stressed

FRAME = np.random.default_rng(0).uniform(0, 1, (40, 60, 3)).astype(np.float32)


class Looks(TestCase):
    def test_one_signal_alone(self) -> None:
        np.testing.assert_array_equal(signal_of(FRAME, "all"), FRAME)
        for c, name in enumerate("rgb"):
            np.testing.assert_array_equal(signal_of(FRAME, name), FRAME[..., [c, c, c]])  # type: ignore[arg-type]
        np.testing.assert_allclose(signal_of(FRAME, "luma")[..., 1], FRAME @ LUMA_WEIGHTS, atol=1e-6)
        np.testing.assert_allclose(luma(signal_of(FRAME, "chroma")), 0.5, atol=1e-6)

    def test_stress_raises_contrast_about_the_sources_level_on_both_sides_alike(self) -> None:
        level = stress_level(FRAME)
        self.assertAlmostEqual(level, float(np.median(luma(FRAME))), places=6)
        np.testing.assert_allclose(stressed(FRAME, 0, level), FRAME, atol=1e-6)
        full = stressed(FRAME, 100, level)
        np.testing.assert_allclose(full, 0.5 + MOST_CONTRAST * (FRAME - level), atol=1e-5)
        other = FRAME + np.float32(0.01)
        np.testing.assert_allclose(stressed(other, 100, level) - full, MOST_CONTRAST * 0.01, atol=1e-4)

    def test_differences_lie_about_mid_grey(self) -> None:
        np.testing.assert_allclose(amplified(FRAME * 0, 8), 0.5)
        np.testing.assert_allclose(amplified(FRAME * 0 + np.float32(0.01), 16), 0.66, atol=1e-6)
