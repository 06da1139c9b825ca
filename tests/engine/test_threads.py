"""Several threads at one piece of footage: what one needs may be in the making by another."""

from __future__ import annotations

import threading
from unittest import TestCase, mock

from tests.clips import MemorySource, shot_pair
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline, Standpoint
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera

PATIENCE = 60
"""Seconds until threads count as waiting for one another for ever."""

MIDDLE = 3


class Threads(TestCase):
    def test_a_profile_that_waits_for_a_frame_holds_nobody_up(self) -> None:
        """Behind a conversion noise is told by the colours of the middle frame, which another thread is making, and
        for which that one needs a profile too."""
        noisy, _ = shot_pair("quay", Camera(stops_under=3), 192, 108, 6)
        asked, colours = threading.Event(), Standpoint._colours

        class Slow(MemorySource):
            def read(self, n: int) -> Frame:
                if n == MIDDLE:
                    asked.wait(PATIENCE)
                return super().read(n)

        def told(standpoint: Standpoint) -> Array:
            asked.set()
            return colours(standpoint)

        convert = Step(kind="convert", settings={"target": "Rec.2100-PQ - Display"})
        steps = [Step(kind="spatial"), convert, Step(kind="spatial")]
        footage, made = Footage(Slow(noisy)), []

        def make(count: int, n: int) -> None:
            made.append(Pipeline(footage, Plan(profile=white_profile(8), steps=steps[:count])).frame(n))

        threads = [threading.Thread(target=make, args=job, daemon=True) for job in ((1, MIDDLE), (3, 0))]
        with mock.patch.object(Standpoint, "_colours", told):
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(PATIENCE / 2)
        self.assertEqual(len(made), 2, "they wait for one another")
