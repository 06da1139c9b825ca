"""Background work: surveys and renders, their progress, cancel, failure, and life after a kill."""

from __future__ import annotations

import os
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

from django.conf import settings
from django.core.management.base import CommandError
from django.test import TransactionTestCase
from django_tasks_db.models import DBTaskResult

from tests.clips import temporary_folder
from tests.processes import kill, worker_process
from tests.server.test_api import footage
from yellowclean.engine.media import open_source
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step
from yellowclean.server import tasks
from yellowclean.server.cluster import shut_down
from yellowclean.server.leftovers import remove_leftovers
from yellowclean.server.management.commands.serve import _alone
from yellowclean.server.models import Job, Render, Shot, State, Survey
from yellowclean.server.rendering import request_render
from yellowclean.server.use_cases import add_shot, cancel, new_version, request_survey

PLAN = Plan(profile=white_profile(12), steps=[Step(kind="temporal"), Step(kind="spatial")])


class WorkCase(TransactionTestCase):
    def setUp(self) -> None:
        self.folder = temporary_folder(self)
        self.job = Job.objects.create(name="Quay Nine")

    def shot(self, frames: int = 8) -> Shot:
        return add_shot(self.job, footage(self.folder, frames=frames))

    def render(self, form: str = "ffv1", frames: int = 8) -> Render:
        return request_render(new_version(self.shot(frames), PLAN), form)

    def run_queued(self) -> None:
        """What the worker does with waiting tasks, in this process."""
        for waiting in DBTaskResult.objects.ready():
            DBTaskResult.objects.filter(pk=waiting.pk).update(status="SUCCESSFUL")
            waiting.task.call(*waiting.task_result.args)


class Surveys(WorkCase):
    def test_a_survey_ends_with_the_report_on_the_shot(self) -> None:
        work = request_survey(self.shot())
        self.run_queued()
        work.refresh_from_db()
        self.assertEqual((work.state, work.progress), (State.DONE, 1.0))
        report = Shot.objects.get().report
        assert report is not None
        self.assertEqual(len(report.noise.by_frame_cv), 8)

    def test_asking_again_replaces_what_waits(self) -> None:
        shot = self.shot()
        first = request_survey(shot)
        request_survey(shot)
        self.run_queued()
        first.refresh_from_db()
        self.assertEqual(first.state, State.CANCELLED)
        self.assertEqual(Survey.objects.filter(state=State.DONE).count(), 1)

    def test_footage_that_went_away_fails_in_one_line(self) -> None:
        shot = self.shot()
        work = request_survey(shot)
        Path(shot.path).unlink()
        self.run_queued()
        work.refresh_from_db()
        self.assertEqual(work.state, State.FAILED)
        self.assertRegex(work.message, r"dusk\.mkv: does not exist; check the path\.$")


class Renders(WorkCase):
    @classmethod
    def tearDownClass(cls) -> None:
        shut_down()
        super().tearDownClass()

    def test_a_render_is_spread_over_the_cluster_and_measured(self) -> None:
        for form, name in (("ffv1", "dusk_A_ffv1_0-7.mkv"), ("tiff", "dusk_A_tiff_0-7_####.tif")):
            with self.subTest(form):
                work = self.render(form)
                self.run_queued()
                work.refresh_from_db()
                self.assertEqual((work.state, work.message), (State.DONE, ""))
                self.assertEqual(Path(work.path).name, name)
                self.assertEqual(open_source(work.path).info.frames, 8)
                self.assertEqual((work.report or {})["frames"], 8)
                self.assertEqual(list(work.folder.glob("frames_*")), [])
                Shot.objects.all().delete()

    def test_cancelled_before_and_during(self) -> None:
        waiting = self.render()
        cancel(waiting)
        self.assertEqual(waiting.state, State.CANCELLED)
        running = request_render(new_version(Shot.objects.get(), PLAN), "ffv1")
        with_wish = tasks._cancel_check
        try:
            tasks._cancel_check = lambda work: lambda: bool(Render.objects.filter(pk=work.pk).cancel())
            self.run_queued()
        finally:
            tasks._cancel_check = with_wish
        running.refresh_from_db()
        self.assertEqual(running.state, State.CANCELLED)
        self.assertFalse(running.folder.exists())

    def test_footage_that_breaks_after_the_request_fails_in_one_line(self) -> None:
        shot = self.shot()
        work = request_render(new_version(shot, Plan(profile=white_profile(5))), "h264", (0, 2))
        Path(shot.path).write_bytes(b"gone wrong")
        self.run_queued()
        work.refresh_from_db()
        self.assertEqual(work.state, State.FAILED)
        self.assertIn("dusk: the footage was replaced on disk", work.message)
        self.assertNotIn("\n", work.message)


class Leftovers(WorkCase):
    def test_what_no_row_owns_goes_and_all_else_stays(self) -> None:
        render = self.render("ffv1", frames=2)
        Render.objects.filter(pk=render.pk).update(name="frames_0000000_0000002_A")
        self.run_queued()
        render.refresh_from_db()
        self.assertEqual((render.state, render.message), (State.DONE, ""))
        self.assertTrue(Path(render.path).exists(), "a result may be called like a segment")
        data = settings.YELLOW_CLEAN.data
        upload, fresh = (self.job.folder / token for token in ("abandoned", "fresh"))
        owned = self.job.folder / "kept" / "shot.mkv"
        for folder in (upload, fresh, owned.parent, data / "scratch"):
            folder.mkdir(parents=True, exist_ok=True)
            (folder / "shot.mkv").write_bytes(b"half")
        Shot.objects.filter(pk=render.shot_id).update(path=str(owned))
        for path in (upload, upload / "shot.mkv", owned.parent, owned):
            os.utime(path, (0, 0))
        gone = [
            data / "renders" / "render_99999" / "a.mkv", data / "footage" / "job_99999" / "x" / "a.mkv",
            data / "indexes" / "nobody.json", data / "scratch" / "tuning-x" / "trial.mkv",
            render.folder / "frames_0000000_0000002.mkv",
            render.folder / ".frames_0000000_0000002.mkv.partial.mkv", upload / "shot.mkv",
        ]  # fmt: skip
        for path in gone[:-1]:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"left")
        remove_leftovers()
        self.assertEqual([path for path in gone if path.exists()], [])
        for path in (Path(render.path), owned, fresh / "shot.mkv", data / "secret.key"):
            self.assertTrue(path.exists(), path)
        self.assertEqual(remove_leftovers(), [])

    def test_a_second_server_on_one_folder_is_refused_in_one_line(self) -> None:
        with _alone(), self.assertRaisesRegex(CommandError, "another server works on this folder"), _alone():
            self.fail("two servers on one folder")


class AfterAKill(WorkCase):
    def worker(self) -> subprocess.Popen[bytes]:
        process = worker_process()
        self.addCleanup(kill, process)
        return process

    def until(self, reached: Callable[[], bool], seconds: float = 90) -> None:
        end = time.monotonic() + seconds
        while not reached():
            self.assertLess(time.monotonic(), end, "it never came to that")
            time.sleep(0.1)

    def test_a_killed_render_takes_up_where_it_stopped(self) -> None:
        work = self.render(frames=48)
        first = self.worker()
        self.until(lambda: len(list(work.folder.glob("frames_*.mkv"))) >= 2)
        kill(first)
        kept = {p.name: p.stat().st_mtime_ns for p in work.folder.glob("frames_*.mkv")}
        work.refresh_from_db()
        self.assertEqual(work.state, State.RUNNING)
        times: dict[str, int] = {}
        self.worker()

        def done() -> bool:
            for piece in work.folder.glob("frames_*.mkv"):
                try:
                    times[piece.name] = piece.stat().st_mtime_ns
                except FileNotFoundError:
                    continue
            work.refresh_from_db()
            return not work.active

        self.until(done)
        self.assertEqual((work.state, work.message, work.attempts), (State.DONE, "", 2))
        self.assertEqual({name: times[name] for name in kept}, kept)
        self.assertEqual(open_source(work.path).info.frames, 48)

    def test_work_interrupted_too_often_fails_honestly(self) -> None:
        work = Survey.objects.create(shot=self.shot(), state=State.RUNNING, attempts=3)
        wished = Survey.objects.create(shot=work.shot, state=State.RUNNING, attempts=1, cancel_requested=True)
        tasks.sweep()
        work.refresh_from_db()
        wished.refresh_from_db()
        self.assertEqual((work.state, wished.state), (State.FAILED, State.CANCELLED))
        self.assertIn("interrupted 3 times", work.message)
