"""Memory of the survey against the length of the shot: a minute beside four hours, each in a process of its own."""

from __future__ import annotations

import multiprocessing
import resource
import time

import numpy as np

from yellowclean.engine.frames import Frame
from yellowclean.engine.media import Source
from yellowclean.engine.survey import survey

from .clips import described

WIDTH, HEIGHT = 192, 108
MINUTE, FOUR_HOURS = 60 * 24, 4 * 3600 * 24


class Endless(Source):
    """A simulated shot of any length: a noisy picture that moves a pixel a frame, made when it is read."""

    def __init__(self, frames: int) -> None:
        self.info = described(frames, WIDTH, HEIGHT)
        rng = np.random.default_rng(1)
        scene = rng.random((HEIGHT // 12, WIDTH // 6, 3)).repeat(12, 0).repeat(12, 1) * 0.5 + 0.2
        self._scene = scene.astype(np.float32)
        self._noise = rng.normal(0, 0.01, (97, HEIGHT, WIDTH, 3)).astype(np.float32)

    def read(self, n: int) -> Frame:
        at = n % WIDTH
        frame: Frame = np.clip(self._scene[:, at : at + WIDTH] + self._noise[n % 97], 0, 1)
        return frame

    def close(self) -> None:
        """Nothing is open."""


def _measured(frames: int) -> tuple[float, float, float, int]:
    """(peak memory before and after in MB, seconds, size of the document in bytes)."""
    source = Endless(frames)
    survey(source, frames=range(48))  # kernels and libraries are loaded
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    started = time.perf_counter()
    report = survey(source)
    seconds = time.perf_counter() - started
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return before, after, seconds, len(report.model_dump_json())


def main() -> None:
    print(f"| {WIDTH}×{HEIGHT}, frames | peak before MB | peak after MB | grown, bytes a frame | s | document kB |")
    print("| ---: | ---: | ---: | ---: | ---: | ---: |")
    for frames in (MINUTE, FOUR_HOURS):
        with multiprocessing.get_context("spawn").Pool(1) as pool:
            before, after, seconds, size = pool.apply(_measured, (frames,))
        grown = (after - before) * 2**20 / frames
        figures = frames, before, after, grown, seconds, size / 1000
        print(f"| {' | '.join(f'{figure:.0f}' for figure in figures)} |", flush=True)
