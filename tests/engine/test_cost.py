"""What a plan costs: times of steps, and what is cheaper."""

from __future__ import annotations

from unittest import TestCase, mock

from yellowclean.engine import cost as costs
from yellowclean.engine.cost import cost
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.plan import Plan, Step

from ..clips import MemorySource, smooth_frames


class Costs(TestCase):
    def test_steps_add_up_and_fewer_neighbours_are_told_where_they_save_something(self) -> None:
        source = MemorySource(smooth_frames(96, 64, 9))
        steps = [
            Step(kind="temporal", settings={"frames": 4}),
            Step(kind="spatial"),
            Step(kind="spatial", enabled=False),
        ]
        plan = Plan(profile=white_profile(8), steps=steps)
        took = {(): 1.0, (4,): 5.0, (4, 0): 7.0, (4, 0, 0): 7.0, (2, 0, 0): 4.0}

        def timed(source: object, plan: Plan, *about: object) -> float:
            return took[tuple(step.settings.get("frames", 0) for step in plan.steps)]

        with mock.patch.object(costs, "_timed", timed):
            told = cost(source, plan, 3)
        self.assertEqual([round(step.seconds, 3) for step in told.steps], [4.0, 2.0, 0.0])
        self.assertEqual((told.reading, told.seconds), (1.0, 7.0))
        self.assertEqual([(c.step, c.setting, c.value, c.seconds) for c in told.cheaper], [(0, "frames", 2, 4.0)])
        self.assertIn("frames each side 2 for 4: 5 frames are looked at for 9", told.cheaper[0].told)

    def test_real_times_at_either_end_of_a_shot_and_on_one_frame(self) -> None:
        plan = Plan(profile=white_profile(8), steps=[Step(kind="spatial")])
        for count, n in ((6, 5), (6, 0), (1, 0), (2, 9)):
            told = cost(MemorySource(smooth_frames(64, 48, count)), plan, n)
            self.assertGreater(told.seconds, 0)
