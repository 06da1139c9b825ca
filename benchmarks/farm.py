"""A farm on this machine: one worker against two, workers that are killed, a scheduler that starts again.

Every worker is a process of its own with an environment of its own, as on another machine. Frames are compared with
those of a render without a farm. `YELLOW_CLEAN_FARM_MINUTES` says for how long workers are killed (default 5).
"""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import Any
from unittest import mock

from fuzz.application import descendants, pictures

PORT, KILL_EVERY, FRAMES = 28786, 20.0, 60
ADDRESS = f"tcp://127.0.0.1:{PORT}"
SCHEDULER = "-m", "distributed.cli.dask_scheduler", "--port", str(PORT), "--no-dashboard"
WORKER = "-m", "yellowclean.cli", "worker", "--processes", "1"
Process = subprocess.Popen[bytes]


def main() -> None:
    minutes = float(os.environ.get("YELLOW_CLEAN_FARM_MINUTES", "5"))
    with tempfile.TemporaryDirectory(prefix="yellow-clean-farm-") as folder:
        os.environ |= {
            "YELLOW_CLEAN_DATA": folder, "YELLOW_CLEAN_SCHEDULER": ADDRESS, "DJANGO_ALLOW_ASYNC_UNSAFE": "true",
            "DJANGO_SETTINGS_MODULE": "yellowclean.server.settings", "DASK_LOGGING__DISTRIBUTED": "critical",
        }  # fmt: skip
        _Farm(Path(folder)).run(minutes)


class _Farm:
    """The application on a database of its own, a scheduler, and workers."""

    def __init__(self, folder: Path) -> None:
        import django  # noqa: PLC0415 (after the environment is set)

        django.setup()
        from django.core.management import call_command  # noqa: PLC0415

        call_command("migrate", verbosity=0)
        self._folder = folder
        self._scheduler = self._started(*SCHEDULER)
        self._workers: list[Process] = []

    def run(self, minutes: float) -> None:
        from yellowclean.server.cluster import client, forget  # noqa: PLC0415

        try:
            self._join(1)
            self._render(6)  # kernels are compiled, libraries are warm
            one, alone = self._render(FRAMES)
            self._join(2)
            self._render(6)
            two, _ = self._render(FRAMES)
            print(
                f"farm: one worker {one:.1f} s, two {two:.1f} s for {FRAMES} frames: {one / two:.2f} times as fast"
            )
            wanted = pictures(alone)
            killed, rounds, lost = self._killing(minutes, wanted)
            print(f"farm: {killed} workers killed in {minutes:g} min, {rounds} renders, {lost} with other pictures")
            seconds, path = self._restarted()
            same = "the same pictures" if pictures(path) == wanted else "other pictures"
            print(f"farm: scheduler started again in mid-render: {seconds:.1f} s, {same}")
        finally:
            forget(client())
            for process in [*self._workers, self._scheduler]:
                _kill(process)

    def _started(self, *command: str) -> Process:
        return subprocess.Popen(
            [sys.executable, *command], start_new_session=True, cwd=self._folder,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip

    def _join(self, count: int) -> None:
        """Have so many workers, of one core each."""
        os.environ["YELLOW_CLEAN_THREADS"] = "1"
        missing = range(count - len(self._workers))
        self._workers += [self._started(*WORKER) for _ in missing]
        from yellowclean.server.cluster import client  # noqa: PLC0415

        client().wait_for_workers(count, timeout=60)

    def _render(self, frames: int) -> tuple[float, Path]:
        """Seconds that the segments of a render take, and its file."""
        from django.utils import timezone  # noqa: PLC0415

        from yellowclean.server import tasks  # noqa: PLC0415
        from yellowclean.server.models import Render, State  # noqa: PLC0415
        from yellowclean.server.rendering import request_render  # noqa: PLC0415

        render = request_render(self._version(), "ffv1", (0, frames))
        Render.objects.filter(pk=render.pk).update(state=State.RUNNING, started=timezone.now())
        spent = 0.0
        spread = tasks._spread

        def timed(*about: Any) -> None:
            nonlocal spent
            began = time.monotonic()
            spread(*about)
            spent = time.monotonic() - began

        with mock.patch.object(tasks, "_spread", timed):
            tasks._render(render)
        return spent, render.target_path

    def _version(self) -> Any:
        """A plan of noise reduction for a shot of the test camera, made once."""
        from yellowclean.engine.noise.profile import white_profile  # noqa: PLC0415
        from yellowclean.engine.plan import Plan, Step  # noqa: PLC0415
        from yellowclean.engine.testcamera import Camera, ShotRecipe, shoot  # noqa: PLC0415
        from yellowclean.server.models import Job, PlanVersion  # noqa: PLC0415
        from yellowclean.server.use_cases import add_shot, new_version  # noqa: PLC0415

        known = PlanVersion.objects.select_related("shot__job").first()
        if known:
            return known
        recipe = ShotRecipe(
            name="quay", scene="quay", width=640, height=360, frames=FRAMES, camera=Camera(stops_under=3)
        )
        shot = add_shot(Job.objects.create(name="Farm"), shoot(recipe, self._folder / "footage"))
        return new_version(
            shot, Plan(profile=white_profile(12), steps=[Step(kind="temporal"), Step(kind="spatial")])
        )

    def _killing(self, minutes: float, wanted: str) -> tuple[int, int, int]:
        """Kill the processes of a worker every so often while renders run one after another."""
        ended, killed = threading.Event(), 0

        def kill() -> None:
            nonlocal killed
            while not ended.wait(KILL_EVERY):
                victim = self._workers[killed % len(self._workers)]
                for child in descendants(victim.pid):
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(child, signal.SIGKILL)
                killed += 1

        killer = threading.Thread(target=kill, daemon=True)
        killer.start()
        until, rounds, lost = time.monotonic() + 60 * minutes, 0, 0
        while time.monotonic() < until:
            _, path = self._render(FRAMES)
            rounds += 1
            lost += pictures(path) != wanted
        ended.set()
        killer.join()
        return killed, rounds, lost

    def _restarted(self) -> tuple[float, Path]:
        """A render during which the scheduler is killed and started again."""

        def restart() -> None:
            time.sleep(4)
            _kill(self._scheduler)
            time.sleep(2)
            self._scheduler = self._started(*SCHEDULER)
            for worker in self._workers:
                _kill(worker)
            self._workers = []
            os.environ["YELLOW_CLEAN_THREADS"] = "1"
            self._workers = [self._started(*WORKER) for _ in range(2)]

        other = threading.Thread(target=restart)
        other.start()
        seconds, path = self._render(FRAMES)
        other.join()
        return seconds, path


def _kill(process: Process) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()
