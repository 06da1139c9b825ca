"""Shots made of others: scenes of a long file, and what was written in the place of its source."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from django.conf import settings

from tests.engine.test_reel import FILM, medium
from tests.server.test_reel import ReelCase
from yellowclean.engine.media import open_source
from yellowclean.engine.plan import Plan
from yellowclean.engine.reel.finding import found_media
from yellowclean.engine.reel.relink import as_otio
from yellowclean.engine.reel.taking import taken
from yellowclean.engine.reel.timeline import described, read
from yellowclean.server.archive import packed_job, unpacked_job
from yellowclean.server.models import Render, Shot
from yellowclean.server.use_cases import add_shot, new_version


class Derived(ReelCase):
    def test_a_long_shot_is_cut_into_scenes_and_joined_again(self) -> None:
        whole = add_shot(self.job, self.folder / "q9_012_quay.mkv")
        last = add_shot(self.job, medium(self.folder / "z_last.mkv", 500, 4, FILM, None))
        made = self.ask("post", f"/shots/{whole.pk}/scenes", {"cuts": [30, 12]})["shots"]
        self.assertEqual([(s["name"], s["media"]["frames"]) for s in made],
                         [("q9_012_quay_01", 12), ("q9_012_quay_02", 18), ("q9_012_quay_03", 10)])  # fmt: skip
        self.assertEqual(made[1]["media"]["timecode"], "01:02:11:00")
        names = [s["name"] for s in self.ask("get", f"/jobs/{self.job.pk}/shots")]
        self.assertEqual(names, [*(s["name"] for s in made), last.name])
        self.assertEqual(self.ask("get", "/jobs")[0]["shots"], 4)
        scene = Shot.objects.get(pk=made[2]["id"])
        np.testing.assert_array_equal(scene.opened().read(0), whole.opened().read(30))
        self.ask("delete", f"/shots/{whole.pk}", status=422)
        self.ask("post", f"/shots/{whole.pk}/scenes", {"cuts": [5]}, 422)
        new_version(scene, Plan())
        self.assertIn("1 plan made since", self.ask("post", f"/shots/{scene.pk}/take-back", status=422)["detail"])
        self.ask("post", f"/shots/{scene.pk}/take-back?sure=true")
        names = [s["name"] for s in self.ask("get", f"/jobs/{self.job.pk}/shots")]
        self.assertEqual(names, [whole.name, last.name])
        self.assertTrue(Path(whole.path).exists())
        for wrong in ([], [0], [40], [-3], [10**30]):
            self.ask("post", f"/shots/{whole.pk}/scenes", {"cuts": wrong}, 422)

    def test_fields_become_frames_are_rendered_and_taken_back(self) -> None:
        woven = add_shot(self.job, self.folder / "q9_012_quay.mkv", frames=range(4, 24))
        self.ask("post", f"/shots/{woven.pk}/fields", {"first": "left"}, 422)
        made = self.ask("post", f"/shots/{woven.pk}/fields", {"first": "top"})
        self.assertEqual(
            (made["media"]["frames"], made["media"]["rate"], made["media"]["fields"]), (40, "48000/1001", "top")
        )
        self.assertEqual(made["made_of"], "each field a frame, top lines first")
        shot = Shot.objects.get(pk=made["id"])
        np.testing.assert_array_equal(shot.opened().read(4)[::2], woven.opened().read(2)[::2])
        for again, body in (("fields", {"first": "top"}), ("scenes", {"cuts": [8]})):
            self.ask("post", f"/shots/{shot.pk}/{again}", body, 422)
        version = new_version(shot, Plan())
        asked = {"version_id": version.pk, "format": "ffv1", "first": 3, "stop": 9}
        render = self.ask("post", "/renders", asked)["id"]
        self.run_queued()
        written = open_source(Render.objects.get(pk=render).path)
        self.assertEqual((written.info.frames, written.info.rate), (6, "48000/1001"))
        np.testing.assert_allclose(written.read(0), shot.opened().read(3), atol=1 / 1023)
        (back,) = unpacked_job(packed_job(self.job))[0].shots.filter(fields="top")  # type: ignore[attr-defined]
        self.assertEqual(back.content, shot.content)
        self.ask("post", f"/shots/{shot.pk}/take-back?sure=true")
        self.assertEqual(self.ask("get", f"/jobs/{self.job.pk}/shots")[0]["id"], woven.pk)

    def test_what_was_written_stands_in_for_its_source_and_is_taken_back(self) -> None:
        sent = self.ask("post", f"/jobs/{self.job.pk}/timelines?name=reel.otio", as_otio(self.timeline()))
        shot_id = self.ask("post", f"/timelines/{sent['id']}/take", {"handles": 3})["shots"][0]["id"]
        shot = Shot.objects.get(pk=shot_id)
        version = new_version(shot, Plan())
        self.assertIn("counts the frames", self.ask("post", f"/shots/{shot_id}/fields", {}, 422)["detail"])
        cut, short = (
            self.ask("post", "/renders", {"version_id": version.pk, "format": "ffv1", "first": a, "stop": b})["id"]
            for a, b in ((2, 12), (6, 12))
        )
        self.ask("post", f"/renders/{cut}/stand-in", status=422)
        self.run_queued()
        self.assertIn("does not hold all", self.ask("post", f"/renders/{short}/stand-in", status=422)["detail"])
        made = self.ask("post", f"/renders/{cut}/stand-in")
        self.assertEqual((made["name"], made["generation"], made["origin_id"]), (shot.name, 1, shot.pk))
        self.assertEqual((made["place"]["head"], made["place"]["tail"]), (1, 1))
        listed = self.ask("get", f"/jobs/{self.job.pk}/shots")
        self.assertEqual(listed[0]["id"], made["id"])
        self.assertNotIn(shot.pk, [s["id"] for s in listed])
        self.assertIn("stands in", self.ask("delete", f"/renders/{cut}", status=422)["detail"])

        stand = Shot.objects.get(pk=made["id"])
        new_version(stand, Plan())
        self.ask("patch", f"/jobs/{self.job.pk}", {"wanted": {"formats": ["tiff"]}})
        queued = self.ask("post", f"/jobs/{self.job.pk}/render", {"shot_ids": [stand.pk]})
        self.assertIn("second generation", queued["told"][0])
        self.run_queued()
        note = self.ask("get", f"/jobs/{self.job.pk}/note?kind=json&shot_id={stand.pk}")
        self.assertIn("second generation", note["shots"][0]["remarks"][0])
        files = self.ask("get", f"/timelines/{sent['id']}/out?format=tiff")["files"]
        told = described(read(files["Quay Nine_tiff.otio"].encode(), "out.otio", FILM))
        shots, _ = taken(told, found_media(told, [settings.YELLOW_CLEAN.data / "renders"]), 0)
        got = self.frames_of(open_source(shots[0].path, frames=shots[0].frames))
        for k, frame in enumerate(got):
            np.testing.assert_array_equal(frame, self.source_frame(105 + k))

        packed = self.ask("get", f"/jobs/{self.job.pk}/packed").content
        there = self.unpacked(packed)
        again = self.ask("get", f"/jobs/{there['job_id']}/shots")
        self.assertEqual((again[0]["name"], again[0]["generation"]), (shot.name, 1))
        self.ask("post", f"/shots/{stand.pk}/take-back", status=422)
        back = self.ask("post", f"/shots/{stand.pk}/take-back?sure=true")
        self.assertEqual((back["id"], back["versions"], back["generation"]), (shot.pk, ["A"], 0))
        self.assertTrue(Path(Render.objects.get(pk=cut).path).exists())
        self.ask("delete", f"/renders/{cut}", status=204)
