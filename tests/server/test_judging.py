"""The API for judging: looks, scopes and stills."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from PIL import Image

from tests.server.test_api import ApiCase
from yellowclean.engine.colour.look import Look
from yellowclean.engine.judge.scopes import histogram, traced
from yellowclean.engine.media import open_source
from yellowclean.server.models import Render, Shot

INVERTED = "LUT_1D_SIZE 2\n1 1 1\n0 0 0\n"


class JudgingCase(ApiCase):
    def setUp(self) -> None:
        super().setUp()
        self.shot = self.surveyed_shot()
        self.frame = open_source(self.shot.path).read(1)

    def send(self, path: str, data: bytes, status: int = 200) -> Any:
        response = self.client.post(f"/api{path}", data=data, content_type="application/octet-stream")
        self.assertEqual(response.status_code, status, response.content[:300])
        return response.json()

    def picture(self, path: str, status: int = 200) -> Any:
        response = self.client.get(f"/api/shots/{self.shot.pk}/{path}")
        self.assertEqual(response.status_code, status, response.content[:300])
        return np.array(Image.open(io.BytesIO(response.content))) if status == 200 else response.json()

    def look(self, status: int = 200, **parts: Any) -> Any:
        return self.ask("put", f"/shots/{self.shot.pk}/look", parts, status)


class Looks(JudgingCase):
    def test_a_look_changes_the_picture_and_nothing_that_is_measured(self) -> None:
        plain = self.picture("frame?n=1&view=source")
        told = self.ask("get", f"/shots/{self.shot.pk}")
        changed = self.look(exposure=1, cdl={"saturation": 0.5})
        expected = Look.model_validate(changed["look"]).applied(self.frame)
        shown = self.picture(f"frame?n=1&view=source&look=true&key={told['picture_key']}{changed['key']}")
        np.testing.assert_allclose(shown / 255, np.clip(expected, 0, 1), atol=1 / 255)
        np.testing.assert_array_equal(self.picture("frame?n=1&view=source"), plain)
        after = self.ask("get", f"/shots/{self.shot.pk}")
        self.assertEqual(after["report"], told["report"])
        noise = self.ask("get", f"/shots/{self.shot.pk}/look/noise")
        self.assertGreater(noise["shown_noise_cv"][2], 1.1 * noise["noise_cv"][2])

    def test_a_look_is_baked_into_a_render_alone(self) -> None:
        look = self.look(exposure=1, contrast=1.2)["look"]
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        for baked in (False, True):
            body = {"version_id": version["id"], "format": "png", "bake_look": baked}
            made = self.ask("post", "/renders", body)
            document = Render.objects.get(pk=made["id"]).plan.model_dump(mode="json")
            self.assertEqual(document["look"], look if baked else Look().model_dump(mode="json"))
        wrong = {"plan": version["plan"] | {"look": look}}
        self.assertIn("holds no look", self.ask("put", f"/versions/{version['id']}", wrong, 422)["detail"])
        self.assertIn("holds no look", self.ask("post", f"/shots/{self.shot.pk}/versions", wrong, 422)["detail"])

    def test_a_key_of_another_look_is_refused(self) -> None:
        self.look(exposure=1)
        self.assertIn("has changed", self.picture("frame?n=1&look=true&key=old", 409)["detail"])

    def test_a_look_that_cannot_be_shown_is_refused_and_the_old_one_stays(self) -> None:
        kept = self.look(contrast=1.2)["look"]
        self.assertIn("is not in a folder", self.look(422, lut="/nowhere/at_all.cube")["detail"])
        unknown = {"input": "no such space", "display": "none", "view": "none"}
        self.assertIn("cannot be shown", self.look(422, managed=unknown)["detail"])
        self.assertIn("exposure", self.look(422, exposure=99)["detail"])
        self.assertEqual(self.ask("get", f"/shots/{self.shot.pk}")["look"], kept)

    def test_luts_and_corrections_come_as_files(self) -> None:
        lut = self.send("/luts?name=inverted.cube", INVERTED.encode())
        self.assertEqual(self.send("/luts?name=again.cube", INVERTED.encode())["id"], lut["id"])
        self.look(lut=lut["path"])
        shown = self.picture("frame?n=1&view=source&look=true")
        np.testing.assert_allclose(shown / 255, 1 - np.clip(self.frame, 0, 1), atol=1.2 / 255)
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        for path, status in ((lut["path"], 200), ("/etc/passwd", 422)):
            step = {"kind": "grade", "settings": {"lut": path}}
            plan = version["plan"] | {"steps": [step]}
            self.ask("put", f"/versions/{version['id']}", {"plan": plan}, status)
        kept = self.client.get(f"/api/shots/{self.shot.pk}/look/cube?size=33")
        self.assertEqual(self.send("/luts?name=kept.cube", kept.content)["name"], "kept.cube")
        self.assertIn("bad.cube is no LUT", self.send("/luts?name=bad.cube", b"hello", 422)["detail"])
        self.look(cdl={"slope": [1.1, 1, 0.9], "saturation": 0.8})
        document = self.client.get(f"/api/shots/{self.shot.pk}/look/cdl?ending=.ccc")
        (read,) = self.send("/cdl?name=shot.ccc", document.content)
        self.assertEqual(read["cdl"]["slope"], [1.1, 1, 0.9])
        self.assertIn("bad.cdl is no ASC CDL", self.send("/cdl?name=bad.cdl", b"<a/>", 422)["detail"])

    def test_management_is_offered_with_what_the_tags_say(self) -> None:
        offered = self.ask("get", f"/shots/{self.shot.pk}/look/management")
        self.assertIn(offered["suggested"]["input"], offered["spaces"]["inputs"])
        self.look(managed=offered["suggested"])
        self.assertGreater(self.picture("frame?n=1&view=source&look=true").std(), 1)


class Scopes(JudgingCase):
    def test_a_scope_is_that_of_source_and_result_under_the_look(self) -> None:
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        look = Look.model_validate(self.look(exposure=0.5)["look"])
        drawn = self.picture("scope?n=1&kind=parade&look=true&region=16,8,64,64")
        piece = look.applied(self.frame[8:72, 16:80])
        np.testing.assert_allclose(drawn / 255, traced("parade", piece, None), atol=1 / 255)
        both = self.picture(f"scope?n=1&kind=waveform&version_id={version['id']}")
        self.assertEqual(both.max(), 255)
        counts = self.ask("get", f"/shots/{self.shot.pk}/histogram?n=1&version_id={version['id']}")
        self.assertEqual(counts["source"], histogram(self.frame).tolist())
        self.assertNotEqual(counts["result"], counts["source"])
        axes = self.ask("get", f"/shots/{self.shot.pk}/scopes?n=0")
        self.assertEqual(set(axes["targets"]), {"R", "Yl", "G", "Cy", "B", "Mg"})
        self.assertEqual((axes["unit"], axes["rungs"][-1]["label"]), ("CV", "1023"))
        hdr = version["plan"] | {"steps": [{"kind": "convert", "settings": {"target": "Rec.2100-PQ - Display"}}]}
        made = self.ask("post", f"/shots/{self.shot.pk}/versions", {"plan": hdr})
        axes = self.ask("get", f"/shots/{self.shot.pk}/scopes?n=0&version_id={made['id']}")
        white = next(rung for rung in axes["rungs"] if rung["label"] == "203")
        self.assertEqual(axes["unit"], "cd/m²")
        self.assertAlmostEqual(white["level_cv"], 594, delta=0.5)
        self.picture(f"scope?n=1&kind=gamut-uv&version_id={made['id']}")
        key = self.ask("get", f"/shots/{self.shot.pk}")["picture_key"]
        self.picture(f"scope?n=1&kind=waveform&key={key}")
        self.picture(f"scope?n=1&kind=waveform&version_id={version['id']}&key={key}{version['key']}")
        self.assertIn("has changed", self.picture(f"scope?n=1&kind=waveform&look=true&key={key}", 409)["detail"])


class Stills(JudgingCase):
    def test_a_still_stays_as_it_was_kept(self) -> None:
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        still = self.ask("post", f"/shots/{self.shot.pk}/stills", {"n": 1, "version_id": version["id"]})
        kept = self.picture(f"frame?n=1&view=result&version_id={version['id']}")
        plan = version["plan"] | {"steps": version["plan"]["steps"][:1]}
        self.ask("put", f"/versions/{version['id']}", {"plan": plan})
        self.look(exposure=2)
        changed = self.picture(f"frame?n=1&view=result&version_id={version['id']}")
        address = f"frame?n=1&view=result&still_id={still['id']}&look=true"
        np.testing.assert_array_equal(self.picture(address), kept)
        self.assertGreater(np.abs(changed.astype(int) - kept).max(), 0)
        self.ask("patch", f"/stills/{still['id']}", {"name": "Before grain"})
        (listed,) = self.ask("get", f"/jobs/{self.job.pk}/stills")
        self.assertEqual((listed["name"], listed["n"], listed["label"]), ("Before grain", 1, version["label"]))
        self.ask("delete", f"/stills/{still['id']}", status=204)
        self.assertEqual(self.ask("get", f"/jobs/{self.job.pk}/stills"), [])
        self.picture(address, 404)

    def test_a_deleted_still_comes_back_whole(self) -> None:
        self.look(exposure=1)
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        still = self.ask("post", f"/shots/{self.shot.pk}/stills", {"n": 1, "version_id": version["id"]})
        self.ask("delete", f"/stills/{still['id']}", status=204)
        self.look(exposure=0)
        content = {name: still[name] for name in ("n", "name", "label", "plan", "look")}
        back = self.ask("post", f"/shots/{self.shot.pk}/stills", content)
        same = ("n", "name", "label", "plan", "look", "key", "look_key")
        self.assertEqual({k: back[k] for k in same}, {k: still[k] for k in same})
        baked = {**content, "plan": content["plan"] | {"look": still["look"]}}
        self.assertIn("holds no look", self.ask("post", f"/shots/{self.shot.pk}/stills", baked, 422)["detail"])

    def test_a_still_of_the_source_and_of_no_frame(self) -> None:
        still = self.ask("post", f"/shots/{self.shot.pk}/stills", {"n": 99})
        self.assertEqual((still["n"], still["label"]), (self.shot.media["frames"] - 1, ""))
        self.assertEqual(Shot.objects.get(pk=self.shot.pk).stills.count(), 1)  # type: ignore[attr-defined]


class Handing(JudgingCase):
    def test_steps_go_to_other_shots_which_measure_them_by_their_own_profile(self) -> None:
        other = self.surveyed_shot()
        fresh = Shot.objects.create(
            job=self.job, name="unmeasured", path=self.shot.path, fingerprint="x", media=self.shot.media
        )
        steps = [{"kind": "spatial", "settings": {"luma": 70}}]
        ids = [self.shot.pk, other.pk, fresh.pk]
        applied = self.ask("post", f"/jobs/{self.job.pk}/apply", {"shot_ids": ids, "steps": steps, "note": "As A"})
        self.assertEqual(len(applied["versions"]), 2)
        self.assertEqual(applied["refused"], ["unmeasured: has not been measured; measure it first."])
        told = self.ask("get", f"/shots/{other.pk}")["plans"][-1]
        self.assertEqual(
            (told["note"], told["plan"]["profile"]),
            ("As A", self.ask("get", f"/shots/{other.pk}")["report"]["profile"]),
        )
        wrong = {"shot_ids": ids, "steps": [{"kind": "nothing"}]}
        self.assertIn("nothing", self.ask("post", f"/jobs/{self.job.pk}/apply", wrong, 422)["detail"])

    def test_presets_are_kept_by_name(self) -> None:
        steps = [{"kind": "grain"}]
        first = self.ask("post", "/presets", {"name": "Grain", "steps": steps})
        again = self.ask("post", "/presets", {"name": "Grain", "steps": [{"kind": "spatial"}]})
        self.assertEqual(again["id"], first["id"])
        (kept,) = self.ask("get", "/presets")
        self.assertEqual(kept["steps"][0]["kind"], "spatial")
        self.assertIn("name", self.ask("post", "/presets", {"name": " ", "steps": steps}, 422)["detail"])
        self.ask("delete", f"/presets/{first['id']}", status=204)


class Judged(JudgingCase):
    def test_overwork_with_its_maps(self) -> None:
        version = self.ask("post", f"/shots/{self.shot.pk}/propose", {})
        body = {"frames": [1, 2], "part": {"x": 16, "y": 8, "width": 128, "height": 96}}
        told = self.ask("post", f"/versions/{version['id']}/overwork", body)
        self.assertEqual(told["report"]["frames"], [1, 2])
        self.assertIn(told["report"]["verdict"], {"fine", "look here", "too far"})
        for measure in told["report"]["measures"]:
            response = self.client.get(f"/api/overwork/{told['key']}/{measure['kind']}")
            self.assertEqual(Image.open(io.BytesIO(response.content)).size, (128, 96))
        self.assertEqual(self.ask("post", f"/versions/{version['id']}/overwork", body), told)
        self.assertIn("judge again", self.ask("get", "/overwork/nothing/halos", status=422)["detail"])
        self.ask("post", f"/versions/{version['id']}/overwork", body | {"frames": []}, 422)
        self.assertEqual(self.ask("post", f"/versions/{version['id']}/overwork", {})["report"]["frames"], [2])
