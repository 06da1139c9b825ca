"""Results of another size and colour, and views of a step's own, through the API."""

from __future__ import annotations

from io import BytesIO
from typing import Any

from PIL import Image

from tests import treatments
from tests.server.test_api import ApiCase


class Reshaping(ApiCase):
    def picture(self, shot: int, **query: Any) -> tuple[tuple[int, int], list[float]]:
        """Size of the picture, and the area of the source that it says to cover."""
        answer = self.client.get(f"/api/shots/{shot}/frame", {"n": 1, "scale": 8, **query})
        self.assertEqual(answer.status_code, 200, answer.content[:200])
        return Image.open(BytesIO(answer.content)).size, [float(v) for v in answer["Picture-Area"].split(",")]

    def test_every_picture_says_what_it_covers(self) -> None:
        shot = self.surveyed_shot()
        profile = (shot.survey or {})["profile"]
        steps = [{"kind": "temporal"}, {"kind": "resize", "settings": {"factor": 1.5}}, {"kind": "spatial"}]
        version = self.ask("post", f"/shots/{shot.pk}/versions", {"plan": {"profile": profile, "steps": steps}})
        width, height = shot.info.width, shot.info.height
        self.assertEqual(version["format"]["width"], round(1.5 * width))
        about = {"version_id": version["id"], "region": "3,5,10,7"}
        self.assertEqual(self.picture(shot.pk, view="source", **about), ((10, 7), [3, 5, 10, 7]))
        size, area = self.picture(shot.pk, view="result", **about)
        self.assertEqual(size, (16, 11))
        self.assertEqual([round(v * 1.5, 3) for v in area], [4, 7, 16, 11])
        self.assertEqual(self.picture(shot.pk, view="own", own="merged", step=0, **about)[0], (10, 7))
        self.assertEqual(self.picture(shot.pk, view="reach", step=2, **about)[0], (16, 11))
        whole = self.picture(shot.pk, view="removed", version_id=version["id"], scale=0.5)[0]
        self.assertEqual(whole, (round(width / 2), round(height / 2)))

    def test_sizes_out_of_range_are_refused_in_a_line_and_change_nothing(self) -> None:
        shot = self.surveyed_shot()
        profile = (shot.survey or {})["profile"]
        plan = {"profile": profile, "steps": [{"kind": "resize", "settings": {"factor": 2}}]}
        version = self.ask("post", f"/shots/{shot.pk}/versions", {"plan": plan})
        huge = {"profile": profile, "steps": [{"kind": "resize", "settings": {"factor": 8}}] * 3}
        told = self.ask("put", f"/versions/{version['id']}", {"plan": huge}, 422)
        self.assertIn("out of range", told["detail"])
        kept = self.ask("get", f"/shots/{shot.pk}")["plans"][0]
        self.assertEqual(kept["key"], version["key"])
        self.ask(
            "put", f"/versions/{version['id']}", {"plan": plan | {"steps": [{"kind": "resize", "mix": 40}]}}, 422
        )

    def test_a_treatment_of_one_file_is_told_with_its_controls_and_views(self) -> None:
        with treatments.added():
            told = {t["kind"]: t for t in self.ask("get", "/treatments")}
            self.assertTrue(told["every second"]["reshapes"] and told["square root"]["reshapes"])
            self.assertEqual(told["dimmed"]["views"][0]["title"], "Above")
            self.assertEqual(told["square root"]["parameters"]["properties"]["signed"]["control"], "switch")
            shot = self.surveyed_shot()
            plan = {
                "profile": (shot.survey or {})["profile"],
                "steps": [{"kind": "dimmed"}, {"kind": "every second"}],
            }
            version = self.ask("post", f"/shots/{shot.pk}/versions", {"plan": plan})
            shown = self.picture(shot.pk, view="own", own="above", step=0, version_id=version["id"])
            self.assertEqual(shown[0], (shot.info.width, shot.info.height))
            self.assertEqual(version["format"]["width"], shot.info.width // 2)
