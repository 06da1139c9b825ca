"""The reel through the API: a timeline in, its events as shots, renders of many, note and timeline out."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import opentimelineio as otio
from django.conf import settings
from django.test import TransactionTestCase
from django_tasks_db.models import DBTaskResult

from tests.clips import temporary_folder
from tests.engine.test_reel import FILM, clip, gap, medium, timeline_of
from yellowclean.engine.media import open_source
from yellowclean.engine.plan import Plan
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.relink import as_otio
from yellowclean.engine.reel.taking import taken
from yellowclean.engine.reel.timeline import described, from_json, read
from yellowclean.server.cluster import shut_down
from yellowclean.server.models import Job, Shot
from yellowclean.server.use_cases import new_version

BEGIN = (1 * 3600 + 2 * 60 + 10) * 24 + 12


class ReelCase(TransactionTestCase):
    library: ClassVar[Path]

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
        return response.json() if response["Content-Type"].startswith("application/json") else response

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
        queued = self.ask("post", f"/jobs/{self.job.pk}/renders",
                          {"formats": ["ffv1", "tiff"], "template": "{event:02}_{shot}"})  # fmt: skip
        self.assertEqual((len(queued["renders"]), queued["refused"]), (6, []))
        self.run_queued()
        for kind, read_back in (("otio", self.from_otio), ("edl", self.from_edl)):
            for fmt in ("ffv1", "tiff"):
                with self.subTest(kind, format=fmt):
                    out = self.ask("get", f"/timelines/{sent['id']}/out?format={fmt}&kind={kind}")
                    self.assert_frames(
                        read_back(out.content), [*range(105, 113), *range(120, 126), *range(303, 308)]
                    )
        note = self.ask("get", f"/jobs/{self.job.pk}/note?kind=json")
        self.assertEqual([len(s["files"]) for s in note["shots"]], [2, 2, 2])
        self.assertEqual(note["shots"][0]["files"][0]["name"], "01_q9_012_quay.mkv")
        self.assertIn("Delivery note", self.ask("get", f"/jobs/{self.job.pk}/note").content.decode())
        self.assertTrue(self.ask("get", f"/jobs/{self.job.pk}/note?kind=pdf").content.startswith(b"%PDF"))

    def from_otio(self, data: bytes) -> Any:
        return from_json(data.decode())

    def from_edl(self, data: bytes) -> Any:
        return read(data, "out.edl", FILM)

    def assert_frames(self, timeline: Any, numbers: list[int]) -> None:
        """The events of a written timeline play the source's frames, bit for bit."""
        told = described(timeline)
        renders = settings.YELLOW_CLEAN.data / "renders"
        shots, missing = taken(told, found_media(told, [renders]), 0, lambda path: open_source(path).info)
        self.assertEqual(missing, [])
        got = [frame for shot in shots for frame in self.frames_of(open_source(shot.path, frames=shot.frames))]
        wanted = [self.source_frame(n) for n in numbers]
        self.assertEqual(len(got), len(wanted))
        for one, other in zip(got, wanted, strict=True):
            np.testing.assert_array_equal(one, other)

    def frames_of(self, source: Any) -> list[np.ndarray]:
        self.addCleanup(source.close)
        return [source.read(n) for n in range(source.info.frames)]

    def source_frame(self, number: int) -> np.ndarray:
        name, first = ("q9_012_quay.mkv", 100) if number < 300 else ("another name.mkv", 300)
        source = open_source(self.folder / name)
        self.addCleanup(source.close)
        return source.read(number - first)

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
        self.ask("post", f"/jobs/{self.job.pk}/renders", {"formats": ["betamax"]}, 422)
        self.ask("get", f"/timelines/{sent['id']}/out?format=ffv1", None, 422)
