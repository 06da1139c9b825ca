"""Our proposed plan beside OpenCV's non-local means at its best strength, on test-camera clips."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

import cv2
import numpy as np

from yellowclean.engine.frames import Frame, as_uint8
from yellowclean.engine.measure.survey import survey
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.pipeline import Footage, Pipeline
from yellowclean.engine.propose import propose
from yellowclean.engine.testcamera import Camera, ShotRecipe, frame_pair, scene_of

FRAMES, MIDDLE = 7, 3
STRENGTHS = (3, 5, 7, 10, 14)


class Clip(Source):
    """A short clip in memory, as the engine's Source."""

    def __init__(self, scene: str, camera: Camera) -> None:
        recipe = ShotRecipe(name=scene, scene=scene, camera=camera, width=960, height=540, frames=FRAMES)  # type: ignore[arg-type]
        light = scene_of(recipe)
        pairs = [frame_pair(recipe, light, n) for n in range(FRAMES)]
        self.frames = [np.clip(noisy, 0, 1) for noisy, _ in pairs]
        self.truth = pairs[MIDDLE][1]
        self.info = MediaInfo(
            path=scene, kind="video", width=960, height=540, frames=FRAMES, rate="24", bit_depth=16, chroma="rgb",
            codec="", pixel_format="", range="full", primaries="bt709", transfer="bt709", matrix="bt709",
        )  # fmt: skip

    def read(self, n: int) -> Frame:
        return self.frames[n]

    def close(self) -> None:
        """Nothing is open."""


def psnr(a: Frame, b: Frame) -> float:
    return float(-10 * np.log10(np.mean((np.clip(a, 0, 1).astype(np.float64) - b) ** 2)))


def ours(clip: Clip) -> tuple[float, float]:
    """(PSNR, seconds a frame) of the proposal, which knows nothing of the truth."""
    plan = propose(survey(clip))
    Pipeline(Footage(clip), plan).frame(MIDDLE)
    pipeline = Pipeline(Footage(clip), plan)
    started = time.perf_counter()
    result = pipeline.frame(MIDDLE)
    return psnr(result, clip.truth), time.perf_counter() - started


def best(clip: Clip, run: Callable[[Sequence[Frame], int], Frame]) -> tuple[float, float]:
    """(PSNR at the strength that is best against the truth, seconds a frame)."""
    eight = [as_uint8(frame) for frame in clip.frames]
    found = []
    for strength in STRENGTHS:
        started = time.perf_counter()
        result = (run(eight, strength) / 255).astype(np.float32)  # type: ignore[arg-type]
        found.append((psnr(result, clip.truth), time.perf_counter() - started))
    return max(found)


def single(eight: Sequence[Frame], strength: int) -> Frame:
    return cv2.fastNlMeansDenoisingColored(eight[MIDDLE], None, strength, strength, 7, 21)


def multi(eight: Sequence[Frame], strength: int) -> Frame:
    return cv2.fastNlMeansDenoisingColoredMulti(list(eight), MIDDLE, 5, None, strength, strength, 7, 21)


def main() -> None:
    print("| clip | noisy dB | OpenCV NLM dB (s) | OpenCV NLM multi dB (s) | ours dB (s) |")
    print("| --- | ---: | ---: | ---: | ---: |")
    for scene in ("quay", "cloth", "basin"):
        for stops in (3, 5):
            clip = Clip(scene, Camera(stops_under=stops))
            cells = [f"{p:.1f} ({s:.2f})" for p, s in (best(clip, single), best(clip, multi), ours(clip))]
            noisy = psnr(clip.frames[MIDDLE], clip.truth)
            print(f"| {scene}, {stops} stops | {noisy:.1f} | {' | '.join(cells)} |", flush=True)
