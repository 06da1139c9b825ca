"""What the noise plan costs beside OpenCV's non-local means of one frame: a render, a view, a cold frame, a loop;
its memory, two workers beside one, how busy cores are, how long things take to start, what the server answers while
it works, and the survey beside decoding."""

from __future__ import annotations

import itertools
import json
import multiprocessing
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import closing
from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np

from fuzz.application import Application
from yellowclean.engine.chain import noise_chain
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Frame, Region, as_uint8
from yellowclean.engine.media import Destination, MediaInfo, Source, open_source, open_writer
from yellowclean.engine.motion import Movement
from yellowclean.engine.noise.profile import NoiseProfile
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import Plan
from yellowclean.engine.propose import propose
from yellowclean.engine.render import render
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera
from yellowclean.engine.testcamera.shoot import CODECS

from .clips import Clip, described
from .survey import speed as survey_speed

SIZES = ((960, 540), (1920, 1080), (3840, 2160))
CAMERA = Camera(stops_under=3, bayer=True)
IN_ORDER = 9
"""Frames until as many are held as ever will be."""

STRENGTH, MOVEMENT = 100.0, Movement(4.0)
PREVIEW = Region(240, 135, 480, 270)
NLM_STRENGTH = 4
RUNS, LOOP = 3, 12
RENDERED, TICK = 16, 0.5
"""Frames of a render, and seconds in which it is told how busy cores are."""


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
    spawned = multiprocessing.get_context("spawn")
    told = patch.dict(
        os.environ, YELLOW_CLEAN_THREADS=str(threads)
    )  # for them alone: this process goes on with all
    with told, spawned.Pool(count, maxtasksperchild=1) as pool:
        return pool.starmap(frames_rendered, work, chunksize=1)


def sizes(clip: list[Frame], profile: str) -> None:
    print("| size | threads | s a frame | peak memory MB |\n| --- | ---: | ---: | ---: |")
    for size in SIZES:
        for threads in (1, 2):
            [(seconds, peak)] = in_workers(1, threads, [(clip, profile, size, list(range(10, 10 + IN_ORDER)))])
            print(f"| {size[0]}×{size[1]} | {threads} | {seconds / IN_ORDER:.2f} | {peak:.0f} |", flush=True)


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


def nlm_of(frame: Frame) -> Callable[[int], object]:
    """The unit of time: OpenCV's non-local means of one frame."""
    piece = as_uint8(frame)
    return lambda _: cv2.fastNlMeansDenoisingColored(piece, None, NLM_STRENGTH, NLM_STRENGTH, 7, 21)


def row(what: str, ratios: Sequence[float], bar: str) -> None:
    told = ", ".join(f"{ratio:.2f}" for ratio in sorted(ratios))
    print(f"| {what} | {statistics.median(ratios):.2f} | {told} | {bar} |", flush=True)


def whole_plan(clip: Clip, profile: str) -> None:
    """Frames rendered in order beside one frame of OpenCV, three runs of each in turn."""
    plan, nlm = full_plan(NoiseProfile.model_validate_json(profile), clip.info), nlm_of(clip.frames[6])
    Pipeline(Footage(clip), plan).frame(0)
    ratios = []
    for _ in range(RUNS):
        unit = median_seconds(nlm, times=3)
        ratios.append(statistics.median(_in_order(Pipeline(Footage(clip), plan), range(3, 9))) / unit)
    row("noise plan, 960×540, a frame of a render", ratios, "0.5 NLM")


def _in_order(pipeline: Pipeline, frames: range) -> list[float]:
    """Seconds for each frame but the first."""
    times = []
    for n in frames:
        begun = time.perf_counter()
        pipeline.frame(n)
        times.append(time.perf_counter() - begun)
    return times[1:]


def view(clip: Clip) -> None:
    """A region at 100 % with the whole proposed plan; decoded frames and motion are there, as when parked."""
    plan, footage = propose(survey(clip)), Footage(clip)

    def plan_of(step: int, k: float) -> Plan:
        steps = list(plan.steps)
        name = "luma" if steps[step].kind == "spatial" else "difference"
        value = 100 + k if name == "luma" else 1 + k / 100
        steps[step] = steps[step].model_copy(update={"settings": {**steps[step].settings, name: value}})
        return Plan(profile=plan.profile, steps=steps)

    Pipeline(footage, plan).frame(6, PREVIEW)
    kinds = {
        "slider of the last step, to the exact picture": (lambda k: plan_of(-1, 1 + k / 2), "0.25 NLM of the view"),
        "slider of the first step, to the exact picture": (lambda k: plan_of(0, 1 + k / 2), "0.4 NLM of the view"),
        "coarse picture while dragging": (lambda k: plan_of(-1, 20 + k / 2).draft(0.5), "0.1 s"),
    }
    nlm, tried = nlm_of(clip.frames[6][PREVIEW.slices]), itertools.count()
    for what, (of, bar) in kinds.items():
        ratios, seconds = [], []
        for _ in range(RUNS):
            unit = median_seconds(nlm, times=3)
            plans = [of(next(tried)) for _ in range(9)]
            seconds.append(median_seconds(_seen(footage, plans)))
            ratios.append(seconds[-1] / unit)
        row(f"{what} (480×270, {1000 * statistics.median(seconds):.0f} ms)", ratios, bar)


def _seen(footage: Footage, plans: list[Plan]) -> Callable[[int], object]:
    return lambda k: Pipeline(footage, plans[k]).frame(6, PREVIEW)


def parked(path: Path, profile: str) -> None:
    """A frame of 1920×1080 of which nothing is there yet, from its file; and a loop at half size."""
    coarse: list[float] = []
    exact: list[float] = []
    filled: list[float] = []
    for _ in range(RUNS):
        with closing(open_source(path)) as source:
            plan = full_plan(NoiseProfile.model_validate_json(profile), source.info)
            unit = median_seconds(nlm_of(source.read(20)), times=1)
            for made, shown, found in ((plan.draft(0.5), 0.5, coarse), (plan, None, exact)):
                begun = time.perf_counter()
                Pipeline(Footage(source), made).frame(8, scale=shown)
                found.append((time.perf_counter() - begun) / unit)
            loop = Pipeline(Footage(source), plan.draft(0.5))
            loop.frame(20, scale=0.5)  # a shot that was looked at
            begun = time.perf_counter()
            for n in range(LOOP):
                loop.frame(n, scale=0.5)
            filled.append(LOOP / (time.perf_counter() - begun))
    row("cold frame, 1920×1080, coarse picture", coarse, "0.1 NLM")
    row("cold frame, 1920×1080, exact picture", exact, "0.6 NLM")
    row("loop at half size, 1920×1080, frames a second", filled, "6")


def busy(path: Path, profile: str) -> None:
    """How much of all cores a render uses, from decoding to encoding: on the whole, and in its idlest half second
    but the last."""
    whole, least = [], []
    for _ in range(RUNS):
        with closing(open_source(path)) as source:
            plan = full_plan(NoiseProfile.model_validate_json(profile), source.info)
            target = Destination(path.with_name("rendered.mov"), CODECS["prores-hq"](None))
            with ThreadPoolExecutor(1) as beside:
                done = beside.submit(render, source, plan, target, frames=range(RENDERED))
                shares = _shares_until(done)
        whole.append(statistics.mean(shares))
        least.append(min(shares[:-1]))
    row("cores busy in a render to ProRes, 1920×1080", whole, "1")
    row("the same, idlest half second", least, "1")


def _shares_until(done: Future[None]) -> list[float]:
    """How much of all cores this process uses, tick by tick."""
    shares, cores = [], os.cpu_count() or 1
    while not done.done():
        began, used = time.perf_counter(), time.process_time()
        wait([done], TICK)
        shares.append((time.process_time() - used) / (time.perf_counter() - began) / cores)
    done.result()
    return shares


def answering(path: Path, plan: Path) -> None:
    """What a server answers while it makes other pictures: one that it has kept, and the values of a pixel."""
    with tempfile.TemporaryDirectory() as folder:
        (data := Path(folder, "data")).mkdir()
        with Application(data, path.parent) as application:
            application.start()
            job = application.ask("POST", "/jobs", {"name": "Speed"})["id"]
            shot = application.ask("POST", f"/jobs/{job}/import?path={path}")["shots"][0]["id"]
            body = {"plan": json.loads(plan.read_text()), "label": "A"}
            version = application.ask("POST", f"/shots/{shot}/versions", body)["id"]
            result = f"/shots/{shot}/frame?view=result&version_id={version}&n="
            application.ask("GET", f"{result}3")
            with ThreadPoolExecutor(2) as heavy:
                others = [heavy.submit(application.ask, "GET", f"{result}{n}") for n in range(8, 24)]
                time.sleep(1)
                for what, asked in (
                    ("kept picture", f"{result}3"),
                    ("values of a pixel", f"/shots/{shot}/pixel?n=3&x=9&y=9"),
                ):
                    seconds = [median_seconds(lambda _, a=asked: application.ask("GET", a), 3) for _ in range(RUNS)]  # type: ignore[misc]
                    row(f"{what} while others are made, s", seconds, "its own lane")
                for other in others:
                    other.cancel()


def started(path: Path, plan: Path) -> None:
    """Processes from nothing: the help of the command line, and the first frame of a plan."""
    helped = [sys.executable, "-m", "yellowclean.cli", "--help"]
    framed = [sys.executable, "-c", FIRST_FRAME, str(path), str(plan)]
    for what, words, bar in (
        ("help of the command line, s", helped, "1"),
        ("first frame, 1920×1080, s", framed, "3"),
    ):
        row(what, [median_seconds(lambda _, w=words: subprocess.run(w, check=True, stdout=subprocess.DEVNULL), 1)  # type: ignore[misc]
                   for _ in range(RUNS)], bar)  # fmt: skip


FIRST_FRAME = """
import sys
from yellowclean.engine.footage import Footage
from yellowclean.engine.media import open_source
from yellowclean.engine.pipeline import Pipeline
from yellowclean.engine.plan import plan_from_json
Pipeline(Footage(open_source(sys.argv[1])), plan_from_json(open(sys.argv[2]).read())).frame(0)
"""


def main() -> None:
    clip = Clip("quay", CAMERA, frames=13, motion=(1.3, 0.4, 0.8))
    profile = survey(clip).profile.to_json()
    small = [frame[:270, :480].copy() for frame in clip.frames]
    sizes(small, profile)  # first: a process counts the most that the one which began it has held as its own
    workers(small, profile)
    print("\n| what | median | runs | bar |\n| --- | ---: | --- | ---: |")
    whole_plan(clip, profile)
    view(clip)
    with tempfile.TemporaryDirectory() as folder:
        target = Destination(Path(folder) / "hd.mov", CODECS["prores-hq"](None))
        hd = Tiled(clip.frames, 1920, 1080, 24)
        with open_writer(target, hd.info) as writer:
            for n in range(24):
                writer.write(hd.read(n))
        parked(target.path, profile)
        plan = Path(folder) / "plan.json"
        plan.write_text(full_plan(NoiseProfile.model_validate_json(profile), hd.info).to_json())
        started(target.path, plan)
        busy(target.path, profile)
        answering(target.path, plan)
    print()
    survey_speed()
