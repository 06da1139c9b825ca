"""Wild requests: numbers beyond all rows, text that cannot be kept, paths that are none. None answers 5xx."""

from __future__ import annotations

import json
from typing import Any
from urllib.parse import quote

import numpy as np
from django.conf import settings
from django.test import TransactionTestCase

from tests.clips import described, temporary_folder
from tests.engine.test_reel import FILM, medium
from yellowclean.engine.media import destination, open_writer
from yellowclean.engine.plan import Plan
from yellowclean.server.models import Job, Render, State
from yellowclean.server.rendering import request_render
from yellowclean.server.use_cases import add_shot, new_version

BEYOND = 10**30
IDS = BEYOND, 2**63, -1, 0
TEXTS = "a\x00b", "\ud800", "x" * 100_000, "", "../x", "a/b"
DOCUMENTS = "", "{", "[]", "null", '{"a":' * 3000 + "1" + "}" * 3000, '{"name":NaN}', '{"name":1e999}', "\xff"


class Wild(TransactionTestCase):
    def setUp(self) -> None:
        allowed = settings.YELLOW_CLEAN.media_folders[0]
        allowed.mkdir(parents=True, exist_ok=True)
        self.folder = temporary_folder(self, allowed)
        (self.folder / "loop").symlink_to(self.folder / "loop")
        self.job = Job.objects.create(name="Wild")
        self.shot = add_shot(self.job, medium(self.folder / "a.mkv", 1, 6, FILM, None))
        self.version = new_version(self.shot, Plan())
        self.client.raise_request_exception = False

    def send(self, method: str, path: str, body: Any = None) -> None:
        """Ask, and expect an answer in words."""
        data = body if isinstance(body, str | bytes) else json.dumps(body)
        kwargs = {} if method == "get" else {"data": data, "content_type": "application/json"}
        answer = getattr(self.client, method)(f"/api{path}", **kwargs)
        with self.subTest(method, path=path[:120], body=str(body)[:60]):
            self.assertLess(answer.status_code, 500)
            if answer.status_code >= 400:
                self.assertNotIn(b"Traceback", answer.content)
                self.assertLess(len(answer.content), 1200)

    def test_ids_that_no_row_has(self) -> None:
        job = self.job.pk
        for pk in IDS:
            for path in (
                "/shots/{}", "/jobs/{}/shots", "/jobs/{}/renders", "/jobs/{}/note", "/jobs/{}/packed",
                "/renders/{}", "/jobs/{}/noise-groups", "/renders/{}/file", "/timelines/{}/out?format=ffv1",
                "/shots/{}/frame?n=0",
                "/profiles/{}/file",
            ):  # fmt: skip
                self.send("get", path.format(pk))
            for path, body in (
                ("/renders", {"version_id": pk, "format": "ffv1"}), ("/render-order", {"ids": [pk]}),
                (f"/renders/{pk}/cancel", {}), (f"/renders/{pk}/stand-in", {}),
                (f"/shots/{pk}/scenes", {"cuts": [pk]}),
                (f"/jobs/{job}/measure", {"shot_ids": [pk]}), (f"/jobs/{job}/take-back", {"version_ids": [pk]}),
                (f"/jobs/{job}/looks", {"of": pk, "shot_ids": [pk]}), (f"/jobs/{job}/propose", {"profile_id": pk}),
                (f"/jobs/{job}/apply", {"shot_ids": [pk], "steps": [{"kind": "spatial"}]}),
                (f"/versions/{pk}/cost?n={pk}", {}), (f"/versions/{pk}/tune", {}),
            ):  # fmt: skip
                self.send("post", path, body)
            self.send("put", f"/jobs/{job}/looks", [{"shot_id": pk, "look": {}}])
            self.send("delete", f"/shots/{pk}")

    def test_places_that_no_picture_has(self) -> None:
        shot, version = self.shot.pk, self.version.pk
        for query in (
            "region=a,b,c,d", "region=0,0,0,0", f"region=0,0,{BEYOND},{BEYOND}", "region=1,2,3", "scale=nan",
            "scale=inf", "scale=-1", "scale=1e-300", "stress=nan", "gain=nan", "view=nope", f"version_id={BEYOND}",
            f"view=reach&step={BEYOND}&version_id={version}", f"view=own&own=%00&step=0&version_id={version}",
        ):  # fmt: skip
            self.send("get", f"/shots/{shot}/frame?n=0&{query}")
        for n in (BEYOND, -1, 6):
            self.send("get", f"/shots/{shot}/frame?n={n}")
            self.send("get", f"/shots/{shot}/pixel?n={n}&x={n}&y={n}")
            self.send("get", f"/shots/{shot}/timecode?n={n}")
        for frames, x, y, width, height in (
            ([BEYOND], 0, 0, 64, 48), ([0], BEYOND, -BEYOND, 64, 48), ([0] * 9, 0, 0, 1, 1), ([6], 0, 0, 48, 32),
        ):  # fmt: skip
            part = {"x": x, "y": y, "width": width, "height": height}
            self.send("post", f"/versions/{version}/overwork", {"frames": frames, "part": part})
        for size in (0, 1, -3, BEYOND, 300):
            self.send("get", f"/shots/{shot}/look/cube?size={size}")
        for first, stop in ((-BEYOND, BEYOND), (2**62, 2**63), (3, 3)):
            body = {"version_id": version, "format": "ffv1", "first": first, "stop": stop}
            self.send("post", "/renders", body)

    def test_texts_and_paths(self) -> None:
        shot, job, version = self.shot.pk, self.job.pk, self.version.pk
        for text in TEXTS:
            self.send("post", "/jobs", {"name": text})
            self.send("patch", f"/jobs/{job}", {"name": text, "wanted": {"template": text, "folder": text}})
            self.send("put", f"/versions/{version}", {"plan": {"steps": []}, "label": text, "note": text})
            self.send("post", f"/shots/{shot}/versions", {"plan": {"steps": []}, "label": text, "note": text})
            self.send("post", f"/shots/{shot}/stills", {"n": 0, "name": text})
            self.send("post", "/presets", {"name": text, "steps": [{"kind": "spatial"}]})
            self.send("put", f"/shots/{shot}/input-space", {"space": text})
            self.send("put", f"/shots/{shot}/look", {"lut": text})
            managed = {"input": text, "display": text, "view": text, "config": text}
            self.send("put", f"/shots/{shot}/look", {"managed": managed})
        encoded = [quote(text.encode("utf-8", "surrogatepass")) for text in TEXTS]
        loop = quote(str(self.folder / "loop"))
        for path in (*encoded, quote("~nobody"), "~", "/", "/etc/passwd", loop, f"{loop}/x", quote("\\")):
            self.send("get", f"/folders?path={path}")
            self.send("post", f"/jobs/{job}/import?path={path}", {})
            self.send("get", f"/shots/{shot}/look/management?config={path}")
            for place in ("/cdl", "/luts", "/packed-jobs", f"/jobs/{job}/timelines", "/profiles/import"):
                self.send("post", f"{place}?name={path}", {})
        (self.folder / "loop").unlink()

    def test_links_that_lead_elsewhere_and_names_that_cannot_be_kept(self) -> None:
        outside, inside = temporary_folder(self), self.folder / "f_1.png"
        with open_writer(destination(outside / "f_#.png"), described(32, 24, 1)) as writer:
            writer.write(np.zeros((24, 32, 3), np.float32))
        inside.symlink_to(outside / "f_0.png")
        for path in (inside, self.folder / "f_#.png"):
            answer = self.client.post(f"/api/jobs/{self.job.pk}/import?path={quote(str(path))}")
            self.assertEqual((answer.status_code, "not in a folder" in answer.json()["detail"]), (422, True))
        answer = self.client.post("/api/jobs", {"name": "a\x00b"}, "application/json")
        self.assertEqual((answer.status_code, Job.objects.count()), (422, 1))
        still = {"n": 0, "label": "123456789"}
        answer = self.client.post(f"/api/shots/{self.shot.pk}/stills", still, "application/json")
        self.assertEqual((answer.status_code, "8 characters" in answer.json()["detail"]), (422, True))

    def test_too_many_steps_and_a_file_that_has_gone(self) -> None:
        for count in (65, 800_000):
            self.send("post", f"/shots/{self.shot.pk}/versions", {"plan": {"steps": [{"kind": "repeats"}] * count}})
        self.assertEqual(self.shot.versions.count(), 1)
        render = request_render(self.version, "ffv1", (0, 3))
        Render.objects.filter(pk=render.pk).update(state=State.DONE, path=str(self.folder / "gone.mkv"))
        self.send("get", f"/renders/{render.pk}/file")
        self.send("get", f"/jobs/{self.job.pk}/delivery")

    def test_documents_that_are_none(self) -> None:
        for text in DOCUMENTS:
            for path in (
                "/jobs", f"/shots/{self.shot.pk}/versions", "/renders", f"/jobs/{self.job.pk}/propose", "/presets",
                f"/jobs/{self.job.pk}/timelines?name=a.otio", "/profiles/import?name=p",
            ):  # fmt: skip
                self.send("post", path, text)
