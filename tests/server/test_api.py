"""The API without background work: jobs, footage coming in, patches, plans, refusals."""

from __future__ import annotations

import functools
import io
import json
import shutil
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test import TestCase

from tests.clips import temporary_folder
from yellowclean.cli import main
from yellowclean.engine.measure.patch import Patch
from yellowclean.engine.measure.report import SurveyReport
from yellowclean.engine.media import open_source
from yellowclean.engine.plan import plan_from_json
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, ShotRecipe, shoot
from yellowclean.server.models import Job, PlanVersion, Shot, Survey
from yellowclean.server.use_cases import add_shot, keep_survey, request_survey


def footage(folder: Path, scene: str = "dusk", codec: str = "ffv1", frames: int = 4) -> Path:
    recipe = ShotRecipe(
        name=scene,
        scene=scene,
        width=192,
        height=128,
        frames=frames,
        codec=codec,
        camera=Camera(stops_under=3),  # type: ignore[arg-type]
    )
    return shoot(recipe, folder)


@functools.cache
def measured_footage() -> tuple[Path, SurveyReport]:
    """Footage and its survey, made once."""
    folder = Path(tempfile.mkdtemp(dir=settings.YELLOW_CLEAN.data))
    path = footage(folder)
    return path, survey(open_source(path))


class ApiCase(TestCase):
    def setUp(self) -> None:
        self.folder = temporary_folder(self)
        self.job = Job.objects.create(name="Quay Nine")

    def ask(self, method: str, path: str, body: Any = None, status: int = 200) -> Any:
        send = getattr(self.client, method)
        kwargs = {} if body is None else {"data": json.dumps(body), "content_type": "application/json"}
        response = send(f"/api{path}", **kwargs)
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json() if response.content else None

    def left_by(self, version: Any) -> Any:
        """What a version leaves, once all of it is measured."""
        told = self.ask("get", f"/versions/{version['id']}/remaining")
        while told["left"]["coming"]:
            told = self.ask("get", f"/versions/{version['id']}/remaining")
        return told

    def surveyed_shot(self) -> Shot:
        """A shot of its own file, measured: the same footage and survey for all tests."""
        path, report = measured_footage()
        shot = add_shot(self.job, Path(shutil.copy2(path, self.folder)))
        keep_survey(shot, report)
        return shot


class Jobs(ApiCase):
    def test_create_rename_list_delete(self) -> None:
        made = self.ask("post", "/jobs", {"name": " Reel 2 "})
        self.assertEqual(made["name"], "Reel 2")
        self.ask("patch", f"/jobs/{made['id']}", {"name": "Reel two"})
        self.assertEqual([j["name"] for j in self.ask("get", "/jobs")], ["Reel two", "Quay Nine"])  # newest first
        self.ask("delete", f"/jobs/{made['id']}", status=204)
        self.ask("get", f"/jobs/{made['id']}/shots", status=404)
        self.assertIn("needs a name", self.ask("post", "/jobs", {"name": "  "}, 422)["detail"])

    def test_tolerances_are_the_jobs_own_and_change_what_lies_outside(self) -> None:
        shot = self.surveyed_shot()
        noise = next(f for f in (shot.survey or {})["findings"] if f["kind"] == "noise")["value"]

        def sheet() -> dict[str, Any]:
            findings = self.ask("get", f"/jobs/{self.job.pk}/shots")[0]["findings"]
            return next(f for f in findings if f["kind"] == "noise")

        self.assertTrue(sheet()["outside"])
        kept = self.ask("patch", f"/jobs/{self.job.pk}", {"tolerances": {"noise": 2 * noise, "flicker": 0.7}})
        self.assertEqual(kept["tolerances"], {"noise": 2 * noise})  # a default is not kept
        self.assertEqual((sheet()["tolerance"], sheet()["outside"]), (2 * noise, False))
        detail = self.ask("get", f"/shots/{shot.pk}")
        self.assertIn(2 * noise, [f["tolerance"] for f in detail["report"]["findings"]])
        for wrong in ({"warmth": 1.0}, {"noise": -1.0}):
            refused = self.ask("patch", f"/jobs/{self.job.pk}", {"tolerances": wrong}, 422)
            self.assertRegex(refused["detail"], "no such finding|out of range")
        self.assertEqual(sheet()["tolerance"], 2 * noise)
        kinds = self.ask("get", "/findings")
        self.assertEqual([k["kind"] for k in kinds], [f["kind"] for f in detail["findings"]])

    def test_a_profile_goes_to_all_measured_shots_and_to_those_of_its_camera(self) -> None:
        first, second = self.surveyed_shot(), self.surveyed_shot()
        add_shot(self.job, footage(self.folder))  # not measured
        saved = self.ask("post", f"/shots/{first.pk}/profile", {"name": "Quay cam"})
        self.assertEqual((saved["camera"], saved["gain"]), ("Test camera", "ISO 3200"))
        self.assertEqual(self.ask("get", f"/shots/{second.pk}")["matching_profile"], saved["id"])
        proposed = self.ask("post", f"/jobs/{self.job.pk}/propose", {"profile_id": saved["id"]})
        shots = proposed["shots"]
        self.assertEqual([s["versions"] for s in shots], [["A"], ["A"], []])
        self.ask("post", f"/jobs/{self.job.pk}/propose", {"by": "camera", "shot_ids": [second.pk]})
        self.assertEqual(list(second.versions.values_list("label", flat=True)), ["A", "B"])
        names = {v.plan.profile.name for v in second.versions.all() if v.plan.profile}
        self.assertEqual(names, {"Quay cam"})

    def test_the_contact_sheet_costs_a_fixed_number_of_queries(self) -> None:
        path = footage(self.folder)
        for _ in range(3):
            add_shot(self.job, path)
        with self.assertNumQueries(5):
            self.assertEqual(len(self.ask("get", f"/jobs/{self.job.pk}/shots")), 3)

    def test_another_origin_may_not_write(self) -> None:
        response = self.client.post(
            "/api/jobs", "{}", content_type="application/json", HTTP_ORIGIN="http://evil.example"
        )
        self.assertEqual(response.status_code, 403)
        for site, status in (("cross-site", 403), ("same-site", 403), ("same-origin", 422), ("none", 422)):
            asked: dict[str, Any] = {"content_type": "application/json", "HTTP_SEC_FETCH_SITE": site}
            self.assertEqual(self.client.post("/api/jobs", "{}", **asked).status_code, status, site)

    def test_every_answer_says_what_a_page_may_do_and_other_names_are_refused(self) -> None:
        script = next((settings.WEB_DIST / "assets").glob("*.js")).name
        for path in ("/", f"/static/assets/{script}", "/api/jobs", "/api/shots/999", "/static/nothing.js"):
            with self.subTest(path):
                answer = self.client.get(path)
                policy = answer.headers["Content-Security-Policy"]
                self.assertIn("frame-ancestors 'none'", policy)
                self.assertNotIn("unsafe-inline", policy.split("script-src")[1].split(";")[0])
                self.assertEqual(answer.headers["Cross-Origin-Resource-Policy"], "same-origin")
                self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
                self.assertEqual(self.client.get(path, HTTP_HOST="evil.example").status_code, 400)


class Bench(ApiCase):
    def on_the_sheet(self, kind: str) -> Any:
        sheet = self.ask("get", f"/jobs/{self.job.pk}/shots")[0]
        return next(f for f in sheet["findings"] if f["kind"] == kind)

    def test_propose_change_and_measure_what_is_left(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        self.assertEqual((version["label"], len(version["plan"]["steps"])), ("A", 2))
        left = self.left_by(version)
        stands = {s["kind"]: s for s in left["standings"]}
        left = left["left"]
        self.assertEqual(left["basis"], "patches")
        noise = next(f for f in (shot.survey or {})["findings"] if f["kind"] == "noise")["value"]
        self.assertLess(left["values"]["noise"], 0.4 * noise)
        sheet = self.ask("get", f"/jobs/{self.job.pk}/shots")[0]
        kept = next(f for f in sheet["findings"] if f["kind"] == "noise")
        self.assertEqual(kept["remaining"], left["values"]["noise"])
        self.assertEqual(kept, stands["noise"])

        version["plan"]["steps"][1]["mix"] = 30
        changed = self.ask("put", f"/versions/{version['id']}", {"plan": version["plan"]})
        self.assertNotEqual(changed["key"], version["key"])
        self.assertIsNone(self.on_the_sheet("noise")["remaining"], "a figure of another plan is shown")
        self.left_by(version)
        self.assertGreater(self.on_the_sheet("noise")["remaining"], left["values"]["noise"])
        self.assertEqual(self.ask("post", f"/shots/{shot.pk}/propose", {})["label"], "B")

    def test_a_step_added_by_hand_begins_with_what_was_measured(self) -> None:
        shot = self.surveyed_shot()
        offered = self.ask("get", f"/shots/{shot.pk}/offer?kind=grain")
        self.assertEqual((offered["kind"], offered["settings"]), ("grain", {}))
        kept = next(f for f in (shot.survey or {})["findings"] if f["kind"] == "softness")
        kept["value"], kept["confidence"] = 4.0, 1.0
        shot.save()
        blur = self.ask("get", f"/shots/{shot.pk}/offer?kind=sharpen")["settings"]["blur"]
        self.assertAlmostEqual(blur, ((4.0 / 2.563) ** 2 - 1 / 12) ** 0.5, delta=0.01)
        self.assertIn("no such treatment", self.ask("get", f"/shots/{shot.pk}/offer?kind=x", status=422)["detail"])

    def test_the_command_line_proposes_what_the_bench_does(self) -> None:
        shot = self.surveyed_shot()
        proposal = self.ask("get", f"/shots/{shot.pk}/proposal")
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        self.assertEqual(version["plan"], proposal["plan"])
        out, said = self.folder / "plan.json", io.StringIO()
        with redirect_stdout(said), redirect_stderr(io.StringIO()):
            self.assertEqual(main(["propose", shot.path, "--out", str(out)]), 0)
        typed, made = plan_from_json(out.read_text()), PlanVersion.objects.get(pk=version["id"]).plan
        self.assertEqual(typed.steps, made.steps)
        self.assertEqual(typed.profile.curve, made.profile.curve)  # type: ignore[union-attr]
        for finding in proposal["untreated"]:
            self.assertIn(f"Not treated: {finding['kind']} ", said.getvalue())
            self.assertIn(finding["instead"], said.getvalue())
        some = self.ask("post", f"/shots/{shot.pk}/propose", {"steps": [1]})
        self.assertEqual([s["kind"] for s in some["plan"]["steps"]], ["spatial"])
        self.assertIn(
            "look at it again", self.ask("post", f"/shots/{shot.pk}/propose", {"steps": [7]}, 422)["detail"]
        )

    def test_a_version_changed_from_elsewhere_is_not_written_over(self) -> None:
        version = self.ask("post", f"/shots/{self.surveyed_shot().pk}/propose", {})
        path, body = f"/versions/{version['id']}", {"plan": version["plan"], "revision": version["revision"]}
        self.assertEqual(self.ask("put", path, body)["revision"], version["revision"] + 1)
        self.assertIn("from elsewhere", self.ask("put", path, body, status=409)["detail"])
        self.assertEqual(self.ask("put", path, {"plan": version["plan"]})["revision"], version["revision"] + 2)

    def test_wrong_plans_are_refused_and_the_old_one_is_kept(self) -> None:
        version = self.ask("post", f"/shots/{self.surveyed_shot().pk}/propose", {})
        before = PlanVersion.objects.get().document
        version["plan"]["steps"][0]["settings"]["frames"] = 99
        refused = self.ask("put", f"/versions/{version['id']}", {"plan": version["plan"]}, 422)
        self.assertIn("frames", refused["detail"])
        self.assertNotIn("\n", refused["detail"])
        self.assertEqual(PlanVersion.objects.get().document, before)

    def test_an_input_space_is_kept_for_the_camera_and_measured_by_again(self) -> None:
        shot = self.surveyed_shot()
        twin = add_shot(shot.job, Path(shot.path))
        patch = {"frame": 1, "x": 8, "y": 8, "width": 32, "height": 32}
        request_survey(shot, [Patch.model_validate(patch)])
        before = self.ask("get", f"/shots/{shot.pk}")
        self.assertEqual(before["input_space"]["sure"], "tagged")
        self.ask("put", f"/shots/{shot.pk}/input-space", {"space": "nonsense"}, 422)
        self.ask("put", f"/shots/{shot.pk}/input-space", {"space": "ACEScct", "whole_camera": True}, 204)
        after, other = (self.ask("get", f"/shots/{s.pk}") for s in (shot, twin))
        self.assertEqual((after["input_space"]["space"], other["input_space"]["space"]), ("ACEScct", "ACEScct"))
        self.assertEqual(after["survey"]["state"], "queued")
        self.assertGreater(after["survey"]["id"], before["survey"]["id"])
        self.assertEqual(Survey.objects.get(pk=after["survey"]["id"]).patches, [patch], "by the same patches")
        self.assertIsNone(other["survey"], "what was not measured is not measured now")
        self.assertNotEqual(after["picture_key"], before["picture_key"])
        self.assertEqual(add_shot(shot.job, Path(shot.path)).space, "ACEScct", "shots to come too")
        self.ask("put", f"/shots/{twin.pk}/input-space", {"space": ""}, 204)
        self.assertEqual(self.ask("get", f"/shots/{twin.pk}")["input_space"]["sure"], "tagged")
        self.assertEqual(self.ask("get", f"/shots/{shot.pk}")["input_space"]["sure"], "chosen")

    def test_unmeasured_shots_cannot_be_proposed_for(self) -> None:
        shot = add_shot(self.job, footage(self.folder))
        self.assertIn("measure it first", self.ask("post", f"/shots/{shot.pk}/propose", {}, 422)["detail"])

    def test_patches_are_judged(self) -> None:
        shot = self.surveyed_shot()
        patch = (shot.survey or {})["patches"][0]["patch"]
        verdict = self.ask("post", f"/shots/{shot.pk}/patch", patch)
        self.assertTrue(verdict["reading"]["flat"])
        self.assertIsNone(verdict["better"])
        refused = self.ask("post", f"/shots/{shot.pk}/patch", patch | {"width": 8})
        self.assertEqual((refused["reading"]["flat"], refused["reading"]["reason"]), (False, "too small"))
        better = refused["better"]
        self.assertTrue(better["flat"])
        again = self.ask("post", f"/shots/{shot.pk}/patch", better["patch"])
        self.assertEqual(again["reading"], better)
        outside = self.ask("post", f"/shots/{shot.pk}/patch", patch | {"x": 190}, 422)
        self.assertIn("reaches outside", outside["detail"])

    def test_treatments_formats_and_the_page(self) -> None:
        kinds = [t["kind"] for t in self.ask("get", "/treatments")]
        wanted = """
            interlace repeats flicker specks temporal spatial compression moire bands full-colour sharpen enlarge
            resize tone tint glow convert grade grain
        """
        self.assertEqual(kinds, wanted.split())
        formats = {f["name"]: f["lost"] for f in self.ask("get", f"/shots/{self.surveyed_shot().pk}/formats")}
        self.assertEqual(formats["ffv1"], [])
        self.assertTrue(any("fineness of colour" in lost for lost in formats["h264"]), formats)
        self.assertContains(self.client.get("/shots/1"), '<div id="app">')


class Profiles(ApiCase):
    def test_save_search_export_import_fit_and_propose_by(self) -> None:
        shot = self.surveyed_shot()
        tags = {"name": "Quay cam, ISO 3200", "camera": "Quay cam", "gain": "ISO 3200", "notes": "night"}
        saved = self.ask("post", f"/shots/{shot.pk}/profile", tags)
        self.assertGreater(saved["luma_cv"], 3)
        self.assertEqual(len(self.ask("get", "/profiles?search=quay 3200")), 1)
        self.assertEqual(self.ask("get", "/profiles?search=quay 800"), [])
        fit = self.ask("get", f"/shots/{shot.pk}/profiles/{saved['id']}/fit")
        self.assertTrue(fit["fits"])
        self.assertAlmostEqual(fit["typical"], 1, places=3)

        document = self.client.get(f"/api/profiles/{saved['id']}/file").content
        louder = json.loads(document)
        for name in ("r_cv", "g_cv", "b_cv", "luma_cv", "cb_cv", "cr_cv"):
            louder["curve"][name] = [2 * v for v in louder["curve"][name]]
        imported = self.ask("post", "/profiles/import?name=louder.json", louder)
        fit = self.ask("get", f"/shots/{shot.pk}/profiles/{imported['id']}/fit")
        self.assertEqual((fit["fits"], round(fit["typical"], 2)), (False, 0.5))
        version = self.ask("post", f"/shots/{shot.pk}/propose", {"profile_id": imported["id"]})
        self.assertEqual(version["plan"]["profile"]["curve"], louder["curve"])

        broken = self.ask("post", "/profiles/import?name=x.json", {"curve": 3}, 422)
        self.assertTrue(broken["detail"].startswith("x.json: curve"))
        self.assertIn("needs a name", self.ask("post", f"/shots/{shot.pk}/profile", {"name": " "}, 422)["detail"])
        self.ask("delete", f"/profiles/{saved['id']}", status=204)
        self.assertEqual(len(self.ask("get", "/profiles")), 1)
