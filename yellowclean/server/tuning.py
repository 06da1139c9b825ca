"""How many processes and threads compute renders fastest on this machine: tried on a plan, and kept."""

from __future__ import annotations

import logging
import os
import shutil
import tempfile
import time
from pathlib import Path

from distributed import Client, LocalCluster
from django.conf import settings
from pydantic import BaseModel

from ..engine.errors import BadInput
from ..engine.frames import StopCheck, raise_if
from ..engine.media import OUTPUT_FORMATS
from .cluster import Way, tuned_file, way_in_use
from .models import PlanVersion, Render, Survey
from .segments import make_segment
from .tasks import ended_among, piece_of

WARM, TIMED = 1, 2
"""Frames that each process makes in a trial: those that load kernels and fill memory, and those that are timed."""


class Trial(Way):
    """What a way took."""

    seconds: float
    """A frame, all processes together."""


class Tuning(BaseModel):
    """All trials, the quickest first; the first is kept and used from the next start on."""

    trials: list[Trial]
    before: Way
    gain: float
    """How many times as fast the quickest is as the way that was in use."""


def ways(cores: int) -> list[Way]:
    """The ways that are tried: every split of the cores, and one thread more for each process."""
    splits = [p for p in range(1, cores + 1) if cores % p == 0]
    each = [(p, cores // p) for p in splits] + [(cores, 2)]
    return [Way(processes=p, threads=t) for p, t in dict.fromkeys(each)]


def tune(version: PlanVersion, stopped: StopCheck) -> Tuning:
    """Try all ways on a version of a shot's plan, and keep the quickest. Raises `BadInput` while other work runs,
    on a farm, and for footage that is too short to tell."""
    if settings.YELLOW_CLEAN.scheduler:
        raise BadInput("A farm computes the renders; how many work there is decided where its workers are started.")
    if any(kind.objects.active().exists() for kind in (Render, Survey)):
        raise BadInput("Something is being measured or rendered; tune once the queue is empty.")
    cores, before = os.cpu_count() or 1, way_in_use()
    most = max(way.processes for way in ways(cores)) * (WARM + TIMED)
    if version.shot.info.frames < most:
        raise BadInput(f"{version.shot.name}: has {version.shot.info.frames} frames, tuning needs {most}.")
    tried = dict.fromkeys((way.processes, way.threads) for way in [before, *ways(cores)])
    trials = [_tried(version, Way(processes=p, threads=t), stopped) for p, t in tried]
    ordered = sorted(trials, key=lambda trial: trial.seconds)
    best = Way(processes=ordered[0].processes, threads=ordered[0].threads)
    tuned_file().write_text(best.model_dump_json())
    return Tuning(trials=ordered, before=before, gain=trials[0].seconds / ordered[0].seconds)


def _tried(version: PlanVersion, way: Way, stopped: StopCheck) -> Trial:
    """Seconds a frame of a render that is spread so."""
    data = Path(settings.YELLOW_CLEAN.data)
    footage, plan = piece_of(version.shot), version.plan.to_json()
    (data / "scratch").mkdir(exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="tuning-", dir=data / "scratch"))
    target = str(folder / "trial.mkv"), OUTPUT_FORMATS["ffv1"].name
    cluster = LocalCluster(
        processes=True, n_workers=way.processes, threads_per_worker=1, memory_limit=None,
        dashboard_address="127.0.0.1:0", local_directory=str(folder), silence_logs=logging.ERROR,
        env={"YELLOW_CLEAN_THREADS": str(way.threads)},
    )  # fmt: skip
    try:
        with cluster, Client(cluster) as client:
            began = 0.0
            workers = list(client.scheduler_info(n_workers=-1)["workers"])
            for begin, length in ((0, WARM), (WARM, TIMED)):  # each process goes on where it was, as in a render
                began = time.perf_counter()
                waiting = set()
                for k, worker in enumerate(workers):
                    first = k * (WARM + TIMED) + begin
                    about = (footage, plan, target, str(folder), (first, first + length))
                    waiting.add(client.submit(make_segment, *about, pure=False, workers=[worker]))
                while waiting:
                    raise_if(stopped)
                    waiting -= ended_among(waiting)
            seconds = time.perf_counter() - began
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return Trial(**way.model_dump(), seconds=seconds / (way.processes * TIMED))
