"""The reel through the API: a timeline in, its events as shots, renders of many, note and timeline out."""

from __future__ import annotations

import contextlib
import errno
import io
import json
import shutil
import zipfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import opentimelineio as otio
from django.conf import settings
from django.db.utils import OperationalError
from django.test import TransactionTestCase, override_settings
from django_tasks_db.models import DBTaskResult

from tests.clips import temporary_folder
from tests.engine.test_reel import FILM, clip, gap, medium, timeline_of
from yellowclean.engine.errors import Cancelled
from yellowclean.engine.judge.overwork import overwork
from yellowclean.engine.media import open_source
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.relink import as_otio
from yellowclean.engine.reel.taking import taken
from yellowclean.engine.reel.timeline import described, read
from yellowclean.engine.reel.wanted import Wanted
from yellowclean.engine.render import assemble
from yellowclean.server import room, tasks, views
from yellowclean.server.cluster import shut_down
from yellowclean.server.models import Job, Render, Shot
from yellowclean.server.reels import render_many
from yellowclean.server.rendering import go_on, hold
from yellowclean.server.use_cases import add_shot, new_version

BEGIN = (1 * 3600 + 2 * 60 + 10) * 24 + 12


class ReelCase(TransactionTestCase):
    @classmethod
    def tearDownClass(cls) -> None:
        shut_down()
        super().tearDownClass()

    def setUp(self) -> None:
        allowed = settings.YELLOW_CLEAN.media_folders[0]
        allowed.mkdir(parents=True, exist_ok=True)
        self.folder = temporary_folder(self, allowed)
        medium(self.folder / "q9_012_quay.mkv", 100, 40, FILM, "01:02:10:12")
        self.job = Job.objects.create(name="Quay Nine")

    def timeline(self) -> otio.schema.Timeline:
        return timeline_of(
            V1=[
                clip("q9_012_quay", BEGIN + 5, 8, FILM, "/elsewhere/q9_012_quay.mkv", BEGIN),
                gap(4, FILM),
                clip("q9_012_quay", BEGIN + 20, 6, FILM, "/elsewhere/q9_012_quay.mkv", BEGIN),
                clip("a shot", 3, 5, FILM, "/elsewhere/gone.mkv"),
            ]
        )

    def ask(self, method: str, path: str, body: Any = None, status: int = 200) -> Any:
        kind = "application/octet-stream" if isinstance(body, str) else "application/json"
        data = body if isinstance(body, str) else json.dumps(body)
        kwargs = {} if body is None else {"data": data, "content_type": kind}
        response = getattr(self.client, method)(f"/api{path}", **kwargs)
        self.assertEqual(response.status_code, status, response.content[:300])
        told = response.content and response["Content-Type"].startswith("application/json")
        return response.json() if told else response

    def frames_of(self, source: Any) -> list[np.ndarray]:
        self.addCleanup(source.close)
        return [source.read(n) for n in range(source.info.frames)]

    def source_frame(self, number: int) -> np.ndarray:
        name, first = ("q9_012_quay.mkv", 100) if number < 300 else ("another name.mkv", 300)
        source = open_source(self.folder / name)
        self.addCleanup(source.close)
        return source.read(number - first)

    def unpacked(self, data: bytes, status: int = 200) -> Any:
        response = self.client.post("/api/packed-jobs", data, content_type="application/zip")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json()

    def run_queued(self) -> None:
        for waiting in DBTaskResult.objects.ready():
            DBTaskResult.objects.filter(pk=waiting.pk).update(status="SUCCESSFUL")
            waiting.task.call(*waiting.task_result.args)


class Reels(ReelCase):
    def test_in_and_out_again(self) -> None:
        sent = self.ask("post", f"/jobs/{self.job.pk}/timelines?name=reel.otio", as_otio(self.timeline()))
        self.assertEqual([(m["name"], m["events"], bool(m["path"])) for m in sent["media"]],
                         [("q9_012_quay.mkv", [1, 2], True), ("gone.mkv", [3], False)])  # fmt: skip
        added = self.ask("post", f"/timelines/{sent['id']}/take", {"handles": 3})
        self.assertEqual([s["name"] for s in added["shots"]], ["q9_012_quay", "q9_012_quay_2"])
        self.assertRegex(added["refused"][0], r"^event 3, a shot: gone\.mkv, frames 3 to 7, was not found\.$")
        self.assertEqual([(s["place"]["number"], s["media"]["frames"]) for s in added["shots"]], [(1, 14), (2, 12)])
        again = self.ask("post", f"/timelines/{sent['id']}/take", {"handles": 3})
        self.assertEqual(again["shots"], [], "an event is taken once")

        medium(self.folder / "another name.mkv", 300, 20, FILM, None)
        self.ask(
            "post", f"/timelines/{sent['id']}/media", {"key": "/elsewhere/gone.mkv", "path": "/etc/passwd"}, 422
        )
        pointed = {"key": "/elsewhere/gone.mkv", "path": str(self.folder / "another name.mkv")}
        self.assertEqual(
            self.ask("post", f"/timelines/{sent['id']}/media", pointed)["media"][1]["how"], "pointed to by hand"
        )
        third = self.ask("post", f"/timelines/{sent['id']}/take", {"handles": 3})["shots"]
        self.assertEqual([(s["name"], s["place"]["number"]) for s in third], [("a shot", 3)])

        sheet = self.ask("get", f"/jobs/{self.job.pk}/shots")
        self.assertEqual([s["name"] for s in sheet], ["q9_012_quay", "q9_012_quay_2", "a shot"])
        for shot in Shot.objects.all():
            new_version(shot, Plan())
        wanted = {"formats": ["ffv1", "tiff"], "template": "{event:02}_{shot}"}
        self.ask("patch", f"/jobs/{self.job.pk}", {"wanted": wanted})
        queued = self.ask("post", f"/jobs/{self.job.pk}/render", {})
        self.assertEqual((len(queued["renders"]), queued["refused"]), (6, []))
        self.run_queued()
        listed = self.ask("get", f"/jobs/{self.job.pk}/renders")
        self.assertEqual([r["state"] for r in listed], ["done"] * 6)
        numbers = [*range(105, 113), *range(120, 126), *range(303, 308)]
        for fmt in ("ffv1", "tiff"):
            files = self.ask("get", f"/timelines/{sent['id']}/out?format={fmt}")["files"]
            self.assertEqual(sorted(files), [f"Quay Nine_{fmt}.edl", f"Quay Nine_{fmt}.otio"])
            for name, text in files.items():
                with self.subTest(name):
                    self.assert_frames(read(text.encode(), name, FILM), numbers)
        note = self.ask("get", f"/jobs/{self.job.pk}/note?kind=json")
        self.assertEqual([len(s["files"]) for s in note["shots"]], [2, 2, 2])
        self.assertEqual(note["shots"][0]["files"][0]["name"], "01_q9_012_quay.mkv")
        self.assertIn("Delivery note", self.ask("get", f"/jobs/{self.job.pk}/note").content.decode())
        packed = zipfile.ZipFile(io.BytesIO(self.ask("get", f"/jobs/{self.job.pk}/delivery").content))
        documents = {f"Quay Nine_{fmt}.{ending}" for fmt in ("ffv1", "tiff") for ending in ("edl", "otio")}
        self.assertEqual(set(packed.namelist()), {"note.html", "note.json", "note.pdf"} | documents)
        self.assertTrue(packed.read("note.pdf").startswith(b"%PDF"))

    def assert_frames(self, timeline: Any, numbers: list[int]) -> None:
        """The events of a written timeline play the source's frames, bit for bit."""
        told = described(timeline)
        renders = settings.YELLOW_CLEAN.data / "renders"
        shots, missing = taken(told, found_media(told, [renders]), 0)
        self.assertEqual(missing, [])
        got = [frame for shot in shots for frame in self.frames_of(open_source(shot.path, frames=shot.frames))]
        wanted = [self.source_frame(n) for n in numbers]
        self.assertEqual(len(got), len(wanted))
        for one, other in zip(got, wanted, strict=True):
            np.testing.assert_array_equal(one, other)

    def test_what_is_no_timeline_is_one_line(self) -> None:
        address = f"/jobs/{self.job.pk}/timelines"
        for name, body in (("a.otio", "{"), ("a.edl", "001"), ("a.xml", "<a>"), ("a.txt", "x"), ("a.edl", "\0")):
            with self.subTest(name):
                self.assertNotIn("\n", self.ask("post", f"{address}?name={name}", body, 422)["detail"])
        self.ask("post", f"{address}?name=a.edl&rate=nan", "x", 422)
        sent = self.ask("post", f"{address}?name=reel.otio", as_otio(self.timeline()))
        for handles in (-1, 10**9):
            self.ask("post", f"/timelines/{sent['id']}/take", {"handles": handles}, 422)
        self.assertEqual(Shot.objects.count(), 0)
        wrongs: tuple[dict[str, Any], ...] = (
            {"formats": ["betamax"]},
            {"formats": []},
            {"template": "{camera}"},
            {"folder": "/etc"},
        )
        for wrong in wrongs:
            self.ask("patch", f"/jobs/{self.job.pk}", {"wanted": wrong}, 422)
        self.ask("get", f"/timelines/{sent['id']}/out?format=ffv1", None, 422)


class Queue(ReelCase):
    def queued(self, count: int = 3, **wanted: Any) -> list[Render]:
        shots = [
            add_shot(self.job, self.folder / "q9_012_quay.mkv", f"shot {k}", range(k, k + 4)) for k in range(count)
        ]
        self.job.wanted = Wanted(**({"formats": ["ffv1"]} | wanted)).model_dump()
        renders, refused = render_many(self.job, [s for s in shots if new_version(s, Plan())])
        self.assertEqual(refused, [])
        return renders

    def test_order_pause_and_going_on(self) -> None:
        first, second, third = self.queued()
        self.ask("post", "/render-order", {"ids": [third.pk, first.pk]}, 204)
        self.ask("post", f"/renders/{first.pk}/pause", {})
        self.run_queued()
        states = dict(Render.objects.values_list("pk", "state"))
        self.assertEqual(states, {first.pk: "queued", second.pk: "done", third.pk: "done"})
        in_order = Render.objects.filter(started__isnull=False).order_by("started")
        self.assertEqual([render.pk for render in in_order], [third.pk, second.pk])
        self.ask("post", f"/renders/{first.pk}/go-on", {})
        self.run_queued()
        self.assertEqual(Render.objects.get(pk=first.pk).state, "done")

    def test_a_lane_that_comes_too_late_takes_the_next(self) -> None:
        first, second = self.queued(2)
        claimed = tasks._running

        @contextlib.contextmanager
        def faster_elsewhere(kind: Any, pk: int) -> Iterator[Any]:
            if pk == first.pk:
                Render.objects.filter(pk=pk).update(state="running")
            with claimed(kind, pk) as work:
                yield work

        with mock.patch.object(tasks, "_running", faster_elsewhere):
            tasks.run_render.call(first.pk)
        second.refresh_from_db()
        self.assertEqual(second.state, "done")

    def test_a_running_render_is_held_back_and_keeps_its_pieces(self) -> None:
        render = self.queued(1)[0]

        def pieces() -> dict[Path, int]:
            return {p: p.stat().st_mtime_ns for p in render.folder.glob("frames_*")}

        def held_back(*about: Any) -> None:
            hold(render)
            raise Cancelled("held back")

        with mock.patch.object(tasks, "assemble", held_back):
            self.run_queued()
        render.refresh_from_db()
        self.assertEqual((render.state, render.paused), ("queued", True))
        made = pieces()
        self.assertTrue(made)

        def going_on(*about: Any) -> None:
            self.assertEqual(pieces(), made)
            assemble(*about)

        go_on(render)
        with mock.patch.object(tasks, "assemble", going_on):
            self.run_queued()
        render.refresh_from_db()
        self.assertEqual(render.state, "done", render.message)

    def test_one_that_is_let_go_on_before_it_has_stopped_is_not_lost(self) -> None:
        render = self.queued(1)[0]

        def held_back_and_let_go(*about: Any) -> None:
            hold(render)
            go_on(render)
            raise Cancelled("held back")

        with mock.patch.object(tasks, "assemble", held_back_and_let_go):
            self.run_queued()
        self.run_queued()
        render.refresh_from_db()
        self.assertEqual((render.state, render.message), ("done", ""))

    def test_a_cancelled_sequence_leaves_nothing_in_a_delivery_folder(self) -> None:
        out = temporary_folder(self)
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, delivery_folders=(out,))):
            render = self.queued(1, formats=["tiff"], folder=str(out))[0]

            def cancelled(*about: Any) -> None:
                self.assertTrue([p for p in out.rglob("*") if p.is_file()])
                Render.objects.filter(pk=render.pk).cancel()
                raise Cancelled("cancelled")

            with mock.patch.object(tasks, "assemble", cancelled):
                self.run_queued()
            render.refresh_from_db()
            self.assertEqual(render.state, "cancelled")
            self.assertEqual([p for p in out.rglob("*") if p.is_file()], [])

    def test_what_a_plan_damages_is_judged_once_for_all_formats(self) -> None:
        shot = add_shot(self.job, self.folder / "q9_012_quay.mkv", "shot", range(4))
        new_version(shot, Plan(profile=white_profile(9), steps=[Step(kind="spatial")]))
        self.job.wanted = Wanted(formats=["ffv1", "tiff"]).model_dump()
        render_many(self.job, [shot])
        with mock.patch("yellowclean.engine.delivery.overwork", wraps=overwork) as judge:
            self.run_queued()
        self.assertEqual(judge.call_count, 1)
        told = [(render.report or {})["overwork"] for render in Render.objects.all()]
        self.assertTrue(told[0])
        self.assertEqual(told[0], told[1])

    def test_a_disk_that_fills_is_told_before_and_loses_nothing_after(self) -> None:
        free = shutil.disk_usage("/")._replace(free=1000)
        with mock.patch.object(shutil, "disk_usage", return_value=free):
            shot = add_shot(self.job, self.folder / "q9_012_quay.mkv")
            new_version(shot, Plan())
            renders, refused = render_many(self.job, [shot])
            self.assertEqual(renders, [])
            self.assertRegex(refused[0], r"needs about \d+ kB, 1\.0 kB are free; make room")
        render = self.queued(1)[0]
        told = []

        def short_of_room(*about: Any) -> Any:
            told.append(Render.objects.get(pk=render.pk).message)
            if len(told) == 1:
                raise OSError(errno.ENOSPC, "No space left on device", "x.mkv")
            self.assertTrue(list(render.folder.glob("frames_*")), "what was made stays")
            return assemble(*about)

        with mock.patch.object(tasks, "assemble", short_of_room), mock.patch.object(room, "ROOM_EVERY", 0.0):
            self.run_queued()
        render.refresh_from_db()
        self.assertEqual((render.state, told), ("done", ["", room.WAITING]))

    def test_a_database_without_room_waits_and_a_cache_is_spared(self) -> None:
        full, tries = OperationalError("database or disk is full"), iter((True, False))
        with mock.patch.object(room, "ROOM_EVERY", 0.0):
            self.assertEqual(room.with_room(lambda: _raised(full) if next(tries) else 7), 7)
            with self.assertRaises(Cancelled), mock.patch.object(room, "ROOM_EVERY", 1.0):
                room.with_room(lambda: _raised(full), lambda: True)
        self.assertIsNone(room.spared(lambda: _raised(full)))
        with self.assertRaises(OperationalError):
            room.spared(lambda: _raised(OperationalError("no such table")))
        shot = add_shot(self.job, self.folder / "q9_012_quay.mkv")
        with mock.patch.object(views, "_pictures", side_effect=OSError(errno.ENOSPC, "No space left on device")):
            self.assertEqual(self.client.get(f"/api/shots/{shot.pk}/frame?n=0").status_code, 200)
        with mock.patch.object(Job.objects, "create", side_effect=full):
            answer = self.client.post("/api/jobs", {"name": "x"}, "application/json")
        self.assertEqual((answer.status_code, "make room" in answer.json()["detail"]), (507, True))

    def test_delivery_folders_keep_what_they_hold(self) -> None:
        out = temporary_folder(self)
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, delivery_folders=(out,))):
            (out / "Quay Nine" / "ffv1").mkdir(parents=True)
            (out / "Quay Nine" / "ffv1" / "shot 0_A.mkv").write_bytes(b"not ours")
            shots = [add_shot(self.job, self.folder / "q9_012_quay.mkv", f"shot {k}", range(2)) for k in range(2)]
            self.job.wanted = Wanted(formats=["ffv1"], folder=str(out)).model_dump()
            renders, refused = render_many(self.job, [s for s in shots if new_version(s, Plan())])
            self.assertRegex(refused[0], "is there already, and not from here")
            self.run_queued()
            written = out / "Quay Nine" / "ffv1" / "shot 1_A.mkv"
            self.assertTrue(written.is_file())
            render_many(self.job, shots[1:])
            self.run_queued()
            self.ask("delete", f"/renders/{renders[0].pk}", None, 204)
            self.assertTrue(written.is_file(), "what was delivered stays")
            self.assertEqual((out / "Quay Nine" / "ffv1" / "shot 0_A.mkv").read_bytes(), b"not ours")


class Archive(ReelCase):
    def test_a_job_is_packed_and_unpacked_elsewhere_with_media_relinked(self) -> None:
        sent = self.ask("post", f"/jobs/{self.job.pk}/timelines?name=reel.otio", as_otio(self.timeline()))
        self.ask("post", f"/timelines/{sent['id']}/take", {"handles": 3})
        shot = Shot.objects.get(name="q9_012_quay")
        new_version(shot, Plan(profile=white_profile(5), steps=[Step(kind="spatial")]))
        self.ask("post", f"/shots/{shot.pk}/stills", {"n": 2, "name": "kept"})
        packed = self.ask("get", f"/jobs/{self.job.pk}/packed").content
        moved = self.folder / "moved"
        moved.mkdir()
        (self.folder / "q9_012_quay.mkv").rename(moved / "q9_012_quay.mkv")
        again = self.unpacked(packed)
        self.assertEqual(again["missing"], [])
        job = Job.objects.get(pk=again["job_id"])
        there = job.shots.get(name="q9_012_quay")
        self.assertEqual((there.path, there.frames), (str(moved / "q9_012_quay.mkv"), shot.frames))
        self.assertEqual(there.versions.get().plan, shot.versions.get().plan)  # type: ignore[attr-defined]
        self.assertEqual(there.stills.get().name, "kept")
        self.assertEqual(there.placed, shot.placed)
        self.assertTrue(there.opened().read(0).any())
        # the shot that stayed behind is pointed to, and refuses other footage
        self.assertIn("does not exist", self.ask("get", f"/jobs/{self.job.pk}/shots")[0]["problem"])
        other = medium(self.folder / "other.mkv", 7, 40, FILM, None)
        self.ask("post", f"/shots/{shot.pk}/media", {"path": str(other)}, 422)
        told = self.ask("post", f"/shots/{shot.pk}/media", {"path": str(moved / "q9_012_quay.mkv")})
        self.assertEqual(told["problem"], "")

    def test_what_is_no_packed_job_is_one_line_and_leaves_none(self) -> None:
        outside = io.BytesIO()
        with zipfile.ZipFile(outside, "w") as archive:
            archive.writestr("../../outside.json", "{}")
        wrong = io.BytesIO()
        with zipfile.ZipFile(wrong, "w") as archive:
            archive.writestr(
                "job.json", json.dumps({"name": "x", "shots": [{"name": "../up", "media": "/etc/passwd"}]})
            )
        for data in (b"", b"PK\x03\x04", outside.getvalue(), wrong.getvalue()):
            self.assertNotIn("\n", self.unpacked(data, 422)["detail"])
        self.assertEqual(Job.objects.count(), 1)


def _raised(error: Exception) -> Any:
    raise error
