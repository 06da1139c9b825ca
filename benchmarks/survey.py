"""The survey: how true its noise curve is, beside other estimators, and what it costs beside decoding."""

from __future__ import annotations

import itertools
import resource
import statistics
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

import av
import cv2
import numpy as np
from skimage.restoration import estimate_sigma

from yellowclean.engine.colour.opponent import SIGNALS
from yellowclean.engine.frames import CV_SCALE, Array, Frame
from yellowclean.engine.measure.blocks import block_statistics
from yellowclean.engine.measure.noise import measure_noise
from yellowclean.engine.media import Destination, open_source, open_writer
from yellowclean.engine.media.planes import Coding, rgb_from_yuv, yuv_from_rgb
from yellowclean.engine.noise.profile import NoiseCurve, weighted_median
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, ShotRecipe, frame_pair, scene_of, sigma_curve
from yellowclean.engine.testcamera.shoot import CODECS

from .clips import Clip, described

WIDTH, HEIGHT = 960, 540
PLAIN_FRAMES, CODED_FRAMES = 8, 24
H264_RATE = 10_000_000
RUNS = 3
LEAST_SHARE = 0.01
CUT_SIGMAS = 2.0
NOWHERE = (-np.inf, np.inf)


def coded_clip(scene: str, camera: Camera, *, h264: bool = False) -> Clip:
    """A clip with its truth, as shot or after H.264."""
    clip = Clip(scene, camera, frames=CODED_FRAMES if h264 else PLAIN_FRAMES, width=WIDTH, height=HEIGHT)
    if h264:
        clip.record(CODECS["h264-8bit"](H264_RATE))
        clip.truth = [as_recorded(clean) for clean in clip.truth]
    return clip


def as_recorded(clean: Frame, bits: int = 8, chroma: str = "4:2:0") -> Frame:
    """A clean frame with its colour sampled and its codes rounded: what is lost to these is no noise."""
    coding = Coding("bt709", bits, full_range=False)
    return rgb_from_yuv(*yuv_from_rgb(clean, coding, chroma), coding)


def camera_curve(camera: Camera, at: Array) -> Array:
    """The camera's own sigma of R', G' and B' at levels in CV: levels × 3, in CV."""
    levels, sigmas = sigma_curve(camera, (np.geomspace(1e-3, 1.3, 28) - 1e-3).astype(np.float32))
    return np.stack([np.interp(at, levels[:, c] * CV_SCALE, sigmas[:, c] * CV_SCALE) for c in range(3)], axis=1)


def residual_curve(frames: Sequence[Frame], truth: Sequence[Frame], at: Array) -> Array:
    """Levels × signals: median sigma in CV of blocks of (footage less truth), at levels in CV: what a codec left of
    the noise. The level of luma and colour is that of luma."""
    level, sigma = [], []
    for frame, clean in zip(frames, truth, strict=True):
        level.append(block_statistics(clean, NOWHERE).level.reshape(-1, len(SIGNALS)) * CV_SCALE)
        rest = block_statistics(np.ascontiguousarray(frame - clean), NOWHERE)
        sigma.append(np.sqrt(rest.variance.reshape(-1, len(SIGNALS))) * CV_SCALE)
    levels, sigmas = np.concatenate(level), np.concatenate(sigma)
    found = np.full((len(at), len(SIGNALS)), np.nan)
    for s, (k, centre) in itertools.product(range(len(SIGNALS)), enumerate(at)):
        near = np.abs(levels[:, min(s, 3)] - centre) <= 16
        if near.sum() >= 30:
            found[k, s] = np.median(sigmas[near, s])
    return found


def errors(clip: Clip, curve: NoiseCurve, truth: Array) -> list[float]:
    """Median absolute relative error over the levels that hold at least 1 % of the pixels of a channel,
    for R', G' and B'. Levels so near to black or white that the recording cuts the noise off are left out:
    their true noise is not in the footage."""
    at = np.array(curve.level_cv)
    lowest, highest = (limit * CV_SCALE for limit in clip.info.clip_levels)
    found = []
    for c, name in enumerate(SIGNALS[:3]):
        levels = np.concatenate([clean[::4, ::4, c].ravel() for clean in clip.truth]) * CV_SCALE
        share = np.histogram(levels, bins=np.append(at - at[1] / 2, np.inf))[0] / levels.size
        room = np.minimum(at - lowest, highest - at)
        present = (share >= LEAST_SHARE) & (room >= CUT_SIGMAS * truth[:, c])
        error = curve.signal(name)[present] / truth[present, c] - 1
        found.append(float(np.nanmedian(np.abs(error))) if present.any() else np.nan)
    return found


def wavelet_mad(plane: Array) -> float:
    """Median absolute deviation of the finest diagonal Haar band (Donoho and Johnstone 1994)."""
    even = plane[: plane.shape[0] // 2 * 2, : plane.shape[1] // 2 * 2]
    band = (even[::2, ::2] - even[::2, 1::2] - even[1::2, ::2] + even[1::2, 1::2]) / 2
    return float(np.median(np.abs(band)) / 0.6744898)


def accuracy() -> None:
    """Our curve's median error over the levels present, and one figure for G' of each estimator against
    the truth's median, weighted by how much of the picture is there."""
    print("| scene, camera | truth G CV | ours R G B error | ours G | scikit-image | wavelet MAD |")
    print("| --- | ---: | ---: | ---: | ---: | ---: |")
    for h264 in (False, True):
        for scene in ("quay", "cloth", "basin"):
            for curve in ("bt709",) if h264 else ("bt709", "log"):
                for stops in (1, 3, 5):
                    for bayer in (False, True):
                        _accuracy_row(scene, Camera(stops_under=stops, bayer=bayer, curve=curve), h264)  # type: ignore[arg-type]
    for scene in ("quay", "cloth", "basin"):
        for bayer in (False, True):
            _accuracy_row(scene, Camera(noiseless=True, bayer=bayer), h264=False)


def _accuracy_row(scene: str, camera: Camera, h264: bool) -> None:
    clip = coded_clip(scene, camera, h264=h264)
    profile = measure_noise(clip).profile
    at = np.array(profile.curve.level_cv)
    name = f"{scene}, {'Bayer' if camera.bayer else 'white'} {camera.curve}, "
    name += "noiseless" if camera.noiseless else f"{camera.stops_under:.0f} stops"
    name += ", H.264" if h264 else ""
    green = np.ascontiguousarray(clip.frames[-1][..., 1])
    others = estimate_sigma(green) * CV_SCALE, wavelet_mad(green) * CV_SCALE
    if camera.noiseless:
        print(f"| {name} | 0 | luma {profile.typical_cv('luma'):.2f} CV | {profile.typical_cv('g'):.2f}"
              f" | {others[0]:.2f} | {others[1]:.2f} |", flush=True)  # fmt: skip
        return
    truth = residual_curve(clip.frames[2:], clip.truth[2:], at) if h264 else camera_curve(camera, at)
    present = np.array(profile.curve.share) >= LEAST_SHARE
    known = present & np.isfinite(truth[:, 1])
    usual = weighted_median(truth[known, 1], np.array(profile.curve.share)[known])
    own = " ".join(f"{100 * e:.0f}" for e in errors(clip, profile.curve, truth))
    figures = [f"{v:.1f} ({100 * (v / usual - 1):+.0f} %)" for v in (profile.typical_cv("g"), *others)]
    print(f"| {name} | {usual:.1f} | {own} % | {' | '.join(figures)} |", flush=True)


def speed(seconds: int = 10) -> None:
    """Survey of a 1920×1080 clip against plain decoding of the same, measured in this run."""
    print("| clip | decoding s | survey s | ratio | runs | bar | peak memory MB |")
    print("| --- | ---: | ---: | ---: | --- | ---: | ---: |")
    recipe = ShotRecipe(name="quay", scene="quay", camera=Camera(stops_under=3), width=1920, height=1080)
    light = scene_of(recipe)
    frames = [np.clip(frame_pair(recipe, light, n)[0], 0, 1) for n in range(12)]
    there_and_back = [*range(12), *range(10, 0, -1)]
    with tempfile.TemporaryDirectory() as folder:
        for codec, rate in (("h264-8bit", 50_000_000), ("prores-hq", None)):
            fmt = CODECS[codec](rate)
            target = Destination(Path(folder) / f"clip{fmt.ending}", fmt)
            with open_writer(target, described(24 * seconds, 1920, 1080)) as writer:
                for n in range(24 * seconds):
                    writer.write(frames[there_and_back[n % len(there_and_back)]])
            _speed_row(codec, target.path)


def _speed_row(codec: str, path: Path) -> None:
    """Decoding and survey in turn, three times."""
    source = open_source(path)
    survey(source, frames=range(10))  # compiled kernels are loaded
    times = []
    for _ in range(RUNS):
        started = time.perf_counter()
        with av.open(str(path)) as container:
            container.streams.video[0].thread_type = "AUTO"
            count = sum(1 for _ in container.decode(video=0))
        decoded = time.perf_counter()
        survey(source)
        times.append((decoded - started, time.perf_counter() - decoded))
    source.close()
    decoding, taken = (statistics.median(part) for part in zip(*times, strict=True))
    ratios = sorted(s / d for d, s in times)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"| {codec}, {count} frames | {decoding:.1f} | {taken:.1f} | {statistics.median(ratios):.1f}"
        f" | {', '.join(f'{r:.1f}' for r in ratios)} | 2.5 | {peak:.0f} |",
        flush=True,
    )


def main() -> None:
    cv2.setNumThreads(2)
    speed()
    print()
    accuracy()
