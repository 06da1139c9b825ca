"""The API without background work: jobs, footage coming in, patches, plans, pictures, refusals."""

from __future__ import annotations

import functools
import io
import json
import shutil
import tempfile
import threading
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from django.conf import settings
from django.test import TestCase
from PIL import Image

from tests.clips import temporary_folder
from yellowclean.cli import main
from yellowclean.engine.measure.patch import Patch
from yellowclean.engine.measure.report import SurveyReport
from yellowclean.engine.media import open_source
from yellowclean.engine.plan import plan_from_json
from yellowclean.engine.survey import survey
from yellowclean.engine.testcamera import Camera, ShotRecipe, shoot
from yellowclean.server.api.frames import _lanes
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

    def test_pictures_are_lossless_and_regions_match_the_whole(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        source = self.picture(shot, "n=1&view=source")
        exact = np.clip(open_source(shot.path).read(1), 0, 1) * 255
        self.assertLess(np.abs(source - exact).max(), 1, "dither stays below a code value")
        smooth = cv2.blur(source.astype(np.float32), (8, 8)) - cv2.blur(exact.astype(np.float32), (8, 8))
        self.assertLess(np.abs(smooth[8:-8, 8:-8]).max(), 0.3)
        self.assertFalse(np.array_equal(source, np.rint(exact)))
        whole = self.picture(shot, f"n=1&view=result&version_id={version}")
        part = self.picture(shot, f"n=1&view=result&version_id={version}&region=64,32,64,64")
        np.testing.assert_array_equal(part, whole[32:96, 64:128])
        removed = self.picture(shot, f"n=1&view=removed&version_id={version}").astype(float)
        self.assertLess(abs(removed.mean() - 127.5), 4)
        self.assertGreater(removed.std(), 20)
        self.assertEqual(self.picture(shot, "n=1&scale=0.5").shape, (64, 96, 3))

    def test_a_reach_is_shown_sampled_and_moved(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        keys = [{"frame": n, "points": [[40 + n, 60], [60 + n, 60], [40 + n, 80]]} for n in (0, 2)]
        plan = version["plan"]
        plan["steps"][1] |= {
            "enabled": False,
            "reach": {"shapes": [{"kind": "ellipse", "keys": keys, "soft_px": 1}]},
        }
        changed = self.ask("put", f"/versions/{version['id']}", {"plan": plan})
        self.assertEqual(changed["matte_keys"][0], version["matte_keys"][0])
        self.assertNotEqual(changed["matte_keys"][1], version["matte_keys"][1])

        view = f"view=reach&version_id={version['id']}"
        matte = self.picture(shot, f"n=1&step=1&{view}")
        y, x = (np.average(axis, weights=matte[..., 0]) for axis in np.indices(matte.shape[:2]))
        self.assertAlmostEqual(float(x), 40.5, delta=0.2)
        self.assertAlmostEqual(float(y), 59.5, delta=0.2)
        self.assertEqual(self.picture(shot, f"n=1&step=0&{view}").min(), 255)
        where = self.ask("get", f"/versions/{version['id']}/steps/1/shapes?n=1")
        self.assertEqual(where, [[[41, 60], [61, 60], [41, 80]]])
        for refused in (
            self.ask("get", f"/shots/{shot.pk}/frame?n=1&step=7&{view}", status=422),
            self.ask("get", f"/versions/{version['id']}/steps/7/shapes?n=1", status=422),
        ):
            self.assertIn("step 7 does not exist", refused["detail"])

        source = open_source(shot.path).read(1)
        colourful = cv2.blur(source.max(axis=2) - source.min(axis=2), (13, 13))[20:-20, 20:-20]
        row, column = np.unravel_index(np.argmax(colourful), colourful.shape)
        place = {"n": 1, "x": int(column) + 20, "y": int(row) + 20}
        hue = self.ask("post", f"/versions/{version['id']}/steps/1/hue", place)
        plan["steps"][1]["reach"] = {"hues": [hue]}
        self.ask("put", f"/versions/{version['id']}", {"plan": plan})
        sampled = self.picture(shot, f"n=1&step=1&{view}")[place["y"], place["x"], 0]
        self.assertEqual(sampled, 255)
        self.assertEqual(
            set(self.ask("get", "/reach")["parts"]), {"tones", "huesample", "shape", "detail", "cleanup"}
        )

    def test_a_strip_and_its_pictures(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        body = {"step": 1, "setting": "luma", "n": 1, "x": 32, "y": 16, "width": 96, "height": 80}
        strip = self.ask("post", f"/versions/{version}/strip", body)
        values = [rung["value"] for rung in strip["rungs"]]
        self.assertEqual(values, [0, 35, 65, 100, 135, 165, 200])
        query = f"n=1&view=result&version_id={version}&region=32,16,96,80&step=1&setting=luma"
        tiles = [self.picture(shot, f"{query}&value={value}").astype(float) for value in values]
        self.assertGreater(np.abs(tiles[0] - tiles[3]).mean(), 0.1)
        refused = self.ask("post", f"/versions/{version}/strip", body | {"setting": "depth"}, 422)
        self.assertIn("no such setting", refused["detail"])
        self.assertIn("200", self.ask("get", f"/shots/{shot.pk}/frame?{query}&value=900", status=422)["detail"])

    def test_a_pixel_is_read_in_code_values_on_both_sides(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        asked = f"/shots/{shot.pk}/pixel?n=1&x=40&y=50&version_id={version}"
        self.assertIsNone(self.ask("get", asked)["result"])  # nothing is made for a read-out
        shown = self.picture(shot, f"n=1&view=result&version_id={version}&region=27,37,41,43")[13, 13]
        read = self.ask("get", asked)
        np.testing.assert_allclose(read["source"], open_source(shot.path).read(1)[50, 40] * 1023, atol=1e-3)
        np.testing.assert_allclose(np.array(read["result"]) / 1023 * 255, shown, atol=1)
        self.assertIsNone(self.ask("get", f"/shots/{shot.pk}/pixel?n=1&x=40&y=50")["result"])
        self.ask("get", f"/shots/{shot.pk}/pixel?n=1&x=900&y=50", status=422)

    def test_a_kept_picture_waits_for_no_other_work(self) -> None:
        shot, query = self.surveyed_shot(), "n=0&view=source&region=3,5,31,29"
        made, freed = self.picture(shot, query), threading.Event()
        self.addCleanup(freed.set)
        threading.Timer(20, freed.set).start()
        for _ in range(4):
            _lanes.submit(lambda _: freed.wait(30))
        np.testing.assert_array_equal(self.picture(shot, query), made)
        self.assertFalse(freed.is_set())

    def test_views_of_one_signal_and_under_stress(self) -> None:
        shot = self.surveyed_shot()
        plain = self.picture(shot, "n=1")
        green = self.picture(shot, "n=1&signal=g")
        np.testing.assert_array_equal(green, plain[..., [1, 1, 1]])
        self.assertGreater(self.picture(shot, "n=1&stress=60").std(), 1.5 * plain.std())
        self.assertIn("100", self.ask("get", f"/shots/{shot.pk}/frame?n=1&stress=101", status=422)["detail"])

    def test_a_draft_is_half_as_large_and_looks_like_the_result(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        query = f"n=1&view=result&version_id={version['id']}"
        exact, draft = self.picture(shot, query), self.picture(shot, f"{query}&draft=true")
        source = self.picture(shot, "n=1&view=source")
        self.assertEqual(draft.shape[0] * 2, exact.shape[0])
        size = draft.shape[1::-1]
        small, noisy = (
            cv2.resize(p.astype(np.float32), size, interpolation=cv2.INTER_AREA) for p in (exact, source)
        )
        self.assertLess(np.abs(draft - small).mean(), 0.6 * np.abs(noisy - small).mean())

    def picture(self, shot: Shot, query: str) -> np.ndarray:
        response = self.client.get(f"/api/shots/{shot.pk}/frame?{query}")
        self.assertEqual(response["Content-Type"], "image/png", response.content[:200])
        return np.array(Image.open(io.BytesIO(response.content)))

    def test_pictures_that_do_not_exist(self) -> None:
        shot = self.surveyed_shot()
        cases = {"n=99": 422, "n=0&region=500,500,10,10": 422, "n=0&view=result&version_id=77": 404}
        for query, status in cases.items():
            with self.subTest(query):
                refused = self.ask("get", f"/shots/{shot.pk}/frame?{query}", status=status)
                self.assertNotIn("\n", refused["detail"])

    def test_treatments_formats_and_the_page(self) -> None:
        kinds = [t["kind"] for t in self.ask("get", "/treatments")]
        self.assertEqual(
            kinds,
            [
                "repeats",
                "interlace",
                "flicker",
                "specks",
                "temporal",
                "spatial",
                "compression",
                "moire",
                "bands",
                "sharpen",
                "enlarge",
                "resize",
                "tone",
                "tint",
                "glow",
                "convert",
                "grade",
                "grain",
            ],
        )
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
