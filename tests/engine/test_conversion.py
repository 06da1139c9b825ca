"""Conversions against colour-science, OpenColorIO's own processors, and the levels that standards print."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable
from contextlib import redirect_stdout
from pathlib import Path
from unittest import TestCase

import colour
import numpy as np
import PyOpenColorIO as ocio

from tests.clips import MemorySource, described
from yellowclean.cli import main
from yellowclean.engine.colour.conversion import CONFIGURED, Conversion
from yellowclean.engine.colour.gamut import CLIP, KEEP, LIMIT, limited
from yellowclean.engine.colour.management import DEFAULT_CONFIG
from yellowclean.engine.footage import Footage
from yellowclean.engine.format import Format
from yellowclean.engine.frames import CV_SCALE, Array, Frame, Region
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.media import OUTPUT_FORMATS, destination, open_source, open_writer
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.primaries import between

LADDER = np.linspace(0.06, 0.94, 9, dtype=np.float32)
CHART: Frame = np.stack(np.meshgrid(LADDER, LADDER, LADDER), axis=-1).reshape(27, 27, 3)
"""729 colours."""

GREYS = CHART.mean(axis=2, keepdims=True)
MILD: Frame = np.float32(0.6) * (GREYS + np.float32(0.2) * (CHART - GREYS))
"""As many of less light and chroma, for cameras, most colours of which are none that displays show."""

HDR = "Rec.2100-PQ - Display", "Rec.2100-HLG - Display"
SPACES = colour.RGB_COLOURSPACES
VIDEO, WIDE, LINEAR = SPACES["ITU-R BT.709"], SPACES["ITU-R BT.2020"], "Linear Rec.709 (sRGB)"


def moved(light: Array, source: colour.RGB_Colourspace, target: colour.RGB_Colourspace, how: str | None) -> Array:
    return np.asarray(colour.RGB_to_RGB(light, source, target, chromatic_adaptation_transform=how))


def shown_bt1886(values: Array) -> Array:
    return np.asarray(colour.models.eotf_BT1886(values, L_B=0, L_W=1))


def to_bt1886(light: Array) -> Array:
    return np.asarray(colour.models.eotf_inverse_BT1886(np.maximum(light, 0), L_B=0, L_W=1))


def pq(nits: Array) -> Array:
    return np.asarray(colour.models.eotf_inverse_BT2100_PQ(nits))


def hlg(nits: Array) -> Array:
    return np.asarray(colour.models.eotf_inverse_BT2100_HLG(nits, L_B=0, L_W=1000))


def sony(values: Array) -> Array:
    return np.asarray(colour.models.log_decoding_SLog3(values))


def arri(values: Array) -> Array:
    return np.asarray(colour.models.log_decoding_ARRILogC4(values))


def seen(light: Array, camera: colour.RGB_Colourspace) -> Array:
    """In BT.709 by way of ACES, as the configuration goes: in by CAT02, out by Bradford."""
    return moved(moved(light, camera, SPACES["ACES2065-1"], "CAT02"), SPACES["ACES2065-1"], VIDEO, "Bradford")


GAMUT3C, AWG4, AP1 = SPACES["S-Gamut3.Cine"], SPACES["ARRI Wide Gamut 4"], SPACES["ACEScg"]

NAMED: dict[tuple[str, str], Callable[[Array], Array]] = {
    ("Camera Rec.709", "Rec.2100-PQ - Display"): lambda v: pq(203 * moved(shown_bt1886(v), VIDEO, WIDE, None)),
    ("Camera Rec.709", "Rec.2100-HLG - Display"): lambda v: hlg(203 * moved(shown_bt1886(v), VIDEO, WIDE, None)),
    ("Rec.1886 Rec.709 - Display", "Rec.1886 Rec.2020 - Display"): lambda v: to_bt1886(
        moved(shown_bt1886(v), VIDEO, WIDE, None)
    ),
    ("Camera Rec.709", "Camera Rec.2020"): lambda v: colour.models.oetf_BT2020(
        moved(colour.models.oetf_inverse_BT709(v), VIDEO, WIDE, None)
    ),
    ("S-Log3 S-Gamut3.Cine", "Rec.1886 Rec.709 - Display"): lambda v: to_bt1886(seen(sony(v), GAMUT3C)),
    ("ARRI LogC4", "Rec.1886 Rec.709 - Display"): lambda v: to_bt1886(seen(arri(v), AWG4)),
    ("ARRI LogC4", "ACEScct"): lambda v: colour.models.log_encoding_ACEScct(moved(arri(v), AWG4, AP1, "CAT02")),
    ("Camera Rec.709", "ACEScct"): lambda v: colour.models.log_encoding_ACEScct(
        moved(colour.models.oetf_inverse_BT709(v), VIDEO, AP1, "Bradford")
    ),
    ("Rec.2100-PQ - Display", "Rec.2100-HLG - Display"): lambda v: hlg(colour.models.eotf_BT2100_PQ(v)),
    ("Rec.2100-HLG - Display", "Rec.2100-PQ - Display"): lambda v: pq(
        colour.models.eotf_BT2100_HLG(v, L_B=0, L_W=1000)
    ),
    ("sRGB Encoded Rec.709 (sRGB)", LINEAR): colour.models.eotf_sRGB,
}
"""The conversions that need no thinking, written down a second time with colour-science."""


def convert(source: str, target: str, **settings: object) -> Step:
    return Step(kind="convert", settings={"source": source, "target": target, **settings})


class Named(TestCase):
    def test_each_is_what_colour_science_makes_of_729_colours(self) -> None:
        for (source, target), reference in NAMED.items():
            with self.subTest(source, target=target):
                chart = MILD if "Log" in source else CHART
                wanted = np.asarray(reference(chart.astype(np.float64)))
                # what no display shows has no value in the other library: it cuts off at black
                defined = np.isfinite(wanted) & (wanted > (0.0 if "Display" in target else -1)) & (wanted < 1.2)
                self.assertGreater(defined.all(axis=2).sum(), 200, "too few to tell")
                found = Conversion(source, target).applied(chart)
                self.assertLess(np.abs(found - wanted)[defined].max() * CV_SCALE, 0.5)

    def test_as_configured_each_is_what_the_library_makes_of_it(self) -> None:
        config = ocio.Config.CreateFromBuiltinConfig(DEFAULT_CONFIG)
        spaces = [s.getName() for s in config.getColorSpaces(ocio.SEARCH_REFERENCE_SPACE_ALL, ocio.COLORSPACE_ALL)]
        for source, target in [*NAMED, ("ACEScct", "Rec.2100-PQ - Display"), ("sRGB - Display", "ACEScg")]:
            if {source, target} <= set(spaces):
                with self.subTest(source, target=target):
                    wanted = CHART.copy()
                    config.getProcessor(source, target).getDefaultCPUProcessor().applyRGB(wanted)
                    found = Conversion(source, target, rendering=CONFIGURED).applied(CHART)
                    self.assertLess(np.abs(found - wanted).max() * CV_SCALE, 0.01)

    def test_preview_region_command_line_and_file_are_alike(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            shot, plan_file, out = (Path(folder) / name for name in ("in.mkv", "plan.json", "out.mkv"))
            for (source, target), reference in NAMED.items():
                chart = MILD if "Log" in source else CHART
                with open_writer(destination(shot), described(27, 27, 2)) as writer:
                    writer.write(chart)
                    writer.write(chart)
                plan = Plan(profile=white_profile(1), steps=[convert(source, target)])
                plan_file.write_text(plan.to_json())
                whole = Pipeline(Footage(open_source(shot)), plan).frame(1)
                kept = open_source(shot).read(1).astype(np.float64)  # in 16 bits, which near black show
                region = Region(5, 3, 9, 7)
                piece = Pipeline(Footage(open_source(shot)), plan).frame(1, region)
                with self.subTest(source, target=target):
                    np.testing.assert_array_equal(piece, whole[region.slices])
                    with redirect_stdout(io.StringIO()):
                        asked = ["render", str(shot), "--plan", str(plan_file), "--out", str(out)]
                        self.assertEqual(main(asked), 0)
                    written = open_source(out)
                    found = written.read(1)
                    written.close()
                    self.assertLess(np.abs(found - np.clip(whole, 0, 1)).max() * CV_SCALE, 0.02)
                    wanted = np.asarray(reference(kept))
                    held = np.isfinite(wanted) & (wanted > 0) & (wanted < 1)
                    self.assertGreater(held.sum(), 400)
                    self.assertLess(np.abs(found - wanted)[held].max() * CV_SCALE, 0.5)


class Levels(TestCase):
    def test_white_and_grey_of_bt2408(self) -> None:
        """ITU-R BT.2408-5, table 1: diffuse white at 203 cd/m², 75 % HLG, 58 % PQ; an 18 % card at 26 cd/m², 38 %
        of both (from memory)."""
        scene = np.array([[[1, 1, 1], [0.18, 0.18, 0.18]]], np.float32)
        for target, levels in (("Rec.2100-HLG - Display", (75, 38)), ("Rec.2100-PQ - Display", (58, 38))):
            for source, linear in (("Linear Rec.2020", scene), ("ACEScg", scene)):
                with self.subTest(target, source=source):
                    found = 100 * Conversion(source, target).applied(linear)[0, :, 1]
                    np.testing.assert_allclose(found, levels, atol=0.5)
            white = Conversion("sRGB - Display", target).applied(np.ones((1, 1, 3), np.float32))
            self.assertAlmostEqual(100 * white[0, 0, 1], levels[0], delta=0.5)

    def test_anchors_of_bt2100(self) -> None:
        """ITU-R BT.2100-2, tables 4 and 5: HLG's half is a twelfth of its light; 1000 cd/m² in PQ is 0.7518."""
        half = np.full((1, 1, 3), 0.5, np.float32)
        shown = Conversion("Rec.2100-HLG - Display", "Rec.2100-PQ - Display").applied(half)
        self.assertAlmostEqual(shown[0, 0, 1], float(pq(np.array(1000 * (1 / 12) ** 1.2))), delta=2e-4)
        top = Conversion("Rec.2100-HLG - Display", "Rec.2100-PQ - Display").applied(2 * half)
        self.assertAlmostEqual(top[0, 0, 1], 0.7518, delta=2e-4)

    def test_there_and_back(self) -> None:
        for one in ("ACES2065-1", "ACEScg", "ACEScct", "Linear Rec.2020"):
            for other in ("ACEScct", "ARRI LogC4", "Camera Rec.2020", *HDR):
                inside = Conversion("Linear Rec.2020", one).applied(CHART)
                back = Conversion(other, one).applied(Conversion(one, other).applied(inside))
                with self.subTest(one, other=other):
                    self.assertLess(np.abs(back - inside).max() * CV_SCALE, 0.1)

    def test_the_white_of_sdr_goes_where_it_is_asked(self) -> None:
        white = np.ones((1, 1, 3), np.float32)
        found = Conversion("Camera Rec.709", "Rec.2100-PQ - Display", white=100).applied(white)
        self.assertAlmostEqual(found[0, 0, 1], float(pq(np.array(100.0))), delta=1e-4)
        told = " ".join(Conversion("Camera Rec.709", "Rec.2100-PQ - Display").told())
        self.assertIn("203 cd/m²", told)
        self.assertIn("white 1023.0 → 594.0 CV", told)

    def test_adaptation_as_chosen(self) -> None:
        for method in ("Bradford", "CAT02", "Von Kries"):
            wanted = colour.matrix_RGB_to_RGB(AP1, VIDEO, chromatic_adaptation_transform=method)
            own = "von Kries" if method == "Von Kries" else method
            np.testing.assert_allclose(between("ap1", "bt709", own), wanted, atol=3e-4)
            found = Conversion("ACEScg", LINEAR, adaptation=own).applied(CHART)
            np.testing.assert_allclose(found, CHART @ wanted.T, atol=1e-3)
        unknown = Conversion("ARRI LogC4", LINEAR, adaptation="CAT02")
        np.testing.assert_array_equal(unknown.applied(CHART), Conversion("ARRI LogC4", LINEAR).applied(CHART))
        self.assertIn("CAT02 does not act", unknown.told()[-1])


class Gamut(TestCase):
    WIDE_IN_VIDEO = Conversion("Rec.1886 Rec.2020 - Display", "Rec.1886 Rec.709 - Display").applied(CHART)

    def test_what_is_outside_keeps_hue_and_lightness_and_the_rest_every_bit(self) -> None:
        """Hue angle of ICtCp (ITU-R BT.2100-2, table 7) by colour-science, beside that of plain clipping."""
        space = "Rec.1886 Rec.709 - Display"
        limit, clip = (limited(self.WIDE_IN_VIDEO, space, how) for how in (LIMIT, CLIP))
        out = ((self.WIDE_IN_VIDEO < -1e-4) | (self.WIDE_IN_VIDEO > 1.0001)).any(axis=2)
        self.assertGreater(out.sum(), 60)
        np.testing.assert_array_equal(limit[~out], self.WIDE_IN_VIDEO[~out])
        self.assertTrue((limit.min() >= 0) and (limit.max() <= 1))
        self.assertIs(limited(self.WIDE_IN_VIDEO, space, KEEP), self.WIDE_IN_VIDEO)
        wanted = self.hue(self.WIDE_IN_VIDEO)[out]
        apart = [np.abs((self.hue(v)[out] - wanted + 180) % 360 - 180) for v in (limit, clip)]
        self.assertLess(np.median(apart[0]), 0.3 * np.median(apart[1]))
        self.assertLess(np.percentile(apart[0], 90), 5)

    @staticmethod
    def hue(values: Array) -> Array:
        light = np.sign(values) * np.abs(values.astype(np.float64)) ** 2.4
        wide = np.maximum(moved(light, VIDEO, WIDE, None), 0)
        _, ct, cp = np.moveaxis(np.asarray(colour.RGB_to_ICtCp(203 * wide)), -1, 0)
        return np.degrees(np.arctan2(cp, ct))

    def test_the_step_limits_shows_and_leaves_light_of_scenes_alone(self) -> None:
        source = MemorySource([CHART], primaries="bt2020", transfer="bt709", matrix="bt2020nc")

        def made(target: str, gamut: str) -> Pipeline:
            step = Step(kind="convert", settings={"target": target, "gamut": gamut})
            return Pipeline(Footage(source), Plan(profile=white_profile(1), steps=[step]))

        kept, limit = (made("Rec.1886 Rec.709 - Display", gamut) for gamut in (KEEP, LIMIT))
        self.assertLess(kept.frame(0).min(), -0.05)
        self.assertGreaterEqual(limit.frame(0).min(), 0)
        where = limit.own_view(0, "outside", 0) > 0
        np.testing.assert_array_equal(where, (kept.frame(0) != limit.frame(0)).any(axis=2))
        self.assertLess(made(LINEAR, LIMIT).frame(0).min(), -0.01, "floating light of scenes holds it")

    def test_the_judge_tells_what_a_target_cannot_hold(self) -> None:
        """Half of a picture in a pure BT.2020 green, which BT.709 has not."""
        frame = np.full((64, 96, 3), 0.4, np.float32)
        frame[:, :48] = (0.1, 0.8, 0.1)
        source = MemorySource([frame] * 3, primaries="bt2020", transfer="bt709", matrix="bt2020nc")
        for target, gamut, share in (
            ("Camera Rec.709", KEEP, 50),
            ("Camera Rec.709", LIMIT, 0),
            ("Rec.2100-PQ - Display", KEEP, 0),
            (LINEAR, KEEP, 0),
        ):
            step = Step(kind="convert", settings={"target": target, "gamut": gamut})
            plan = Plan(profile=white_profile(1), steps=[step])
            judged = overwork(Pipeline(Footage(source), plan), [1])
            found = next(m for m in judged.report.measures if m.kind == "gamut")
            with self.subTest(target, gamut=gamut):
                self.assertAlmostEqual(found.value, share, delta=2.5)
                self.assertEqual(found.verdict, "too far" if share else "fine")
            if share:
                self.assertGreater(judged.maps["gamut"][32, 20], 1)
                self.assertLess(judged.maps["gamut"][32, 80], 0.1)


class Range(TestCase):
    def test_legal_and_full_range_of_the_same_video_come_back_exactly(self) -> None:
        rng = np.random.default_rng(2)
        codes = rng.integers(64, 941, (32, 48, 1)).repeat(3, axis=2)
        grey = ((codes - 64) / 876).astype(np.float32)
        with tempfile.TemporaryDirectory() as folder:
            for name in ("full", "legal"):
                step = convert("Camera Rec.709", "Rec.1886 Rec.709 - Display", codes=name)
                plan = Plan(profile=white_profile(1), steps=[step])
                info = described(48, 32, 1, chroma="4:4:4")
                told = plan.formats(Format.of(info))[-1].told(info)
                path = Path(folder) / f"{name}.mkv"
                with open_writer(destination(path, "ffv1-source"), told) as writer:
                    writer.write(grey)
                source = open_source(path)
                self.assertEqual(source.info.range, "full" if name == "full" else "limited")
                np.testing.assert_array_equal(np.rint(source.read(0) * 876 + 64), codes)
                source.close()
                self.assertTrue(OUTPUT_FORMATS["ffv1"].for_source(told).full_range, "R'G'B' is always full")
