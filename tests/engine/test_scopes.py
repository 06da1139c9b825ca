"""Scopes against counts made another way, and colour-difference targets against published code values."""

from __future__ import annotations

from unittest import TestCase

import colour
import numpy as np

from yellowclean.engine.frames import Frame
from yellowclean.engine.judge.chromaticity import chromaticities, diagram_counts, outlines, rungs
from yellowclean.engine.judge.scopes import (
    BIN_CV,
    COLUMNS,
    HIGHEST_CV,
    LEVELS,
    LOWEST_CV,
    VECTOR_SIDE,
    histogram,
    traced,
    vector_targets,
    vectorscope,
    waveform,
)
from yellowclean.engine.primaries import XY

FRAME: Frame = np.random.default_rng(2).uniform(-0.2, 1.2, (90, 160, 3)).astype(np.float32)
LUMA = FRAME @ np.array([0.2126, 0.7152, 0.0722], np.float32)


class Scopes(TestCase):
    def test_waveform_and_histogram_equal_counts_by_numpy(self) -> None:
        edges = np.arange(LOWEST_CV, HIGHEST_CV + 1, BIN_CV) / 1023
        inside = np.clip(LUMA, edges[0], edges[-1] - 1e-6)
        columns = np.broadcast_to(np.arange(160) + 0.5, LUMA.shape)
        expected, _, _ = np.histogram2d(inside.ravel(), columns.ravel(), [edges, np.arange(161)])
        found = waveform(FRAME)[0][::-1]
        self.assertEqual(found.shape, (LEVELS, COLUMNS))
        spread = found[:, np.arange(160) * COLUMNS // 160]
        self.assertLess(np.abs(spread - expected).sum(), 4)  # a value on an edge may round either way
        self.assertEqual(found.sum(), LUMA.size)
        for k, plane in enumerate([*np.moveaxis(FRAME, 2, 0), LUMA]):
            counts, _ = np.histogram(np.clip(plane, edges[0], edges[-1] - 1e-6), edges)
            self.assertLess(np.abs(histogram(FRAME)[k] - counts).sum(), 4)

    def test_a_ramp_draws_a_line_and_beyond_the_ends_nothing_is_lost(self) -> None:
        ramp = np.repeat(np.linspace(0, 1, 256, dtype=np.float32)[None, :, None], 3, axis=2)
        ramp = np.repeat(ramp, 4, axis=0)
        rows = waveform(ramp)[0].argmax(axis=0)
        level = HIGHEST_CV - (rows + 0.5) * BIN_CV
        self.assertLess(np.abs(level - ramp[0, :, 0] * 1023).max(), BIN_CV)
        wild = np.array([[[np.nan, 9, -9]]], np.float32)
        self.assertEqual(histogram(wild)[1, -1] + histogram(wild)[2, 0], 2)

    def test_chromaticities_are_those_of_colour_science(self) -> None:
        bright = FRAME[np.clip(FRAME, 0.3, 0.9).min(axis=2) > 0]
        picture = np.clip(bright, 0.3, 0.9)[None].astype(np.float32)
        for space, linear, name in (
            ("Camera Rec.2020", colour.models.oetf_inverse_BT2020, "ITU-R BT.2020"),
            ("sRGB - Display", colour.models.eotf_sRGB, "ITU-R BT.709"),
        ):
            xyz = linear(picture[0].astype(np.float64)) @ colour.RGB_COLOURSPACES[name].matrix_RGB_to_XYZ.T
            xy = colour.XYZ_to_xy(xyz)
            np.testing.assert_allclose(chromaticities(picture, space, "xy"), xy, atol=5e-4)
            uv = colour.Luv_uv_to_xy(chromaticities(picture, space, "uv"))
            np.testing.assert_allclose(uv, xy, atol=5e-4)
        counts = diagram_counts(picture, "sRGB - Display", "xy")
        self.assertEqual(counts.sum(), picture[0].shape[0])
        corners = outlines("uv")["BT.2020"]
        np.testing.assert_allclose(colour.Luv_uv_to_xy(corners), np.reshape(XY["bt2020"][:6], (3, 2)), atol=1e-6)
        self.assertEqual(diagram_counts(np.zeros((9, 9, 3), np.float32), "sRGB - Display", "xy").sum(), 0)

    def test_light_of_hdr_stands_at_its_level(self) -> None:
        """ITU-R BT.2408-5, table 1 (from memory): 203 cd/m² at 58 % PQ and 75 % HLG; 1000 is HLG's end."""
        for space, white, top in (("Rec.2100-PQ - Display", 58, 75.2), ("Rec.2100-HLG - Display", 75, 100)):
            unit, lines = rungs(space)
            levels = {rung.label: 100 * rung.level_cv / 1023 for rung in lines}
            self.assertEqual(unit, "cd/m²")
            self.assertAlmostEqual(levels["203"], white, delta=0.5)
            self.assertAlmostEqual(levels["1000"], top, delta=0.1)
            self.assertAlmostEqual(levels["0"], 0, delta=0.1)
        self.assertEqual(rungs("Camera Rec.709")[0], "CV")

    def test_targets_are_those_of_bt_709(self) -> None:
        """10-bit code values of 75 % bars, as printed for BT.709 in SMPTE RP 219 (from memory)."""
        codes = {name: (512 + 896 * cb, 512 + 896 * cr) for name, (cb, cr) in vector_targets().items()}
        printed = {
            "Yl": (176, 543), "Cy": (589, 176), "G": (253, 207),
            "Mg": (771, 817), "R": (435, 848), "B": (848, 481),
        }  # fmt: skip
        for name, (cb, cr) in printed.items():
            self.assertAlmostEqual(codes[name][0], cb, delta=0.6)
            self.assertAlmostEqual(codes[name][1], cr, delta=0.6)

    def test_a_colour_lies_on_its_target_in_the_vectorscope(self) -> None:
        yellow = np.full((8, 8, 3), (0.75, 0.75, 0), np.float32)
        row, column = np.argwhere(vectorscope(yellow)).mean(axis=0)
        cb, cr = vector_targets()["Yl"]
        self.assertAlmostEqual(column, (512 + 896 * cb) * VECTOR_SIDE / 1024, delta=1)
        self.assertAlmostEqual(VECTOR_SIDE - 1 - row, (512 + 896 * cr) * VECTOR_SIDE / 1024, delta=1)

    def test_large_pictures_are_thinned_without_averaging_the_noise_away(self) -> None:
        noise = np.random.default_rng(1).normal(0.5, 0.02, (1600, 2000, 1)).astype(np.float32)
        big = np.repeat(noise, 3, axis=2)
        counts = histogram(big)[3]
        levels = LOWEST_CV + (np.arange(LEVELS) + 0.5) * BIN_CV
        mean = (counts * levels).sum() / counts.sum()
        self.assertAlmostEqual(
            np.sqrt((counts * (levels - mean) ** 2).sum() / counts.sum()), 0.02 * 1023, delta=0.3
        )

    def test_the_result_lies_over_the_source(self) -> None:
        dark, bright = np.full((16, 64, 3), 0.2, np.float32), np.full((16, 64, 3), 0.8, np.float32)
        both = traced("parade", dark, bright)
        self.assertEqual(both.shape, (LEVELS, 3 * COLUMNS))
        self.assertEqual(len(np.unique(both)), 3)  # nothing, source, result
        self.assertEqual(both.max(), 1)
        np.testing.assert_array_less(traced("waveform", dark, None), 0.6)
