"""A farm: who may join, which paths mean what, and a scheduler that goes away."""

from __future__ import annotations

import contextlib
import io
import os
import socket
import subprocess
import sys
import time
from dataclasses import replace
from typing import Any
from unittest import TestCase, mock

from distributed import Client
from distributed.comm.core import CommClosedError
from django.conf import settings
from django.test import override_settings

from tests.processes import kill
from tests.server.test_work import WorkCase
from yellowclean.cli import main
from yellowclean.engine.errors import BadInput
from yellowclean.engine.release import differences, release
from yellowclean.server import tasks
from yellowclean.server.cluster import asked_of_workers, shut_down
from yellowclean.server.farm import KEY, PATHS, check_release, fitting, here, mappings, mark, plan_here
from yellowclean.server.use_cases import request_survey


class Releases(TestCase):
    def test_another_release_is_told_apart_and_refused(self) -> None:
        other = release() | {"numpy": "1.0"}
        self.assertEqual(differences(release(), release()), "")
        self.assertRegex(differences(release(), other), r"^numpy 1\.0 there, [\d.]+ here$")
        check_release(release())
        with self.assertRaisesRegex(BadInput, "another release"):
            check_release(other)
        joined = {"tcp://a": {"resources": {mark(): 1000}}, "tcp://b": {"resources": {}}, "tcp://c": {}}
        self.assertEqual(fitting(joined), (["tcp://a"], ["tcp://b", "tcp://c"]))

    def test_paths_are_those_of_the_machine(self) -> None:
        with mock.patch.dict(os.environ, {PATHS: "/mnt/quay=/Volumes/quay:/mnt/quay/fast=/scratch"}):
            self.assertEqual(here("/mnt/quay/a.mov"), "/Volumes/quay/a.mov")
            self.assertEqual(here("/mnt/quay/fast/a.mov"), "/scratch/a.mov")
            self.assertEqual(here("/mnt/quayside/a.mov"), "/mnt/quayside/a.mov")
            self.assertEqual(plan_here('{"lut": "/mnt/quay/l.cube"}'), '{"lut": "/Volumes/quay/l.cube"}')
        with self.assertRaises(BadInput):
            mappings("/only/one")


def command(*arguments: str) -> tuple[int, str]:
    err = io.StringIO()
    with contextlib.redirect_stderr(err), contextlib.redirect_stdout(io.StringIO()):
        code = main(arguments)
    return code, err.getvalue()


class Farm(WorkCase):
    def setUp(self) -> None:
        super().setUp()
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = str(free.getsockname()[1])
        self.address = f"tcp://127.0.0.1:{port}"
        self.started("-m", "distributed.cli.dask_scheduler", "--port", port, "--no-dashboard")
        options = replace(settings.YELLOW_CLEAN, scheduler=self.address)
        self.enterContext(override_settings(YELLOW_CLEAN=options))
        self.addCleanup(shut_down)

    def started(self, *arguments: str) -> subprocess.Popen[bytes]:
        quiet: dict[str, Any] = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        process = subprocess.Popen([sys.executable, *arguments], start_new_session=True, **quiet)
        self.addCleanup(kill, process)
        return process

    def test_a_worker_of_another_release_is_refused_and_one_of_this_measures_and_renders(self) -> None:
        for _ in range(60):
            with contextlib.suppress(OSError, TimeoutError), Client(self.address, timeout="2s") as client:
                client.set_metadata(KEY, release() | {"numpy": "1.0"})
                break
            time.sleep(0.5)
        code, err = command("worker", "--scheduler", self.address)
        self.assertEqual(code, 2)
        self.assertRegex(err, r"^yellow-clean: the application is of another release \(numpy 1\.0 there.*\n$")
        with Client(self.address, timeout="5s") as client:
            client.set_metadata(KEY, release())
            self.started("-m", "yellowclean.cli", "worker", "--scheduler", self.address, "--processes", "1")
            client.wait_for_workers(1, timeout=60)
            self.assertEqual(asked_of_workers(client), {"resources": {mark(): 1}})
        render = self.render(frames=8)
        survey = request_survey(render.shot)
        lost: list[int] = []
        once = tasks._spread_once

        def lost_at_first(*about: Any) -> None:
            if not lost:
                lost.append(1)
                raise CommClosedError("gone")
            once(*about)

        with (
            mock.patch.object(tasks, "_spread_once", lost_at_first),
            mock.patch.object(tasks, "RECONNECT_EVERY", 0.1),
        ):
            self.run_queued()
        render.refresh_from_db()
        self.assertEqual((render.state, render.message), ("done", ""))
        self.assertEqual(lost, [1])
        survey.refresh_from_db()
        self.assertEqual((survey.state, survey.message), ("done", ""))

    def test_no_scheduler_is_one_line(self) -> None:
        code, err = command("worker", "--scheduler", "tcp://127.0.0.1:9")
        self.assertEqual(code, 2)
        self.assertRegex(err, r"^yellow-clean: tcp://127\.0\.0\.1:9: no scheduler answers there [^\n]*\n$")
        self.assertRegex(command("worker", "--scheduler", "")[1], "no scheduler is named")
