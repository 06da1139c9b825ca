"""What is done to many shots at once: a look for all of them and back, one profile for those with noise alike."""

from __future__ import annotations

from tests.server.test_api import ApiCase
from yellowclean.server.models import Shot


class Many(ApiCase):
    def test_a_look_goes_to_many_and_is_taken_back(self) -> None:
        shots = [self.surveyed_shot() for _ in range(3)]
        ids = [shot.pk for shot in shots]
        self.ask("put", f"/shots/{ids[0]}/look", {"exposure": 1.5})
        self.ask("put", f"/shots/{ids[1]}/look", {"contrast": 1.2})
        had = self.ask("post", f"/jobs/{self.job.pk}/looks", {"of": ids[0], "shot_ids": ids[1:]})
        self.assertEqual([told["look"]["contrast"] for told in had], [1.2, 1.0])
        self.assertEqual([shot.shown_under.exposure for shot in Shot.objects.order_by("pk")], [1.5] * 3)
        self.ask("put", f"/jobs/{self.job.pk}/looks", had, 204)
        looks = [shot.shown_under for shot in Shot.objects.order_by("pk")]
        self.assertEqual([(look.exposure, look.contrast) for look in looks], [(1.5, 1.0), (0.0, 1.2), (0.0, 1.0)])

    def test_shots_with_noise_alike_share_a_profile(self) -> None:
        alike = [self.surveyed_shot() for _ in range(2)]
        other = self.surveyed_shot()
        Shot.objects.filter(pk=other.pk).update(media=other.media | {"camera": "another"})
        told = self.ask("get", f"/jobs/{self.job.pk}/noise-groups")
        self.assertEqual([group["shot_ids"] for group in told], [[s.pk for s in alike], [other.pk]])
        self.ask("post", f"/jobs/{self.job.pk}/propose", {"by": "group"})
        origins = [shot.versions.get().plan.profile.origin for shot in Shot.objects.order_by("pk")]
        self.assertEqual(origins[:2], ["pooled of 2 shots"] * 2)
        self.assertNotIn("pooled", origins[2])
        self.assertEqual(len(self.ask("get", f"/jobs/{self.job.pk}/shots?most=2")), 2)
        self.ask("get", f"/jobs/{self.job.pk}/shots?most=0", status=422)
