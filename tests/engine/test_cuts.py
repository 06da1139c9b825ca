"""Cuts: found in made scenes and in photographs that are panned over, and none where light alone changes."""

from __future__ import annotations

from collections.abc import Sequence
from unittest import TestCase

import cv2
import numpy as np
from skimage import data

from tests.clips import shot_pair, temporary_folder
from tests.engine.test_reel import FILM, medium
from yellowclean.engine.errors import BadInput
from yellowclean.engine.frames import Array, luma
from yellowclean.engine.measure.cuts import Cuts
from yellowclean.engine.media import open_source
from yellowclean.engine.reel.scenes import found_cuts, scene_names, scenes, take_scenes
from yellowclean.engine.testcamera import Camera

WIDTH, HEIGHT = 320, 192
PHOTOGRAPHS = "astronaut", "coffee", "chelsea", "rocket", "immunohistochemistry"
"""Of scikit-image's own data."""


def cuts_of(frames: Sequence[Array]) -> list[int]:
    cuts = Cuts()
    for n, plane in enumerate(frames):
        cuts.see(n, plane)
    return cuts.found()


def panned(name: str, frames: int, speed: float, rng: np.random.Generator) -> list[Array]:
    """A hand-held, noisy move over a photograph."""
    picture = cv2.resize(luma(getattr(data, name)().astype(np.float32) / 255), (2 * WIDTH, 2 * HEIGHT))
    out = []
    for k in range(frames):
        x = int(np.clip(40 + speed * k + rng.normal(0, 1), 0, WIDTH))
        y = int(np.clip(60 + rng.normal(0, 1), 0, HEIGHT))
        out.append(picture[y : y + HEIGHT, x : x + WIDTH] + noise(rng))
    return out


def noise(rng: np.random.Generator) -> Array:
    return rng.normal(0, 0.02, (HEIGHT, WIDTH)).astype(np.float32)


class Found(TestCase):
    def test_cuts_between_scenes_and_photographs(self) -> None:
        rng = np.random.default_rng(4)
        pieces = [panned(name, 14, speed, rng) for name, speed in zip(PHOTOGRAPHS, (0, 3, 8, 1, 5), strict=True)]
        for scene in ("quay", "cloth", "dusk"):
            noisy, _ = shot_pair(scene, Camera(stops_under=4, bayer=True), WIDTH, HEIGHT, 8)
            pieces.append([luma(frame) for frame in noisy])
        begins = np.cumsum([len(piece) for piece in pieces])[:-1]
        self.assertEqual(cuts_of([plane for piece in pieces for plane in piece]), begins.tolist())

    def test_light_movement_and_dissolves_are_none(self) -> None:
        rng = np.random.default_rng(5)
        still, quick = panned("coffee", 24, 0, rng), panned("astronaut", 24, 12, rng)
        flash = [np.clip(2 * p + 0.2, 0, 1) if k in (9, 10) else p for k, p in enumerate(still)]
        lift = [p if k < 12 else 0.6 * p + 0.2 for k, p in enumerate(still)]
        dissolve = [p * (1 - k / 23) + q * k / 23 for k, (p, q) in enumerate(zip(still, quick, strict=True))]
        for name, frames in (("still", still), ("pan", quick), ("flash", flash), ("lift", lift), ("mix", dissolve)):
            with self.subTest(name):
                self.assertEqual(cuts_of(frames), [])
        self.assertEqual(cuts_of([np.zeros((HEIGHT, WIDTH), np.float32)] * 6), [])
        self.assertEqual(cuts_of(still[:1]), [])


class Taken(TestCase):
    def test_a_file_becomes_a_job_of_its_scenes(self) -> None:
        folder = temporary_folder(self)
        path = medium(folder / "long.mkv", 1, 24, FILM, "01:00:00:00")  # bits of its number change its picture
        with_cuts = found_cuts(source := open_source(path))
        source.close()
        job = take_scenes(folder / "job", path)
        spans = [(shot.name, shot.first, shot.stop) for shot in job.shots]
        self.assertEqual([first for _, first, _ in spans], [0, *with_cuts])
        self.assertEqual([stop for _, _, stop in spans], [*with_cuts, 24])
        self.assertEqual(spans[0][0], "long_01")

    def test_bounds(self) -> None:
        self.assertEqual(scenes(10, [7, 3, 7]), [range(3), range(3, 7), range(7, 10)])
        self.assertEqual(scene_names("a", 100)[-1], "a_100")
        for wrong in ([], [0], [10], [-1, 5]):
            with self.subTest(wrong), self.assertRaises(BadInput):
                scenes(10, wrong)
