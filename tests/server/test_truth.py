"""What is shown is true: of this footage, this plan, this engine; what goes wrong spoils no more than itself."""

from __future__ import annotations

import asyncio
import json
import os
import shutil
import threading
import time
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import cv2
import numpy as np
from django.db import connection
from django.test import SimpleTestCase, TransactionTestCase
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from tests.server.test_api import ApiCase, footage, measured_footage
from yellowclean.engine.errors import BadInput, Cancelled
from yellowclean.engine.frames import screen_dither
from yellowclean.engine.judge.patches import Remaining
from yellowclean.engine.media.index import Index
from yellowclean.engine.motion import dense
from yellowclean.engine.plan import Plan
from yellowclean.server import tasks, views
from yellowclean.server.afterwards import Afterwards
from yellowclean.server.api import events
from yellowclean.server.api.events import _states
from yellowclean.server.api.frames import unless_gone
from yellowclean.server.lanes import AHEAD, Lanes
from yellowclean.server.models import Job, Preset, Profile, Render, Shot, State, Survey
from yellowclean.server.segments import STOP_FILE, Piece, make_segment
from yellowclean.server.use_cases import add_shot, delete_shot, keep_survey, new_version, request_survey


class Standings(ApiCase):
    def test_a_plan_that_does_nothing_changes_no_figure_and_says_what_is_still_outside(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/versions", {"plan": {}})
        told = self.left_by(version)
        self.assertEqual((told["left"]["values"], told["left"]["basis"]), ({}, "nothing"))
        outside = [s["kind"] for s in told["standings"] if s["outside"]]
        self.assertIn("noise", outside)
        self.assertEqual(told["said"], f"This plan leaves the shot as it is. Still outside: {', '.join(outside)}.")
        self.assertEqual(told["by_frame"]["cv"], (shot.survey or {})["noise"]["by_frame_cv"])
        self.assertTrue(all(told["by_frame"]["outside"]))
        self.ask("patch", f"/jobs/{self.job.pk}", {"tolerances": dict.fromkeys(outside, 1000000.0)})
        told = self.left_by(version)
        self.assertFalse(any(told["by_frame"]["outside"]))
        self.assertIn("Nothing lies outside its tolerance", told["said"])

    def test_a_new_survey_makes_earlier_figures_of_what_is_left_void(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        self.left_by(version)
        keep_survey(shot, measured_footage()[1])
        sheet = self.ask("get", f"/jobs/{self.job.pk}/shots")[0]
        self.assertTrue(all(f["remaining"] is None for f in sheet["findings"]))

    def test_a_patch_over_the_result_tells_the_results_figure(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        patch = (shot.survey or {})["patches"][0]["patch"]
        told = self.ask("post", f"/shots/{shot.pk}/patch?version_id={version}", patch)
        self.assertEqual(told["result"]["source_luma_cv"], told["reading"]["luma_cv"])
        self.assertLess(told["result"]["result_luma_cv"], 0.5 * told["reading"]["luma_cv"])
        self.assertIsNone(self.ask("post", f"/shots/{shot.pk}/patch", patch)["result"])


class Replaced(ApiCase):
    def test_footage_replaced_under_its_name_is_said_so_and_never_mixed(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        self.client.get(f"/api/shots/{shot.pk}/frame?n=0")
        other = footage(self.folder / "other", scene="quay")
        shutil.copy(other, shot.path)
        for path in (
            f"/shots/{shot.pk}/frame?n=0", f"/shots/{shot.pk}/frame?n=0&view=result&version_id={version['id']}",
            f"/shots/{shot.pk}/pixel?n=0&x=1&y=1", f"/versions/{version['id']}/remaining",
        ):  # fmt: skip
            self.assertIn("replaced on disk", self.ask("get", path, status=422)["detail"])
        self.ask("post", "/renders", {"version_id": version["id"], "format": "png"}, 422)
        sheet = self.ask("get", f"/jobs/{self.job.pk}/shots")
        self.assertIn("replaced on disk", sheet[0]["problem"])
        self.assertIn("replaced on disk", self.ask("get", f"/shots/{shot.pk}")["problem"])
        added = add_shot(self.job, Path(shot.path))
        self.assertEqual(self.ask("get", f"/shots/{added.pk}")["problem"], "")

    def test_a_copy_with_another_time_is_the_same_footage(self) -> None:
        shot = self.surveyed_shot()
        os.utime(shot.path, (1, 1))
        self.assertEqual(self.ask("get", f"/shots/{shot.pk}")["problem"], "")
        self.assertEqual(
            Shot.objects.get().stamp, self.ask("get", f"/shots/{shot.pk}") and Shot.objects.get().stamp
        )
        with mock.patch("yellowclean.server.models._fingerprint_of", side_effect=AssertionError):
            self.assertEqual(Shot.objects.get().trouble, "")

    def test_footage_that_is_gone_is_told_on_its_shot(self) -> None:
        shot = self.surveyed_shot()
        Path(shot.path).unlink()
        self.assertIn("does not exist", self.ask("get", f"/jobs/{self.job.pk}/shots")[0]["problem"])

    def test_the_survey_of_footage_replaced_meanwhile_is_not_kept(self) -> None:
        shot = add_shot(self.job, footage(self.folder))
        work = Survey.objects.create(shot=shot)

        def replaced(*_: Any, **__: Any) -> Any:
            shutil.copy(footage(self.folder / "other", scene="quay"), shot.path)
            return measured_footage()[1]

        with mock.patch.object(tasks, "survey", replaced):
            tasks.run_survey.func(work.pk)
        work.refresh_from_db()
        shot.refresh_from_db()
        self.assertEqual((work.state, shot.survey), (State.FAILED, None))

    def test_pictures_of_another_engine_have_another_key(self) -> None:
        shot = self.surveyed_shot()
        key = self.ask("get", f"/shots/{shot.pk}")["picture_key"]
        self.ask_picture(shot, key, 200)
        with mock.patch.object(views, "_engine", lambda: "another engine's text"):
            self.assertNotEqual(self.ask("get", f"/shots/{shot.pk}")["picture_key"], key)
            self.ask_picture(shot, key, 409)

    def ask_picture(self, shot: Shot, key: str, status: int) -> None:
        self.assertEqual(self.client.get(f"/api/shots/{shot.pk}/frame?n=0&key={key}").status_code, status)


class OlderDocuments(ApiCase):
    def test_documents_of_an_older_release_open(self) -> None:
        """Without what came later: dead channels, pixel aspect, siting."""
        shot = self.surveyed_shot()
        survey = json.loads(json.dumps(shot.survey))
        for part in (survey["noise"]["curve"], survey["profile"]["curve"]):
            del part["dead"], part["cut"]
        for key in ("pixel_aspect", "rotation", "siting", "first_number"):
            del survey["media"][key], shot.media[key]
        Shot.objects.filter(pk=shot.pk).update(survey=survey, media=shot.media)
        self.assertEqual(self.ask("get", f"/shots/{shot.pk}")["problem"], "")
        self.assertEqual(len(self.ask("post", f"/shots/{shot.pk}/propose", {})["plan"]["steps"]), 2)

    def test_an_unreadable_document_spoils_its_own_shot_only(self) -> None:
        good, bad = self.surveyed_shot(), add_shot(self.job, footage(self.folder / "b", scene="quay"))
        keep_survey(bad, measured_footage()[1])
        version = new_version(bad, Plan())
        for broken in (
            {"survey": {"schema": "yellow-clean/survey/0"}, "findings": [{"kind": "noise"}]},
            {"media": {"path": 3}}, {"look": {"exposure": "much"}},
        ):  # fmt: skip
            with self.subTest(broken):
                Shot.objects.filter(pk=bad.pk).update(**broken)
                sheet = {s["id"]: s for s in self.ask("get", f"/jobs/{self.job.pk}/shots")}
                self.assertEqual(sheet[good.pk]["problem"], "")
                self.assertTrue(sheet[good.pk]["findings"])
                self.assertTrue("look" in broken or sheet[bad.pk]["problem"])
                keep_survey(bad, measured_footage()[1])
                Shot.objects.filter(pk=bad.pk).update(media=bad.media)
        type(version).objects.filter(pk=version.pk).update(document={"steps": [{"kind": "gone"}]})
        self.ask("get", f"/jobs/{self.job.pk}/shots")
        told = self.ask("get", f"/shots/{bad.pk}")["plans"][0]
        self.assertIn("cannot be read", told["problem"])
        self.assertIn("gone", self.ask("put", f"/versions/{version.pk}", {"plan": {}}, 422)["detail"])

    def test_unreadable_presets_and_profiles_are_left_out_of_their_lists(self) -> None:
        Preset.objects.create(name="old", steps=[{"kind": "gone"}])
        Profile.objects.create(name="old", document={"schema": "?"})
        self.ask("post", "/presets", {"name": "new", "steps": [{"kind": "spatial"}]})
        self.assertEqual([p["name"] for p in self.ask("get", "/presets")], ["new"])
        self.assertEqual(self.ask("get", "/profiles"), [])


class Ends(ApiCase):
    def test_events_cover_all_work_that_waits_or_runs_and_what_has_just_ended(self) -> None:
        shot = add_shot(self.job, footage(self.folder))
        Survey.objects.bulk_create([Survey(shot=shot) for _ in range(150)])
        ended = Survey.objects.create(shot=shot, state=State.DONE, finished=timezone.now())
        long_ago = Survey.objects.create(shot=shot, state=State.DONE, finished=timezone.now().replace(year=2020))
        since = timezone.now() - timedelta(minutes=1)
        with CaptureQueriesContext(
            connection,
        ) as queries:
            told = {e.id for e in _states.__wrapped__(self.job.pk, since)}  # type: ignore[attr-defined]
        self.assertEqual(len(told), 151)
        self.assertIn(ended.pk, told)
        self.assertNotIn(long_ago.pk, told)
        self.assertEqual(len(queries), 2)

    def test_a_new_survey_ends_the_waiting_one_at_once(self) -> None:
        shot = add_shot(self.job, footage(self.folder))
        first = request_survey(shot)
        request_survey(shot)
        first.refresh_from_db()
        self.assertEqual(first.state, State.CANCELLED)

    def test_deleting_a_shot_ends_its_work(self) -> None:
        shot = self.surveyed_shot()
        work = Survey.objects.create(shot=shot, state=State.RUNNING)
        check = tasks._cancel_check(work)
        self.assertFalse(check())
        delete_shot(shot)
        with mock.patch.object(tasks, "LOOK_EVERY", 0):
            self.assertTrue(check())
        work.ended(State.CANCELLED)  # its row is gone, which is no error

    def test_a_segment_ends_in_the_middle_of_a_frame_on_any_machine(self) -> None:
        """Cancelled by the file in its folder, or by the folder's going away, while motion is looked for."""
        shot = self.surveyed_shot()
        plan = json.dumps(self.ask("post", f"/shots/{shot.pk}/propose", {})["plan"])
        for gone in (False, True):
            with self.subTest(folder_gone=gone):
                folder = self.folder / f"render_{gone}"
                folder.mkdir()
                calls: list[int] = []

                def cancelled(*about: Any, folder: Path = folder, gone: bool = gone, calls: Any = calls) -> Any:
                    calls.append(1)
                    if gone:
                        shutil.rmtree(folder, ignore_errors=True)
                    else:
                        (folder / STOP_FILE).touch()
                    return dense(*about)

                source = Piece(shot.path, f"{shot.fingerprint}{gone}", str(shot.index_file), "", None, "")
                with (
                    mock.patch("yellowclean.engine.footage.dense", cancelled),
                    self.assertRaises(Cancelled),
                ):
                    make_segment(source, plan, (str(folder / "a.mkv"), "ffv1"), str(folder), (0, 4))
                self.assertLessEqual(len(calls), 2, "it went on after it was cancelled")
                self.assertEqual(list(folder.glob("*.mkv")), [])


class Size(ApiCase):
    def test_the_sheet_takes_as_many_queries_for_500_shots_as_for_one(self) -> None:
        shot = self.surveyed_shot()
        self.ask("post", f"/shots/{shot.pk}/propose", {})
        fields = {f.name: getattr(shot, f.name) for f in Shot._meta.fields if f.name not in {"id", "created"}}

        def queries() -> int:
            with CaptureQueriesContext(connection) as counted:
                self.ask("get", f"/jobs/{self.job.pk}/shots")
            return len(counted)

        one = queries()
        Shot.objects.bulk_create([Shot(**fields) for _ in range(499)])
        shots = list(Shot.objects.all())
        Survey.objects.bulk_create([Survey(shot=s) for s in shots for _ in range(2)])
        Render.objects.bulk_create(
            [Render(shot=s, label="A", document={}, format="png", first=0, stop=1) for s in shots]
        )
        self.assertEqual(len(self.ask("get", f"/jobs/{self.job.pk}/shots")), 500)
        self.assertEqual(queries(), one)
        with CaptureQueriesContext(connection) as swept:
            tasks.sweep()
        self.assertEqual(len(swept), 2)

    def test_no_request_reads_through_a_file_whose_index_is_kept(self) -> None:
        shot = self.surveyed_shot()
        self.assertTrue(shot.index_file.is_file())
        views._opened.__init__()  # type: ignore[misc]
        with mock.patch("yellowclean.engine.media.index._scanned", side_effect=AssertionError("scanned")):
            self.assertEqual(self.client.get(f"/api/shots/{shot.pk}/frame?n=1").status_code, 200)
            version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
            self.ask("post", "/renders", {"version_id": version, "format": "png"})

    def test_all_open_footage_shares_one_memory(self) -> None:
        opened = views._Opened()
        shots = [add_shot(self.job, footage(self.folder / str(k), codec="ffv1", frames=2)) for k in range(4)]
        footages = [opened.pipeline(shot, Plan()).footage for shot in shots]
        self.assertEqual(len({id(f.memory) for f in footages}), 1)
        before = footages[3].memory.bytes
        footages[3].frame(0)
        self.assertEqual(footages[3].memory.bytes - before, 192 * 128 * 12)
        footages[3].forget()
        self.assertEqual(footages[3].memory.bytes, before)


class SmallRegions(ApiCase):
    def test_a_region_of_one_pixel_is_refused_and_stalls_nothing(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        for width, height, x in ((1, 60, 0), (60, 1, 0), (1, 1, 5), (60, 60, 191), (8, 8, 0)):
            part = {"x": x, "y": 0, "width": width, "height": height}
            told = self.ask("post", f"/versions/{version}/overwork", {"frames": [1], "part": part}, 422)
            self.assertIn("too small to be judged", told["detail"])
            strip = {"step": 1, "setting": "luma", "n": 1, **part}
            self.assertIn("too small", self.ask("post", f"/versions/{version}/strip", strip, 422)["detail"])
        for region in ("0,0,1,60", "5,5,1,1", "191,127,1,1"):
            self.assertEqual(self.client.get(f"/api/shots/{shot.pk}/frame?n=1&region={region}").status_code, 200)


class MeasuredAfterwards(SimpleTestCase):
    def test_figures_come_one_by_one_and_a_newer_plan_ends_the_measuring_of_an_older(self) -> None:
        afterwards, go_on, ended = Afterwards(), threading.Event(), threading.Event()

        def slow(stopped: Any) -> Iterator[Remaining]:
            yield Remaining(values={"noise": 1.0}, basis="patches", patches=[], coming=["blocking"])
            while not stopped():
                if go_on.wait(0.02):
                    yield Remaining(values={"noise": 1.0, "blocking": 0.1}, basis="patches", patches=[])
                    return
            ended.set()

        first = afterwards.told(7, "plan", slow, 0.3)
        self.assertEqual(first and first.coming, ["blocking"])
        other = afterwards.told(7, "newer plan", slow, 5 if ended.wait(0.01) else 0.5)
        self.assertTrue(ended.wait(10), "the older plan is still being measured")
        go_on.set()
        other = afterwards.told(7, "newer plan", slow, 10)
        self.assertEqual(other and other.values["blocking"], 0.1)

    def test_what_failed_is_said_and_can_be_asked_again(self) -> None:
        afterwards = Afterwards()

        def failing(stopped: Any) -> Iterator[Remaining]:
            raise BadInput("The file ends here.")
            yield

        for _ in range(2):
            with self.assertRaisesRegex(BadInput, "ends here"):
                afterwards.told(1, "plan", failing, 10)


class Quiet(TransactionTestCase):
    def test_a_stream_asks_the_database_only_after_it_was_written(self) -> None:
        database = events._Database()
        self.assertEqual([database.written() for _ in range(4)], [True, True, False, False])
        Job.objects.create(name="Written")
        self.assertEqual([database.written() for _ in range(3)], [True, True, False])


class LostThreads(SimpleTestCase):
    def test_a_thread_that_never_returns_is_replaced_and_logged(self) -> None:
        lanes, release = Lanes(1, limit=0.2, grace=0.2), threading.Event()
        with self.assertLogs("yellowclean.server.lanes", "WARNING") as logged:
            stuck = lanes.submit(lambda stopped: release.wait(30))
            with self.assertRaisesRegex(BadInput, "took too long"):
                stuck.future.result(10)
            self.assertEqual(lanes.submit(lambda stopped: 7).future.result(10), 7)
        self.assertIn("is replaced", logged.output[0])
        release.set()

    def test_what_is_looked_at_goes_before_what_is_made_ahead(self) -> None:
        lanes, release, order = Lanes(1), threading.Event(), list[str]()
        lanes.submit(lambda stopped: release.wait(30))
        ahead = lanes.submit(lambda stopped: order.append("ahead"), AHEAD)
        for name in ("first", "second"):
            lanes.submit(lambda stopped, name=name: order.append(name))  # type: ignore[misc]
        release.set()
        ahead.future.result(10)
        self.assertEqual(order, ["first", "second", "ahead"])

    def test_work_past_its_time_is_asked_to_stop_first(self) -> None:
        lanes = Lanes(1, limit=0.2, grace=30)

        def patient(stopped: Any) -> str:
            end = time.monotonic() + 20
            while not stopped() and time.monotonic() < end:
                threading.Event().wait(0.05)
            return "stopped" if stopped() else "never"

        self.assertEqual(lanes.submit(patient).future.result(20), "stopped")

    def test_a_request_that_is_given_up_ends_its_work(self) -> None:
        ended = threading.Event()

        def work(stopped: Any) -> None:
            while not stopped():
                threading.Event().wait(0.02)
            ended.set()

        async def given_up() -> None:
            task = asyncio.ensure_future(unless_gone(work))
            await asyncio.sleep(0.1)
            task.cancel()

        asyncio.run(given_up())
        self.assertTrue(ended.wait(10))


class Screen(SimpleTestCase):
    def test_ramps_show_no_steps_and_what_8_bits_hold_is_as_it_was(self) -> None:
        ramp = np.tile(np.linspace(0.20, 0.22, 512, dtype=np.float32), (64, 1))
        shown = np.rint((ramp + screen_dither(ramp.shape)) * 255) / 255
        off, plain = (
            np.abs(cv2.blur(s.astype(np.float32) - ramp, (16, 16)))[:, 16:-16].max() * 255
            for s in (shown, np.rint(ramp * 255) / 255)
        )
        self.assertLess(off, 0.1)
        self.assertGreater(plain, 0.3)
        codes = np.tile(np.arange(256, dtype=np.float32) / 255, (64, 1))
        np.testing.assert_array_equal(np.rint((codes + screen_dither(codes.shape)) * 255), np.rint(codes * 255))
        np.testing.assert_array_equal(screen_dither((20, 30), 7, 5), screen_dither((64, 64))[5:25, 7:37])


class Indexes(SimpleTestCase):
    def test_the_index_of_hours_is_small(self) -> None:
        index = Index(times=list(range(0, 345_600 * 512, 512)), keys=list(range(0, 345_600 * 512, 512 * 48)))
        self.assertLess(len(index.model_dump_json()), 5_000_000)
