"""What the noise plan costs: a frame at 1080p and 4K, two workers beside one, and a preview beside OpenCV."""

from __future__ import annotations

import multiprocessing
import os
import resource
import statistics
import time
from collections.abc import Callable

import cv2
import numpy as np

from yellowclean.engine.chain import noise_chain
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region, as_uint8
from yellowclean.engine.media import MediaInfo, Source
from yellowclean.engine.motion import Movement
from yellowclean.engine.noise.profile import NoiseProfile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import propose
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera

from .clips import Clip, described

SIZES = ((960, 540), (1920, 1080), (3840, 2160))
CAMERA = Camera(stops_under=3, bayer=True)
STRENGTH, MOVEMENT = 100.0, Movement(4.0)
PREVIEW = Region(240, 135, 480, 270)
NLM_STRENGTH = 4


class Tiled(Source):
    """A small clip repeated over frames of any size: frames are made when read, as a decoder would."""

    def __init__(self, frames: list[Frame], width: int, height: int, count: int) -> None:
        self._frames, self.info = frames, described(count, width, height)

    def read(self, n: int) -> Frame:
        frame, info = self._frames[n % len(self._frames)], self.info
        rows, columns = -(-info.height // frame.shape[0]), -(-info.width // frame.shape[1])
        return np.ascontiguousarray(np.tile(frame, (rows, columns, 1))[: info.height, : info.width])

    def close(self) -> None:
        """Nothing is open."""


def full_plan(profile: NoiseProfile, info: MediaInfo) -> Plan:
    return Plan(profile=profile, steps=noise_chain(info.frames, MOVEMENT, STRENGTH, STRENGTH))


def frames_rendered(
    clip: list[Frame], profile: str, size: tuple[int, int], numbers: list[int]
) -> tuple[float, float]:
    """(seconds, peak memory in MB) of rendering those frames in order, kernels loaded before."""
    source = Tiled(clip, *size, 64)
    plan = full_plan(NoiseProfile.model_validate_json(profile), source.info)
    Pipeline(Footage(Tiled(clip, 320, 192, 64)), plan).frame(8)
    pipeline = Pipeline(Footage(source), plan)
    pipeline.frame(numbers[0] - 1)
    started = time.perf_counter()
    for n in numbers:
        pipeline.frame(n)
    return time.perf_counter() - started, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def in_workers(count: int, threads: int, work: list[tuple[list[Frame], str, tuple[int, int], list[int]]]) -> list:  # type: ignore[type-arg]
    """The results of pieces of work, each in a process of its own, `count` at once."""
    os.environ["YELLOW_CLEAN_THREADS"] = str(threads)
    with multiprocessing.get_context("spawn").Pool(count, maxtasksperchild=1) as pool:
        return pool.starmap(frames_rendered, work, chunksize=1)


def sizes(clip: list[Frame], profile: str) -> None:
    print("| size | threads | s a frame | peak memory MB |\n| --- | ---: | ---: | ---: |")
    for size in SIZES:
        for threads in (1, 2):
            [(seconds, peak)] = in_workers(1, threads, [(clip, profile, size, [10, 11, 12])])
            print(f"| {size[0]}×{size[1]} | {threads} | {seconds / 3:.2f} | {peak:.0f} |", flush=True)


def workers(clip: list[Frame], profile: str) -> None:
    """Twelve frames by one worker with one thread, and six each by two of them at once."""
    size = SIZES[1]
    [(alone, _)] = in_workers(1, 1, [(clip, profile, size, list(range(10, 22)))])
    halves = [(clip, profile, size, list(range(10, 16))), (clip, profile, size, list(range(30, 36)))]
    both = max(seconds for seconds, _ in in_workers(2, 1, halves))
    print(f"\nTwelve frames of 1920×1080: one worker {alone:.1f} s, two {both:.1f} s, {alone / both:.2f} times.")


def median_seconds(run: Callable[[int], object], times: int = 9) -> float:
    taken = []
    for k in range(times):
        started = time.perf_counter()
        run(k)
        taken.append(time.perf_counter() - started)
    return statistics.median(taken)


def preview(clip: Clip) -> None:
    """A region at 100 % with the whole proposed plan; decoded frames and motion are there, as when parked."""
    plan, footage = propose(survey(clip)), Footage(clip)

    def plan_of(k: float) -> Plan:
        *before, last = plan.steps
        settings = {**last.settings, "luma": 100 + k}
        return Plan(profile=plan.profile, steps=[*before, last.model_copy(update={"settings": settings})])

    def parked(k: int) -> Frame:
        footage.memory.forget(lambda key: key[1][0] not in {"frame", "luma", "flow", "track"})
        return Pipeline(footage, plan_of(k)).frame(6, PREVIEW)

    parked(0)
    Pipeline(footage, plan).frame(6, PREVIEW)
    slider = median_seconds(lambda k: Pipeline(footage, plan_of(1 + k / 2)).frame(6, PREVIEW))
    draft = median_seconds(lambda k: Pipeline(footage, plan_of(20 + k / 2).draft()).frame(6, PREVIEW))
    piece = as_uint8(clip.frames[6][PREVIEW.slices])
    nlm = median_seconds(
        lambda k: cv2.fastNlMeansDenoisingColored(piece, None, NLM_STRENGTH, NLM_STRENGTH, 7, 21), times=5
    )
    all_new = median_seconds(parked, times=5)
    print("\n| 480×270 at 100 % | median s | of OpenCV NLM |\n| --- | ---: | ---: |")
    for name, seconds in (
        ("OpenCV NLM, one frame", nlm), ("slider of the last step moved", slider),
        ("coarse picture", draft), ("every step anew", all_new),
    ):  # fmt: skip
        print(f"| {name} | {seconds:.3f} | {seconds / nlm:.2f} |")


def main() -> None:
    clip = Clip("quay", CAMERA, frames=13, motion=(1.3, 0.4, 0.8))
    profile = survey(clip).profile.to_json()
    preview(clip)
    small = [frame[:270, :480].copy() for frame in clip.frames]
    print()
    sizes(small, profile)
    workers(small, profile)
