"""The demo as a newcomer meets it."""

from __future__ import annotations

from dataclasses import replace
from io import StringIO

from django.conf import settings
from django.core.management import call_command
from django.test import TestCase, override_settings

from yellowclean.engine.testcamera import TITLE
from yellowclean.server.management.commands.demo import JOB_NAME
from yellowclean.server.models import Job


class Demo(TestCase):
    def test_it_opens_with_one_shot_proposed_one_about_to_be_written_and_the_rest_to_be_measured(self) -> None:
        with override_settings(YELLOW_CLEAN=replace(settings.YELLOW_CLEAN, measure_added=True)):
            for _ in range(2):  # the second time changes nothing
                call_command("demo", size="384x216", frames=12, reel_size="96x64", verbosity=0, stdout=StringIO())
        reel = Job.objects.get(name=TITLE).shots.all()
        self.assertEqual([shot.placed.number for shot in reel if shot.placed], list(range(1, 13)))
        self.assertEqual({shot.surveys.count() for shot in reel}, {0}, "it waits to be measured")
        shots = list(Job.objects.get(name=JOB_NAME).shots.order_by("pk"))
        self.assertEqual(len(shots), 9)
        sheet = self.client.get(f"/api/jobs/{shots[0].job.pk}/shots").json()
        for shot in shots[1:3]:
            told = next(s["findings"] for s in sheet if s["id"] == shot.pk)
            noise = next(f for f in told if f["kind"] == "noise")
            self.assertGreater(noise["value"], noise["tolerance"])
            self.assertLess(noise["remaining"], noise["tolerance"])
        self.assertEqual([shot.renders.count() for shot in shots], [0, 0, 1] + [0] * 6)
        self.assertEqual([shot.surveys.count() for shot in shots], [1, 0, 0] + [1] * 6)
