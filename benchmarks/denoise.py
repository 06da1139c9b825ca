"""Our own proposal beside general-purpose denoisers, each at the strength that is best against the truth."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Frame, luma
from yellowclean.engine.judge.metrics import psnr_db, ssim
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

from .clips import Clip
from .peers import PEERS, Peer

JUDGED = (5, 6, 7)
"""Frames that are judged; strengths are chosen on the first."""

FRAMES = 13

MOTIONS: dict[str, tuple[float, float, float]] = {
    "slow": (1.3, 0.4, 0.8), "fast": (23.0, 3.0, 1.5), "static": (0.0, 0.0, 0.0),
}  # fmt: skip
"""Camera paths over the quay (pixels a frame across and down, sway); a lantern bearer walks through each."""


@dataclass(frozen=True, slots=True)
class Score:
    psnr: float
    ssim: float
    flicker_cv: float
    seconds: float

    def cells(self) -> str:
        return f"{self.psnr:.2f} | {self.ssim:.4f} | {self.flicker_cv:.2f} | {self.seconds:.2f}"


def judged(clip: Clip, clean: Callable[[int], Frame]) -> Score:
    """PSNR and SSIM over the judged frames, and the RMS change of the error between them."""
    started = time.perf_counter()
    results = [np.clip(clean(n), 0, 1) for n in JUDGED]
    seconds = (time.perf_counter() - started) / len(JUDGED)
    errors = [result - clip.truth[n] for result, n in zip(results, JUDGED, strict=True)]
    square = float(np.mean([np.mean(e.astype(np.float64) ** 2) for e in errors]))
    change = np.sqrt(np.mean([np.mean((b - a) ** 2) for a, b in itertools.pairwise(errors)]))
    similar = np.mean([ssim(luma(r), luma(clip.truth[n])) for r, n in zip(results, JUDGED, strict=True)])
    return Score(psnr_db(square) or np.inf, float(similar), float(change) * CV_SCALE, seconds)


def best_of(clip: Clip, peer: Peer) -> tuple[float, Score]:
    """The strength that gives the highest PSNR against the truth, and what it reaches."""

    def cleaned(n: int, strength: float) -> Frame:
        return peer.run(clip.frames[n - peer.around : n + peer.around + 1], peer.around, strength)

    first = JUDGED[0]
    tried = {s: float(np.mean((np.clip(cleaned(first, s), 0, 1) - clip.truth[first]) ** 2)) for s in peer.strengths}
    strength = min(tried, key=lambda s: tried[s])
    return strength, judged(clip, lambda n: cleaned(n, strength))


def ours(clip: Clip) -> tuple[str, Score]:
    """The proposal, which knows nothing of the truth. Kernels are loaded before the clock runs."""
    plan = propose(survey(clip))
    Pipeline(Footage(clip), plan).frame(0)
    pipeline = Pipeline(Footage(clip), plan)
    frames = next((step.settings["frames"] for step in plan.steps if step.kind == "temporal"), 0)
    return f"±{frames} frames", judged(clip, pipeline.frame)


def main() -> None:
    print("| clip | method | strength | PSNR dB | SSIM | flicker CV | s a frame |")
    print("| --- | --- | ---: | ---: | ---: | ---: | ---: |")
    margins: list[tuple[str, float]] = []
    for motion, (bayer, stops) in itertools.product(MOTIONS, itertools.product((False, True), (3, 5))):
        clip = Clip("quay", Camera(stops_under=stops, bayer=bayer), frames=FRAMES, motion=MOTIONS[motion])
        name = f"{motion}, {'Bayer' if bayer else 'white'}, {stops} stops"
        print(f"| {name} | untouched | | {judged(clip, clip.read).cells()} |", flush=True)
        best = 0.0
        for peer in PEERS:
            strength, score = best_of(clip, peer)
            best = max(best, score.psnr)
            print(f"| {name} | {peer.name} | {strength:g} | {score.cells()} |", flush=True)
        frames, score = ours(clip)
        margins.append((name, score.psnr - best))
        print(f"| {name} | **ours** | {frames} | {score.cells()} |", flush=True)
    print("\nPSNR above the best peer: " + "; ".join(f"{name} {margin:+.2f} dB" for name, margin in margins))
