"""The look against ASC CDL 1.2, ITU-R BT.2100 and BT.2408, and LUTs computed by hand."""

from __future__ import annotations

from pathlib import Path
from unittest import TestCase

import colour
import numpy as np

from tests.clips import MemorySource, temporary_folder
from yellowclean.engine.colour.cdl_files import FORMATS, read_cdls, written_cdl
from yellowclean.engine.colour.cube_files import written_cube
from yellowclean.engine.colour.encodings import converted
from yellowclean.engine.colour.input_space import encoding_of
from yellowclean.engine.colour.look import MID_GREY_CV, Cdl, Look, lut_checked
from yellowclean.engine.colour.management import Managed, managed_by_default, spaces
from yellowclean.engine.errors import BadInput
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import LUMA_WEIGHTS, Frame
from yellowclean.engine.judge.under_look import noise_under
from yellowclean.engine.media.info import MediaInfo
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.render import told_of_result

FRAME: Frame = np.random.default_rng(3).uniform(0, 1, (24, 40, 3)).astype(np.float32)
CDL = Cdl(slope=(1.1, 0.9, 1.3), offset=(0.02, -0.05, 0.1), power=(1.2, 0.8, 1.0), saturation=0.7)
SCENE_LINEAR = "Linear Rec.709 (sRGB)"


def cube(size: int, lattice: np.ndarray) -> str:
    """A 3D .cube file; red changes fastest."""
    rows = "\n".join(" ".join(f"{v:.6f}" for v in entry) for entry in lattice.reshape(-1, 3))
    return f"LUT_3D_SIZE {size}\n{rows}\n"


class Looks(TestCase):
    def test_a_plain_look_changes_nothing(self) -> None:
        self.assertTrue(Look().plain)
        self.assertIs(Look().applied(FRAME), FRAME)

    def test_cdl_is_the_formula_of_asc_1_2(self) -> None:
        sop = np.clip(FRAME * CDL.slope + CDL.offset, 0, 1) ** np.array(CDL.power)
        grey = (sop @ LUMA_WEIGHTS)[..., None]
        expected = np.clip(grey + CDL.saturation * (sop - grey), 0, 1)
        np.testing.assert_allclose(Look(cdl=CDL).applied(FRAME), expected, atol=2e-4)

    def test_contrast_keeps_its_pivot_and_exposure_is_light_on_a_reference_display(self) -> None:
        grey = MID_GREY_CV / 1023
        self.assertEqual(MID_GREY_CV, 418)  # 1.099 · 0.18^0.45 - 0.099, by hand
        shown = Look(contrast=1.5).applied(FRAME)
        np.testing.assert_allclose(shown, grey + 1.5 * (FRAME - grey), atol=1e-5)
        brighter = Look(exposure=1).applied(FRAME)
        np.testing.assert_allclose(brighter**2.4, 2 * FRAME**2.4, rtol=1e-4, atol=1e-5)

    def test_a_region_is_shown_as_the_same_region_of_the_frame(self) -> None:
        look = Look(exposure=0.5, cdl=CDL, managed=suggested(info("bt709")))
        np.testing.assert_array_equal(look.applied(FRAME)[5:9, 7:30], look.applied(FRAME[5:9, 7:30]))

    def test_a_tetrahedron_by_hand(self) -> None:
        """In the tetrahedron r ≥ g ≥ b: c000 + r (c100 - c000) + g (c110 - c100) + b (c111 - c110)."""
        lattice = np.random.default_rng(5).uniform(0, 1, (2, 2, 2, 3))  # blue, green, red
        path = self.written("two.cube", cube(2, lattice))
        r, g, b = 0.7, 0.4, 0.1
        c000, c100, c110, c111 = lattice[0, 0, 0], lattice[0, 0, 1], lattice[0, 1, 1], lattice[1, 1, 1]
        expected = c000 + r * (c100 - c000) + g * (c110 - c100) + b * (c111 - c110)
        shown = Look(lut=str(path)).applied(np.array([[[r, g, b]]], np.float32))
        np.testing.assert_allclose(shown[0, 0], expected, atol=2e-5)

    def test_a_one_dimensional_lut_is_read_between_its_entries(self) -> None:
        curve = np.linspace(0, 1, 17) ** 2
        rows = "\n".join(f"{v:.6f} {v:.6f} {v:.6f}" for v in curve)
        path = self.written("curve.cube", f"LUT_1D_SIZE 17\n{rows}\n")
        expected = np.interp(FRAME, np.linspace(0, 1, 17), curve)
        np.testing.assert_allclose(Look(lut=str(path)).applied(FRAME), expected, atol=1e-4)

    def test_a_look_kept_as_a_cube_looks_like_it(self) -> None:
        for look in (Look(contrast=1.2, cdl=CDL), Look(exposure=0.5, managed=suggested(info("smpte2084")))):
            for size, apart in ((33, 0.5), (65, 0.2)):
                path = self.written("kept.cube", written_cube(look, size, 'a "look"'))
                lattice = np.linspace(0, 1, size, dtype=np.float32)[None, :, None].repeat(3, axis=2)
                made = Look(lut=str(path))
                np.testing.assert_allclose(made.applied(lattice), look.applied(lattice), atol=1e-5)
                self.assertLess(np.median(np.abs(made.applied(FRAME) - look.applied(FRAME))) * 1023, apart)
        with self.assertRaisesRegex(BadInput, "33 or 65"):
            written_cube(Look(), 17, "odd")

    def test_a_step_grades_in_the_space_it_is_asked_to(self) -> None:
        """Slope 2 in linear light is a stop; a LUT that converts says what its result is."""
        settings = {"space": SCENE_LINEAR, "slope_r": 2, "slope_g": 2, "slope_b": 2}
        dim = 0.3 * FRAME
        made = self.graded(dim, settings)
        np.testing.assert_allclose(
            converted(made.frame(0), "Camera Rec.709", SCENE_LINEAR),
            np.clip(2 * converted(dim, "Camera Rec.709", SCENE_LINEAR), 0, 1), atol=2e-4,
        )  # fmt: skip
        self.assertEqual(made.format, made.formats[0])
        lattice = np.stack(np.meshgrid(*[np.linspace(1, 0, 2)] * 3, indexing="ij")[::-1], axis=-1)
        path = self.written("inverted.cube", cube(2, lattice))
        inverted = self.graded(FRAME, {"lut": str(path), "gives": "sRGB - Display"})
        np.testing.assert_allclose(inverted.frame(0), 1 - FRAME, atol=1e-5)
        self.assertEqual(inverted.format.encoding.transfer, "srgb")
        self.assertEqual(inverted.plan.luts, [str(path)])
        with self.assertRaisesRegex(BadInput, "gone.cube"):
            self.graded(FRAME, {"lut": str(path.with_name("gone.cube"))})

    @staticmethod
    def graded(frame: Frame, settings: dict[str, object]) -> Pipeline:
        plan = Plan(profile=white_profile(1), steps=[Step(kind="grade", settings=settings)])
        return Pipeline(Footage(MemorySource([frame] * 2)), plan)

    def test_files_that_are_none_are_refused_in_one_line(self) -> None:
        for name, text in (("bad.cube", "hello"), ("empty.cube", ""), ("short.cube", "LUT_3D_SIZE 9\n0 0 0\n")):
            path = self.written(name, text)
            with self.assertRaisesRegex(BadInput, f"^{name} is no LUT"):
                lut_checked(path)
        for ending in FORMATS:
            with self.assertRaisesRegex(BadInput, "is no ASC CDL document"):
                read_cdls(self.written(f"bad{ending}", "<nothing/>"))
        unknown = suggested(info("bt709")).model_copy(update={"input": "no such space"})
        with self.assertRaisesRegex(BadInput, "no such space"):
            Look(managed=unknown).check()
        with self.assertRaisesRegex(BadInput, "no colour configuration"):
            spaces(str(self.written("bad.ocio", "hello")))

    def test_cdl_documents_come_back_as_they_were(self) -> None:
        for ending in FORMATS:
            path = self.written(f"shot{ending}", written_cdl(CDL, ending, "q9_012"))
            ((key, found),) = read_cdls(path).items()
            self.assertEqual((key, found), ("q9_012", CDL))

    def test_pq_and_hlg_levels_of_the_standards(self) -> None:
        """Signal of diffuse white: 58 % PQ for 203 cd/m² and 75 % HLG (ITU-R BT.2408-7 table 1, values from
        memory), and of 1000 cd/m²: 75.2 % PQ (by the formula of ITU-R BT.2100-2 table 4)."""
        pq, hlg = (self.light_of(space) for space in ("Rec.2100-PQ - Display", "Rec.2100-HLG - Display"))
        self.assertAlmostEqual(pq(0.5807), 203 / 100, delta=0.01)
        self.assertAlmostEqual(pq(0.7518), 1000 / 100, delta=0.03)
        # HLG on its reference display of 1000 cd/m²: 203 cd/m² at 75 %, 1000 at 100 %.
        self.assertAlmostEqual(hlg(0.75), 203 / 100, delta=0.01)
        self.assertAlmostEqual(hlg(1.0), 1000 / 100, delta=0.03)

    def test_the_space_is_taken_from_the_tags(self) -> None:
        self.assertEqual(suggested(info("smpte2084")).input, "Rec.2100-PQ - Display")
        self.assertEqual(suggested(info("unknown")).input, "Camera Rec.709")
        offered = spaces()
        for transfer in ("linear", "srgb", "arib-std-b67", "bt709"):
            managed = suggested(info(transfer))
            self.assertIn(managed.input, offered.inputs)
            self.assertIn(managed.view, offered.displays[managed.display])

    def test_wide_gamut_without_log_or_hdr_is_no_bt709(self) -> None:
        """Against colour-science: 729 colours of a BT.2020 camera in BT.709, and back."""
        wide = info("bt2020-10").model_copy(update={"primaries": "bt2020", "matrix": "bt2020nc"})
        self.assertEqual(encoding_of(wide).space, "Camera Rec.2020")
        self.assertEqual(encoding_of(info("bt2020-10")).space, "Camera Rec.709")
        levels = np.linspace(0.02, 0.98, 9, dtype=np.float32)
        chart = np.stack(np.meshgrid(levels, levels, levels), axis=-1).reshape(1, -1, 3)
        linear = colour.models.oetf_inverse_BT2020(chart)
        matrix = colour.matrix_RGB_to_RGB("ITU-R BT.2020", "ITU-R BT.709", None)
        there = converted(chart, "Camera Rec.2020", "Camera Rec.709")
        expected = colour.models.oetf_BT709(linear @ matrix.T)
        inside = (expected >= 0).all(axis=-1)
        self.assertGreater(inside.sum(), 200)
        self.assertLess(np.abs(there - expected)[inside].max() * 1023, 0.5)
        np.testing.assert_allclose(converted(there, "Camera Rec.709", "Camera Rec.2020"), chart, atol=1e-4)

    def test_a_baked_look_is_tagged_for_what_it_shows_and_not_at_all_where_nobody_knows(self) -> None:
        camera, lut = info("bt709"), self.written("two.cube", cube(2, np.zeros((2, 2, 2, 3))))
        tags = {
            "Rec.2100-PQ - Display": ("bt2020", "smpte2084", "bt2020nc"),
            "sRGB - Display": ("bt709", "srgb", "bt709"),
            "P3-D65 - Display": ("unknown", "unknown", "bt709"),
        }
        for display, expected in tags.items():
            managed = Managed(input="Camera Rec.709", display=display, view=spaces().displays[display][0])
            told = told_of_result(camera, Plan(look=Look(managed=managed)))
            self.assertEqual((told.primaries, told.transfer, told.matrix), expected, display)
        self.assertEqual(told_of_result(camera, Plan(look=Look(lut=str(lut)))).transfer, "unknown")
        self.assertEqual(told_of_result(camera, Plan(look=Look(cdl=CDL))), camera)

    def test_noise_under_a_look_is_what_noise_becomes_under_it(self) -> None:
        """Against noise of that sigma, sent through the look."""
        look = Look(exposure=0.7, contrast=1.3, cdl=Cdl(power=(0.9, 1.0, 1.1), saturation=1.2))
        profile = white_profile(4)
        told = noise_under(look, profile)
        rng = np.random.default_rng(8)
        for k in range(2, len(told.level_cv) - 1):
            if not 100 < told.shown_level_cv[k] < 900:
                continue
            grey = np.full((200, 200, 3), told.level_cv[k] / 1023, np.float32)
            noisy = grey + (rng.standard_normal(grey.shape) * 4 / 1023).astype(np.float32)
            found = (look.applied(noisy) @ LUMA_WEIGHTS).std() * 1023
            self.assertAlmostEqual(found / told.shown_noise_cv[k], 1, delta=0.03)
        self.assertGreater(max(told.shown_noise_cv), 1.2 * max(told.noise_cv))

    def light_of(self, space: str):  # type: ignore[no-untyped-def]
        """Light of a grey signal in a display's space, in units of 100 cd/m²."""
        managed = Managed(input=space, display="Gamma 2.2 Rec.709 - Display", view="Un-tone-mapped")

        def light(signal: float) -> float:
            shown = Look(managed=managed).applied(np.full((1, 1, 3), signal, np.float32))
            return float(shown[0, 0, 1] ** 2.2)

        return light

    def written(self, name: str, text: str) -> Path:
        path = temporary_folder(self) / name
        path.write_text(text)
        return path


def info(transfer: str) -> MediaInfo:
    return MediaInfo(
        path="", kind="video", width=8, height=8, frames=1, rate="24", bit_depth=10, chroma="4:2:2", codec="prores",
        pixel_format="", range="limited", primaries="bt709", transfer=transfer, matrix="bt709",
    )  # fmt: skip


def suggested(source: MediaInfo) -> Managed:
    return managed_by_default(encoding_of(source).space)
