"""Footage coming in, and the addresses that it comes by."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

from django.conf import settings
from django.test import TestCase, override_settings

from tests.server.test_api import ApiCase, footage
from yellowclean.server import use_cases
from yellowclean.server.api import api
from yellowclean.server.models import Job, Shot


class Addresses(TestCase):
    def test_every_address_answers_to_all_its_methods(self) -> None:
        """The framework takes the first router that knows an address, whatever it does there."""
        seen: dict[str, str] = {}
        for prefix, router in api._routers:
            for path in router.path_operations:
                self.assertNotIn(f"{prefix}{path}", seen)
                seen[f"{prefix}{path}"] = path
        self.assertGreater(len(seen), 60)


class Incoming(ApiCase):
    def send(self, token: str, name: str, data: bytes, offset: int = 0) -> Any:
        path = f"/api/jobs/{self.job.pk}/uploads/{token}/files/{name}?offset={offset}"
        response = self.client.put(path, data, content_type="application/octet-stream")
        return response.json()

    def test_upload_in_chunks_resumes_and_becomes_a_shot(self) -> None:
        data = footage(self.folder).read_bytes()
        token = self.ask("post", f"/jobs/{self.job.pk}/uploads")["token"]
        half = len(data) // 2
        self.send(token, "dusk.mkv", data[:half])
        again = self.send(token, "dusk.mkv", data[:half])  # a chunk sent twice is taken once
        self.assertEqual(again["received"], {"dusk.mkv": half})
        self.send(token, "dusk.mkv", data[half:], half)
        added = self.ask("post", f"/jobs/{self.job.pk}/uploads/{token}/complete")
        self.assertEqual([s["name"] for s in added["shots"]], ["dusk"])
        self.assertEqual(added["shots"][0]["media"]["frames"], 4)
        shot = Shot.objects.get()
        self.ask("delete", f"/shots/{shot.pk}", status=204)
        self.assertFalse(Path(shot.path).exists())

    def test_a_folder_of_pictures_becomes_one_shot_and_bad_files_are_named(self) -> None:
        pattern = footage(self.folder, codec="tiff")
        token = self.ask("post", f"/jobs/{self.job.pk}/uploads")["token"]
        for picture in sorted(pattern.parent.glob("*.tif")):
            self.send(token, picture.name, picture.read_bytes())
        self.send(token, "notes.txt", b"to do")
        self.send(token, "broken.mov", b"\0" * 400)
        added = self.ask("post", f"/jobs/{self.job.pk}/uploads/{token}/complete")
        self.assertEqual([(s["name"], s["media"]["frames"]) for s in added["shots"]], [("dusk", 4)])
        self.assertEqual(len(added["refused"]), 2)
        self.assertTrue(all(line.split(":")[0] in {"notes.txt", "broken.mov"} for line in added["refused"]))
        again = self.ask("post", f"/jobs/{self.job.pk}/uploads/{token}/complete")
        self.assertEqual([s["id"] for s in again["shots"]], [s["id"] for s in added["shots"]])
        self.assertEqual(again["refused"], [], "what was refused is gone")
        self.assertEqual(Shot.objects.count(), 1)

    def test_a_file_that_a_library_stumbles_over_spoils_no_other(self) -> None:
        token = self.ask("post", f"/jobs/{self.job.pk}/uploads")["token"]
        data = footage(self.folder).read_bytes()
        for name in ("a.mkv", "b.mkv"):
            self.send(token, name, data)
        real = use_cases.add_shot

        def stumbling(job: Job, path: Path) -> Shot:
            if path.name == "a.mkv":
                raise RuntimeError("unexpected\nend of the world")
            return real(job, path)

        with mock.patch.object(use_cases, "add_shot", stumbling):
            added = self.ask("post", f"/jobs/{self.job.pk}/uploads/{token}/complete")
        self.assertEqual([s["name"] for s in added["shots"]], ["b"])
        self.assertEqual(added["refused"], ["a.mkv: unexpected end of the world"])

    def test_names_and_tokens_cannot_leave_the_folder(self) -> None:
        token = self.ask("post", f"/jobs/{self.job.pk}/uploads")["token"]
        for name in ("..%5C..%5Cx", ".hidden.mkv"):
            self.assertIn("can be stored", self.send(token, name, b"1")["detail"])
        self.assertIn("does not exist", self.send("a-b", "x.mkv", b"1")["detail"])
        empty = self.ask("post", f"/jobs/{self.job.pk}/uploads/{token}/complete", status=422)
        self.assertIn("Nothing was uploaded", empty["detail"])

    def test_import_reads_only_allowed_folders(self) -> None:
        path = footage(self.folder)
        options = replace(settings.YELLOW_CLEAN, media_folders=(self.folder.resolve(),))
        with override_settings(YELLOW_CLEAN=options):
            self.assertEqual(len(self.ask("get", "/folders")), 1)
            listed = self.ask("get", f"/folders?path={self.folder}")
            self.assertIn("dusk.mkv", [entry["name"] for entry in listed])
            added = self.ask("post", f"/jobs/{self.job.pk}/import?path={path}")
            self.assertEqual(added["shots"][0]["name"], "dusk")
            for outside in ("/etc/passwd", f"{self.folder}/../../etc"):
                self.assertIn(
                    "not in a folder",
                    self.ask("post", f"/jobs/{self.job.pk}/import?path={outside}", status=422)["detail"],
                )
        self.assertTrue(path.exists())

    def test_footage_added_is_measured_unasked_where_the_settings_say_so(self) -> None:
        path = footage(self.folder)
        for wanted in (False, True):
            told = replace(settings.YELLOW_CLEAN, media_folders=(self.folder.resolve(),), measure_added=wanted)
            with override_settings(YELLOW_CLEAN=told):
                added = self.ask("post", f"/jobs/{self.job.pk}/import?path={path}")
            survey = next(
                s for s in self.ask("get", f"/jobs/{self.job.pk}/shots") if s["id"] == added["shots"][0]["id"]
            )
            self.assertEqual(survey["survey"] is not None, wanted)
