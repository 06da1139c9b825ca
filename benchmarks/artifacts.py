"""Repairs beside general-purpose filters, each at the strength that is best against the truth; `faulty` makes the
footage."""

from __future__ import annotations

import itertools
import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import CV_SCALE, Array, Frame, luma
from yellowclean.engine.judge.metrics import psnr_db
from yellowclean.engine.media import Source, open_source
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.survey import survey

from .clips import described
from .compressed import LUMA_SHARE, planes_db
from .faulty import (
    HEIGHT,
    WIDTH,
    Held,
    Mask,
    Scene,
    banded,
    coded_scenes,
    films,
    flickering,
    panned,
    pictures,
    specked,
)
from .fringes import fringed
from .peers import ffmpeg_all, opencv_single

Run = Callable[[Sequence[Frame]], list[Frame]]
Measure = Callable[["Scene", Sequence[Frame]], float]


def coding_peers(scene: Scene) -> dict[str, Run]:
    runs: dict[str, Run] = {"untouched": list}
    for kind, (alpha, beta) in itertools.product(("weak", "strong"), ((0.05, 0.03), (0.1, 0.05), (0.2, 0.1))):
        call = f"deblock=filter={kind}:block=8:alpha={alpha}:beta={beta}:gamma={beta}:delta={beta}"
        runs[f"FFmpeg deblock {kind} {alpha:g}"] = ffmpeg_all("yuv444p16le", call)
    for sigma in (0.5, 1, 2, 3, 5, 8):
        runs[f"FFmpeg fftdnoiz {sigma:g}"] = ffmpeg_all("yuv444p16le", f"fftdnoiz=sigma={sigma}:prev=1:next=1")
    for strength in (1, 2, 3, 5):
        runs[f"OpenCV NLM {strength}"] = _judged_alone(
            scene,
            lambda frames, n, s=strength: opencv_single(frames, n, s),  # type: ignore[misc]
        )
    return runs


def _judged_alone(scene: Scene, work: Callable[[Sequence[Frame], int], Frame]) -> Run:
    """A slow filter on the judged frames only."""
    return lambda frames: [work(frames, n) if n in scene.judged else f for n, f in enumerate(frames)]


def coding_db(scene: Scene, results: Sequence[Frame]) -> float:
    """Three quarters PSNR of luma, one of colour in half the size."""
    luma_db, chroma_db = planes_db([results[n] for n in scene.judged], [scene.truth[n] for n in scene.judged])
    return LUMA_SHARE * luma_db + (1 - LUMA_SHARE) * chroma_db


def alone(work: Callable[[Frame], Frame]) -> Run:
    return lambda frames: [work(frame) for frame in frames]


def band_peers(scene: Scene) -> dict[str, Run]:
    step = float(scene.settings["step"]) / 1.5 / CV_SCALE  # type: ignore[arg-type]
    runs: dict[str, Run] = {}
    for factor, size in itertools.product((0.5, 1, 2, 3), (4, 8, 14)):
        runs[f"OpenCV bilateral {factor:g}, {size}"] = alone(
            lambda f, k=factor, s=size: cv2.bilateralFilter(f, 2 * s + 1, 1.7 * k * step, s)  # type: ignore[misc]
        )
    for sigma in (1.5, 3, 6):
        runs[f"OpenCV blur {sigma:g}"] = alone(lambda f, s=sigma: cv2.GaussianBlur(f, (0, 0), s))  # type: ignore[misc]
    for threshold, reach in itertools.product((0.6, 1.0, 1.6, 2.5), (12, 24)):
        limit = min(threshold * step, 0.5)
        runs[f"FFmpeg deband {threshold:g}, {reach}"] = ffmpeg_all(
            "yuv444p16le", f"deband=1thr={limit}:2thr={limit}:3thr={limit}:range={reach}:blur=1"
        )
    for strength, radius in itertools.product((1, 2, 4, 8), (8, 16, 32)):
        runs[f"FFmpeg gradfun {strength}, {radius}"] = ffmpeg_all(
            "yuv444p", f"gradfun=strength={strength}:radius={radius}"
        )
    return runs


def light_peers(scene: Scene) -> dict[str, Run]:
    runs: dict[str, Run] = {"untouched": list}
    for size, mode in itertools.product((5, 9, 21), ("am", "pm", "median")):
        runs[f"FFmpeg deflicker {size} {mode}"] = ffmpeg_all("yuv444p16le", f"deflicker=size={size}:mode={mode}")
    for radius, sigma in itertools.product((3, 8, 16), (0.3, 0.6, 0.9)):
        runs[f"FFmpeg tmidequalizer {radius}, {sigma:g}"] = ffmpeg_all(
            "yuv444p16le", f"tmidequalizer=radius={radius}:sigma={sigma}"
        )
    return runs


def speck_peers(scene: Scene) -> dict[str, Run]:
    runs: dict[str, Run] = {"untouched": list}
    for size in (3, 5):
        runs[f"OpenCV median {size}"] = alone(lambda f, s=size: cv2.medianBlur(f, s))  # type: ignore[misc]
    for radius in (1, 2):
        runs[f"FFmpeg tmedian {radius}"] = ffmpeg_all("yuv444p16le", f"tmedian=radius={radius}")
    for limit in (0.02, 0.1):
        runs[f"FFmpeg atadenoise {limit:g}"] = ffmpeg_all(
            "yuv444p16le", f"atadenoise=s=5:0a={limit}:1a={limit}:2a={limit}"
        )
    return runs


def fringe_peers(scene: Scene) -> dict[str, Run]:
    """Filters of colour, and of all, inside the true outline of the cloth."""
    runs: dict[str, Run] = {"untouched": list}

    def colour_alone(work: Callable[[Array], Array], name: str) -> None:
        def of(frame: Frame, mask: Mask) -> Frame:
            planes = cv2.cvtColor(frame, cv2.COLOR_RGB2YCrCb)
            planes[..., 1:] = work(np.ascontiguousarray(planes[..., 1:]))
            return np.where(mask[..., None], cv2.cvtColor(planes, cv2.COLOR_YCrCb2RGB), frame)

        runs[name] = lambda frames: [of(f, m) for f, m in zip(frames, scene.inside, strict=True)]

    for size in (1, 2, 4, 8, 16, 32):
        colour_alone(lambda c, s=size: cv2.GaussianBlur(c, (0, 0), s), f"OpenCV blur of colour {size}")  # type: ignore[misc]
        colour_alone(lambda c, s=size: cv2.blur(c, (2 * s + 1,) * 2), f"OpenCV mean of colour {size}")  # type: ignore[misc]
    for size in (3, 5):
        colour_alone(
            lambda c, s=size: np.stack(
                [cv2.medianBlur(np.ascontiguousarray(c[..., k]), s) for k in (0, 1)], axis=-1
            ),  # type: ignore[misc]
            f"OpenCV median of colour {size}",
        )
    for sigma in (0.05, 0.2, 0.5):
        colour_alone(
            lambda c, s=sigma: np.stack(  # type: ignore[misc]
                [cv2.bilateralFilter(np.ascontiguousarray(c[..., k]), -1, s, 12) for k in (0, 1)], axis=-1
            ),
            f"OpenCV bilateral of colour {sigma:g}",
        )
    for sigma in (0.6, 1, 2):
        runs[f"OpenCV blur {sigma:g}"] = lambda frames, s=sigma: [  # type: ignore[misc]
            np.where(m[..., None], cv2.GaussianBlur(f, (0, 0), s), f)
            for f, m in zip(frames, scene.inside, strict=True)
        ]
    return runs


def error_db(scene: Scene, results: Sequence[Frame], seen: Callable[[Frame], Array] = lambda f: f) -> float:
    """PSNR inside the fault over the judged frames."""
    squares = [((seen(results[n]) - seen(scene.truth[n])) ** 2)[scene.inside[n]].ravel() for n in scene.judged]
    return psnr_db(float(np.concatenate(squares).mean(dtype=np.float64))) or np.inf


def contours(frame: Frame) -> Array:
    """What is seen of bands from some way off: luma without its grain."""
    return cv2.GaussianBlur(luma(frame), (0, 0), 2)


def flicker_cv(scene: Scene, results: Sequence[Frame]) -> float:
    """RMS change of the error from frame to frame."""
    errors = {n: results[n] - scene.truth[n] for n in scene.judged}
    changes = [
        np.mean((errors[b] - errors[a])[scene.inside[a] & scene.inside[b]] ** 2)
        for a, b in itertools.pairwise(scene.judged)
    ]
    return float(np.sqrt(np.mean(changes))) * CV_SCALE if changes else float("nan")


def outside_db(scene: Scene, results: Sequence[Frame]) -> float:
    """PSNR of the result against the source where there is no fault."""
    squares = [((results[n] - scene.frames[n]) ** 2)[~scene.inside[n]].ravel() for n in scene.judged]
    every = np.concatenate(squares)
    return (psnr_db(float(every.mean(dtype=np.float64))) or np.inf) if every.size else np.inf


def ours(scene: Scene, kind: str) -> tuple[list[Frame], float]:
    """The repair, and seconds a frame."""
    plan = Plan(profile=scene.profile, steps=[Step(kind=kind, settings=scene.settings)])
    Pipeline(Footage(Held(scene.frames, scene.info, scene.errors)), plan).frame(scene.judged.start)
    pipeline = Pipeline(Footage(Held(scene.frames, scene.info, scene.errors)), plan)
    started = time.perf_counter()
    results = list(scene.frames)
    for n in scene.judged:
        results[n] = pipeline.frame(n)
    return results, (time.perf_counter() - started) / len(scene.judged)


COLUMNS = (
    "scene", "faulty dB", "best peer", "peer dB", "ours dB", "gain", "contours", "flicker CV, peer", "ours",
    "outside dB", "s a frame, peer", "ours",
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Score:
    name: str
    inside: float
    contours: float
    flicker: float
    seconds: float


def scored(scene: Scene, name: str, run: Run, measure: Measure) -> Score:
    started = time.perf_counter()
    results = _one(run, scene) if scene.still else run(scene.frames)
    seconds = (time.perf_counter() - started) / len(scene.judged)
    inside, lines = measure(scene, results), error_db(scene, results, contours)
    return Score(name, inside, lines, flicker_cv(scene, results), seconds)


def table(
    kind: str, scenes: list[Scene], peers: Callable[[Scene], dict[str, Run]], measure: Measure = error_db
) -> None:
    print(f"\n### {kind}\n\n| {' | '.join(COLUMNS)} |\n|{' --- |' * len(COLUMNS)}")
    gains: dict[str, list[float]] = {}
    for scene in scenes:
        tried = [scored(scene, name, run, measure) for name, run in peers(scene).items()]
        best = max(tried, key=lambda score: score.inside)
        results, seconds = ours(scene, kind)
        here = measure(scene, results)
        lines = error_db(scene, results, contours) - max(score.contours for score in tried)
        gains.setdefault(re.split("; " if ";" in scene.name else ", ", scene.name, maxsplit=1)[1], []).append(
            here - best.inside
        )
        cells = (
            scene.name, f"{measure(scene, scene.frames):.2f}", best.name, f"{best.inside:.2f}", f"{here:.2f}",
            f"{here - best.inside:+.2f}", f"{lines:+.2f}",
            f"{best.flicker:.2f}", f"{flicker_cv(scene, results):.2f}",
            f"{outside_db(scene, results):.1f}", f"{best.seconds:.2f}", f"{seconds:.2f}",
        )  # fmt: skip
        print(f"| {' | '.join(cells)} |", flush=True)
    told = (f"{name} {np.mean(values):+.2f} {min(values):+.2f}" for name, values in gains.items())
    print("\nGain over the best peer, mean and least: " + "; ".join(told))


ALARMS = (
    "banding", "flicker", "specks", "hot pixels", "interlace", "clipping", "ringing", "blocking", "moiré",
    "earlier compression",
)  # fmt: skip


def false_alarms() -> None:
    """What the detectors say of clean material: photographs under a slow pan in 16 bits, and films as they are."""
    clips: dict[str, Source] = {}
    for name, picture in pictures().items():
        frames = [f.clip(0, 1) for f in panned(picture, 12, 1.7, 0.6)]
        clips[name] = Held(frames, described(len(frames), WIDTH, HEIGHT))
    for file in films():
        source = open_source(file)
        frames = [source.read(n) for n in range(min(source.info.frames, 60))]
        clips[file.name] = Held(frames, source.info.model_copy(update={"frames": len(frames)}))
    print(f"\n### Clean material\n\n| clip | {' | '.join(ALARMS)} |\n|{' --- |' * (len(ALARMS) + 1)}")
    alarms = dict.fromkeys(ALARMS, 0)
    for name, clip in clips.items():
        told = {f.kind: f for f in survey(clip).findings if f.kind in alarms}
        for kind in ALARMS:
            alarms[kind] += told[kind].outside
        cells = (f"{told[k].value:.2f}{' (outside)' if told[k].outside else ''}" for k in ALARMS)
        print(f"| {name} | {' | '.join(cells)} |", flush=True)
    print(f"\nOutside, of {len(clips)}: " + "; ".join(f"{kind} {count}" for kind, count in alarms.items()))


def _one(run: Run, scene: Scene) -> list[Frame]:
    results, n = list(scene.frames), scene.judged.start
    results[n] = run([scene.frames[n]])[0]
    return results


def main() -> None:
    table("bands", banded(), band_peers)
    table("flicker", flickering(), light_peers)
    table("specks", specked(), speck_peers)
    table("compression", coded_scenes(), coding_peers, coding_db)
    table("moire", fringed(), fringe_peers)
    false_alarms()
