"""Sharpness against closed forms: slanted edges of known Gaussian blur."""

from __future__ import annotations

from unittest import TestCase

import numpy as np
from scipy.special import erf

from tests.clips import MemorySource
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Region
from yellowclean.engine.measure.blur import blur_around, edge_blur
from yellowclean.engine.measure.edge import edge_response, find_edges
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step


def slanted_edge(
    blur: float, degrees: float, *, size: int = 64, noise: float = 0.0, contrast: float = 0.4
) -> Array:
    """An edge through the middle of a square, blurred by a Gaussian of so many pixels, at point samples."""
    y, x = np.mgrid[:size, :size]
    angle = np.deg2rad(degrees)
    distance = (x - size / 2 + 0.3) * np.cos(angle) - (y - size / 2 + 0.7) * np.sin(angle)
    edge = 0.2 + contrast * (1 + erf(distance / blur / np.sqrt(2))) / 2
    noisy: Array = edge + noise * np.random.default_rng(1).standard_normal(edge.shape)
    return noisy.astype(np.float32)


class SlantedEdge(TestCase):
    def test_mtf50_within_three_percent_of_the_analytic_value(self) -> None:
        """ISO 12233 method; the response of a Gaussian of deviation s is exp(-2 π² s² f²), one half at
        f = sqrt(ln 2 / 2) / (π s)."""
        for blur in (0.5, 0.7, 1.0, 1.5, 2.0, 3.0):
            for degrees in (5, 12, -8, 30, 84):
                with self.subTest(blur=blur, degrees=degrees):
                    response = edge_response(slanted_edge(blur, degrees))
                    assert response is not None
                    analytic = np.sqrt(np.log(2) / 2) / (np.pi * blur)
                    self.assertAlmostEqual(response.mtf50 / analytic, 1, delta=0.03)
                    self.assertTrue(response.slanted)

    def test_a_tile_of_a_picture_tells_it_as_well_as_a_large_plane(self) -> None:
        """Tiles are 32 pixels wide, and edges lie where they happen to."""
        for blur in (0.8, 1.8, 2.5):
            for degrees in (5, 12, 20):
                with self.subTest(blur=blur, degrees=degrees):
                    plane = slanted_edge(blur, degrees, contrast=0.3, size=320)
                    told = [edge.response.mtf50 for edge in find_edges(plane, np.full_like(plane, 0.002))]
                    analytic = np.sqrt(np.log(2) / 2) / (np.pi * blur)
                    self.assertGreater(len(told), 4)
                    self.assertAlmostEqual(float(np.median(told)) / analytic, 1, delta=0.03)

    def test_rise_is_that_of_the_error_function(self) -> None:
        """A Gaussian edge goes from 10 to 90 % over 2 · 1.28155 deviations (normal quantiles)."""
        for blur in (0.7, 1.0, 2.0, 3.0):
            with self.subTest(blur):
                response = edge_response(slanted_edge(blur, 8))
                assert response is not None
                self.assertAlmostEqual(response.rise / (2 * 1.28155 * blur), 1, delta=0.03)

    def test_noise_of_one_percent_does_not_move_it_by_more_than_five(self) -> None:
        for blur in (0.7, 1.5, 2.5):
            with self.subTest(blur):
                response = edge_response(slanted_edge(blur, 8, noise=0.004))
                assert response is not None
                self.assertAlmostEqual(response.mtf50 * np.pi * blur / np.sqrt(np.log(2) / 2), 1, delta=0.05)

    def test_what_is_no_lone_edge_has_no_response(self) -> None:
        y, x = np.mgrid[:64, :64].astype(np.float32)
        line = np.exp(-((x - 30 - 0.1 * y) ** 2) / 8)
        stripes = np.sin(x * 0.9 + 0.05 * y)
        for name, plane in (("flat", np.full((64, 64), 0.3)), ("line", line), ("stripes", stripes)):
            with self.subTest(name):
                response = edge_response(plane.astype(np.float32))
                self.assertTrue(response is None or response.ripple > 0.12 * response.contrast, response)

    def test_edges_are_found_in_a_picture_and_only_there(self) -> None:
        picture = np.full((160, 224), 0.2, np.float32)
        picture[48:112, 80:144] = slanted_edge(1.0, 8, contrast=0.4)
        picture[48:112, 144:] = 0.6
        edges = find_edges(picture, np.full_like(picture, 0.002))
        self.assertTrue(edges)
        self.assertTrue(any(64 <= e.x <= 112 and 48 <= e.y <= 96 for e in edges), edges)
        self.assertEqual(find_edges(np.full((160, 224), 0.2, np.float32), np.full((160, 224), 0.002)), [])


class Places(TestCase):
    def test_each_place_has_the_blur_of_its_own_edges(self) -> None:
        soft, sharp = (slanted_edge(blur, 8, size=128) for blur in (2.4, 0.7))
        plane = np.hstack([soft, sharp[:, ::-1]])
        deviation, sure = blur_around(edge_blur(plane, np.full_like(plane, 1e-4)), plane.shape)
        for column, blur in ((64, 2.4), (192, 0.7)):
            self.assertAlmostEqual(float(deviation[64, column]), blur, delta=0.15 * blur)
            self.assertGreater(sure[64, column], 0.5)
        self.assertLess(sure[:, [4, 128, 250]].max(), 0.1)

    def test_the_view_of_it_is_yellow_where_the_picture_is_soft_and_the_same_closer_up(self) -> None:
        plane = np.hstack([slanted_edge(2.4, 8, size=128), slanted_edge(0.5, 8, size=128)[:, ::-1]])
        source = MemorySource([np.repeat(plane[..., None], 3, axis=2)])
        pipeline = Pipeline(Footage(source), Plan(profile=white_profile(0.1), steps=[Step(kind="sharpen")]))
        shown = pipeline.own_view(0, "blur", 0)
        yellow = shown[..., 0] - shown[..., 2]
        self.assertGreater(yellow[64, 64], 3 * yellow[64, 192])
        self.assertLess(yellow[64, 4], 0.02)
        closer = Region(40, 30, 60, 50)
        np.testing.assert_allclose(pipeline.own_view(0, "blur", 0, closer), shown[closer.slices], atol=0.02)
