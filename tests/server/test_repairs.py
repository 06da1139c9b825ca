"""What a step changes over time, and the single things that it found, through the API."""

from __future__ import annotations

from tests.server.test_api import ApiCase


class Repairs(ApiCase):
    def version(self, *steps: dict[str, object]) -> int:
        shot = self.surveyed_shot()
        plan = {"profile": (shot.survey or {})["profile"], "steps": list(steps)}
        made = self.ask("post", f"/shots/{shot.pk}/versions", {"plan": plan})
        self.frames = shot.info.frames
        return int(made["id"])

    def test_a_curve_has_a_value_for_every_frame_and_steps_without_one_say_so(self) -> None:
        version = self.version({"kind": "flicker", "settings": {"taken": 0}}, {"kind": "spatial"})
        told = self.ask("get", f"/versions/{version}/steps/0/course?n=1")
        self.assertEqual((told["first"], len(told["before"])), (0, self.frames))
        self.assertEqual(told["before"], told["after"])  # nothing is taken
        self.assertIn("no curve", self.ask("get", f"/versions/{version}/steps/1/course", status=422)["detail"])
        self.ask("get", f"/versions/{version}/steps/7/course", status=422)

    def test_marks_are_listed_and_stay_left(self) -> None:
        drawn = [1, 20, 30]
        version = self.version({"kind": "specks", "settings": {"drawn": [drawn]}}, {"kind": "spatial"})
        marks = self.ask("get", f"/versions/{version}/steps/0/marks?n=1")
        mine = next(m for m in marks if m["kind"] == "drawn")
        self.assertTrue(mine["taken"])
        self.assertEqual([mine["x"] + mine["width"] // 2, mine["y"] + mine["height"] // 2], drawn[1:])
        self.assertEqual(
            [m for m in self.ask("get", f"/versions/{version}/steps/0/marks?n=0") if m["kind"] == "drawn"], []
        )
        left = self.version({"kind": "specks", "settings": {"drawn": [drawn], "left": [drawn]}})
        marks = self.ask("get", f"/versions/{left}/steps/0/marks?n=1")
        self.assertFalse(next(m for m in marks if m["kind"] == "drawn")["taken"])
        self.assertIn("no single", self.ask("get", f"/versions/{version}/steps/1/marks", status=422)["detail"])
        self.ask("get", f"/versions/{version}/steps/0/marks?n=999", status=422)
