"""The survey as a whole: odd material, clipped channels, cancelling, and what it costs to read."""

from __future__ import annotations

from unittest import TestCase

import numpy as np

from tests.clips import MemorySource
from yellowclean.engine.errors import BadInput, Cancelled
from yellowclean.engine.frames import CV_SCALE, Frame
from yellowclean.engine.measure.pairs import CANDIDATES
from yellowclean.engine.measure.report import SurveyReport, finding_kinds
from yellowclean.engine.survey import survey


def noise(height: int, width: int, count: int, level: float | tuple[float, float, float] = 0.3) -> list[Frame]:
    rng = np.random.default_rng(1)
    return [
        (np.array(level) + rng.standard_normal((height, width, 3)) * 10 / CV_SCALE).astype(np.float32)
        for _ in range(count)
    ]


class OddMaterial(TestCase):
    def sound(self, report: SurveyReport) -> None:
        self.assertEqual([f.kind for f in report.findings], [kind.kind for kind in finding_kinds()])
        for finding in report.findings:
            self.assertTrue(np.isfinite(finding.value), finding)
            self.assertGreaterEqual(finding.value, 0, finding)
            self.assertTrue(0 <= finding.confidence <= 1, finding)
        self.assertEqual(SurveyReport.model_validate_json(report.to_json()), report)

    def test_one_frame_two_frames_odd_and_extreme_sizes(self) -> None:
        for height, width, count in (
            (96, 128, 1),
            (96, 128, 2),
            (67, 101, 3),
            (33, 47, 3),
            (20, 900, 3),
            (900, 20, 2),
        ):
            for about in ({}, {"bit_depth": 8, "chroma": "4:2:0", "codec": "h264", "bit_rate": 1_000_000}):
                with self.subTest(size=(width, height), frames=count, about=about):
                    report = survey(MemorySource(noise(height, width, count), **about))
                    self.sound(report)
                    # what is there is noise, and nothing else is found in it
                    picture = {"noise", "colour noise"}
                    self.assertEqual({f.kind for f in report.findings if f.outside}, picture)

    def test_what_cannot_hold_noise_is_refused_in_one_line(self) -> None:
        flat = {"black": 0.0, "white": 1.0, "below black": -0.1, "above white": 1.2}
        clips = {name: noise(96, 128, 3, level) for name, level in flat.items() if level not in {0.0, 1.0}}
        clips |= {name: [np.full((96, 128, 3), flat[name], np.float32)] * 3 for name in ("black", "white")}
        clips["tiny"] = noise(16, 16, 2)
        for name, frames in clips.items():
            with (
                self.subTest(name),
                self.assertRaisesRegex(BadInput, "cannot be measured: .*clipped, black or too"),
            ):
                survey(MemorySource(frames))

    def test_an_even_grey_has_no_finding(self) -> None:
        report = survey(MemorySource([np.full((96, 128, 3), 0.5, np.float32)] * 3))
        self.sound(report)
        self.assertEqual([f.kind for f in report.findings if f.outside], [])


class Passes(TestCase):
    def test_a_channel_that_is_cut_off_does_not_take_the_others_with_it(self) -> None:
        dark_blue = [np.clip(f, 0, 1) for f in noise(192, 256, 4, (0.3, 0.3, 0.3))]
        for n, frame in enumerate(dark_blue):
            frame[:, 32:, 2] = np.maximum(noise(192, 224, 1, 0.001 + 1e-5 * n)[0][..., 2], 0)
        noisy = survey(MemorySource(dark_blue)).noise
        self.assertAlmostEqual(noisy.r_cv, 10, delta=0.6)
        self.assertAlmostEqual(noisy.g_cv, 10, delta=0.6)

    def test_frames_are_read_once_in_order_beside_the_compared_ones(self) -> None:
        source = MemorySource(noise(48, 64, 40))
        survey(source)
        # one pass, six frames with the candidates each is compared to, one for patches, and the ladder's with two
        # that are read ahead for it; nothing else, however long the clip
        self.assertLessEqual(source.reads, 40 + 6 * (1 + CANDIDATES) + 1 + 11 + 2)

    def test_a_survey_can_be_cancelled_at_any_frame(self) -> None:
        calls = 0

        def stop() -> bool:
            nonlocal calls
            calls += 1
            return calls > 10

        with self.assertRaises(Cancelled):
            survey(MemorySource(noise(48, 64, 40)), stopped=stop)
        shares: list[float] = []
        survey(MemorySource(noise(48, 64, 12)), progress=shares.append)
        self.assertEqual(shares, sorted(shares))
        self.assertEqual(shares[-1], 1.0)
