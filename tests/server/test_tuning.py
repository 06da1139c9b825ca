"""How renders are best spread over the machine: tried, kept, used."""

from __future__ import annotations

import os
from dataclasses import replace
from unittest import mock

from django.conf import settings
from django.test import override_settings

from tests.server.test_reel import ReelCase
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step
from yellowclean.server import tuning
from yellowclean.server.cluster import Way, tuned_file, way_in_use
from yellowclean.server.models import Render
from yellowclean.server.tuning import Trial, ways
from yellowclean.server.use_cases import add_shot, new_version


class Tuned(ReelCase):
    def test_the_quickest_way_is_kept_and_used(self) -> None:
        shot = add_shot(self.job, self.folder / "q9_012_quay.mkv")
        version = new_version(shot, Plan(profile=white_profile(5), steps=[Step(kind="spatial")]))
        self.addCleanup(tuned_file().unlink, missing_ok=True)
        cores = os.cpu_count() or 1
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, workers=None)):
            self.assertEqual(way_in_use(), Way(processes=cores, threads=1))
            seconds = {(way.processes, way.threads): 2.0 for way in ways(cores)} | {(1, cores): 0.5}
            tried = lambda _, way, __: Trial(**way.model_dump(), seconds=seconds[way.processes, way.threads])  # noqa: E731
            with mock.patch.object(tuning, "_tried", tried):
                told = self.ask("post", f"/versions/{version.pk}/tune", {})
            self.assertEqual((told["trials"][0]["processes"], told["gain"]), (1, 4 if cores > 1 else 1))
            self.assertEqual(way_in_use(), Way(processes=1, threads=cores))
            tuned_file().write_text("{}")
            self.assertEqual(way_in_use(), Way(processes=cores, threads=1))
            busy = Render.objects.create(shot=shot, label="A", document={}, format="ffv1", first=0, stop=1)
            self.assertIn("queue is empty", self.ask("post", f"/versions/{version.pk}/tune", {}, 422)["detail"])
            busy.delete()
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, workers=1)):
            self.assertEqual(way_in_use(), Way(processes=1, threads=cores))

    def test_a_trial_renders_and_leaves_nothing(self) -> None:
        shot = add_shot(self.job, self.folder / "q9_012_quay.mkv")
        version = new_version(shot, Plan())
        trial = tuning._tried(version, Way(processes=2, threads=1), lambda: False)
        self.assertGreater(trial.seconds, 0)
        self.assertEqual(list((settings.YELLOW_CLEAN.data / "scratch").glob("tuning-*")), [])
