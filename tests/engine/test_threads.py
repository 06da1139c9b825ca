"""Several threads at one piece of footage: what one needs may be in the making by another."""

from __future__ import annotations

import threading
from unittest import TestCase, mock

from tests.clips import MemorySource, shot_pair
from yellowclean.engine import parallel
from yellowclean.engine.footage import Footage
from yellowclean.engine.frames import Array, Frame
from yellowclean.engine.noise.profile import white_profile
from yellowclean.engine.pipeline import Pipeline, Standpoint
from yellowclean.engine.plan import Plan, Step
from yellowclean.engine.testcamera import Camera

PATIENCE = 60
"""Seconds until threads count as waiting for one another for ever."""

MIDDLE = 3


class Ahead(TestCase):
    def test_frames_asked_for_in_order_are_read_once_and_the_next_one_meanwhile(self) -> None:
        noisy, _ = shot_pair("quay", Camera(), 96, 64, 8)
        read: list[int] = []
        third, wanted = threading.Event(), 3

        class Watched(MemorySource):
            def read(self, n: int) -> Frame:
                read.append(n)
                if n == wanted:
                    third.set()
                return super().read(n)

        with mock.patch.dict("os.environ", YELLOW_CLEAN_THREADS="2"):
            footage = Footage(Watched(noisy))
            footage.frame(6)
            for n in (1, 2):
                footage.frame(n)
            self.assertTrue(third.wait(PATIENCE), "nobody read the frame that comes next")
            for n in range(8):
                footage.frame(n)
        self.assertEqual(sorted(read), list(range(8)))

    def test_work_begun_ahead_has_ended_when_nobody_wants_more(self) -> None:
        """What it uses is closed then, as a file is when a render is stopped."""
        begun, ended, go_on = threading.Event(), threading.Event(), threading.Event()

        def work(n: int) -> int:
            if n:
                begun.set()
                go_on.wait(PATIENCE)
                ended.set()
            return n

        with mock.patch.dict("os.environ", YELLOW_CLEAN_THREADS="2"):
            results = parallel.ahead(work, range(3))
            next(results)
            self.assertTrue(begun.wait(PATIENCE))
            threading.Timer(0.2, go_on.set).start()
            results.close()
            self.assertTrue(ended.is_set())


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
