"""The test camera: seeded, physically right, and clean where it says so."""

from __future__ import annotations

from unittest import TestCase

import colour
import numpy as np

from tests.clips import temporary_folder
from yellowclean.engine.colour.curves import DECODERS, ENCODERS, bt709_encoded
from yellowclean.engine.media import open_source
from yellowclean.engine.testcamera import SCENES, Camera, Faults, ShotRecipe, expose, frame_pair, scene_of, shoot


class Sensor(TestCase):
    def test_noise_is_photon_transfer(self) -> None:
        """EMVA 1288: variance in electrons is signal plus read noise squared."""
        camera = Camera(stops_under=2, bayer=False, full_scale=8000, read_noise=4)
        for light in (0.02, 0.2, 0.7):
            field = np.full((256, 256, 3), light, np.float32)
            linear = DECODERS["bt709"](expose(field, camera, 1))
            electrons = linear.astype(np.float64) * 2000
            self.assertAlmostEqual(electrons.var() / (light * 2000 + 16), 1, delta=0.02)
            self.assertAlmostEqual(electrons.mean() / (light * 2000), 1, delta=0.01)

    def test_clean_frames_are_the_mean_of_noisy_ones(self) -> None:
        recipe = ShotRecipe(name="x", scene="quay", width=160, height=96, frames=1, camera=Camera(stops_under=1))
        light = scene_of(recipe)
        ideal = frame_pair(recipe, light, 0)[1]
        seeds = [
            recipe.model_copy(update={"camera": recipe.camera.model_copy(update={"seed": s})}) for s in range(24)
        ]
        mean = np.mean([frame_pair(r, light, 0)[0] for r in seeds], axis=0)
        self.assertLess(abs(float((mean - ideal).mean())), 0.002)
        self.assertLess(float((mean - ideal).std()), 0.012)

    def test_demosaicing_keeps_colours(self) -> None:
        for tone in ((0.4, 0.1, 0.05), (0.05, 0.1, 0.4), (0.1, 0.5, 0.2)):
            field = np.full((64, 64, 3), tone, np.float32)
            seen = expose(field, Camera(noiseless=True), 0)[8:-8, 8:-8].mean(axis=(0, 1))
            np.testing.assert_allclose(seen, bt709_encoded(np.array(tone, np.float32)), atol=0.003)


class Curves(TestCase):
    def test_bt709_agrees_with_colour_science(self) -> None:
        """Independent reference: colour.models.oetf_BT709 (rounded constants of the text)."""
        x = np.linspace(0, 1, 101).astype(np.float32)
        np.testing.assert_allclose(bt709_encoded(x), colour.models.oetf_BT709(x), atol=4e-4)

    def test_curves_invert_and_continue_below_black(self) -> None:
        x = np.concatenate([np.linspace(-0.02, 0.05, 60), np.linspace(0.05, 1.2, 60)]).astype(np.float32)
        for name, encode in ENCODERS.items():
            np.testing.assert_allclose(DECODERS[name](encode(x)), x, atol=2e-5, err_msg=name)
            self.assertTrue((np.diff(encode(x)) >= 0).all())


class Shooting(TestCase):
    def test_the_same_recipe_gives_the_same_footage(self) -> None:
        folder = temporary_folder(self)
        recipe = ShotRecipe(
            name="a", scene="stars", width=96, height=64, frames=3, faults=Faults(satellites=1, dust=2)
        )
        for name in ("one", "two"):
            shoot(recipe, folder / name)
        one, two = open_source(folder / "one" / "a.mkv"), open_source(folder / "two" / "a.mkv")
        for n in range(3):
            np.testing.assert_array_equal(one.read(n), two.read(n))
        self.assertEqual(ShotRecipe.model_validate_json((folder / "one" / "parameters.json").read_text()), recipe)

    def test_every_scene_moves_and_has_texture_or_gradient(self) -> None:
        for scene in SCENES:
            recipe = ShotRecipe(name=scene, scene=scene, width=160, height=96, frames=2)  # type: ignore[arg-type]
            light = scene_of(recipe)
            first, later = light(0), light(9)
            with self.subTest(scene):
                self.assertTrue(np.isfinite(first).all())
                self.assertGreaterEqual(float(first.min()), -0.05)
                self.assertGreater(float(np.abs(first - later).mean()), 1e-4)
