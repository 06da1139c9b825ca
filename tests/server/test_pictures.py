"""The pictures of the Bench: regions, views, drafts, strips, pixels, and what is asked for wrongly."""

from __future__ import annotations

import io
import threading

import cv2
import numpy as np
from PIL import Image

from tests.server.test_api import ApiCase
from yellowclean.engine.media import open_source
from yellowclean.server.api.frames import _lanes
from yellowclean.server.models import Shot


class Pictures(ApiCase):
    def picture(self, shot: Shot, query: str) -> np.ndarray:
        response = self.client.get(f"/api/shots/{shot.pk}/frame?{query}")
        self.assertEqual(response["Content-Type"], "image/png", response.content[:200])
        return np.array(Image.open(io.BytesIO(response.content)))

    def test_pictures_are_lossless_and_regions_match_the_whole(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        source = self.picture(shot, "n=1&view=source")
        exact = np.clip(open_source(shot.path).read(1), 0, 1) * 255
        self.assertLess(np.abs(source - exact).max(), 1, "dither stays below a code value")
        smooth = cv2.blur(source.astype(np.float32), (8, 8)) - cv2.blur(exact.astype(np.float32), (8, 8))
        self.assertLess(np.abs(smooth[8:-8, 8:-8]).max(), 0.3)
        self.assertFalse(np.array_equal(source, np.rint(exact)))
        whole = self.picture(shot, f"n=1&view=result&version_id={version}")
        part = self.picture(shot, f"n=1&view=result&version_id={version}&region=64,32,64,64")
        np.testing.assert_array_equal(part, whole[32:96, 64:128])
        removed = self.picture(shot, f"n=1&view=removed&version_id={version}").astype(float)
        self.assertLess(abs(removed.mean() - 127.5), 4)
        self.assertGreater(removed.std(), 20)
        self.assertEqual(self.picture(shot, "n=1&scale=0.5").shape, (64, 96, 3))

    def test_a_reach_is_shown_sampled_and_moved(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        keys = [{"frame": n, "points": [[40 + n, 60], [60 + n, 60], [40 + n, 80]]} for n in (0, 2)]
        plan = version["plan"]
        plan["steps"][1] |= {
            "enabled": False,
            "reach": {"shapes": [{"kind": "ellipse", "keys": keys, "soft_px": 1}]},
        }
        changed = self.ask("put", f"/versions/{version['id']}", {"plan": plan})
        self.assertEqual(changed["matte_keys"][0], version["matte_keys"][0])
        self.assertNotEqual(changed["matte_keys"][1], version["matte_keys"][1])

        view = f"view=reach&version_id={version['id']}"
        matte = self.picture(shot, f"n=1&step=1&{view}")
        y, x = (np.average(axis, weights=matte[..., 0]) for axis in np.indices(matte.shape[:2]))
        self.assertAlmostEqual(float(x), 40.5, delta=0.2)
        self.assertAlmostEqual(float(y), 59.5, delta=0.2)
        self.assertEqual(self.picture(shot, f"n=1&step=0&{view}").min(), 255)
        where = self.ask("get", f"/versions/{version['id']}/steps/1/shapes?n=1")
        self.assertEqual(where, [[[41, 60], [61, 60], [41, 80]]])
        for refused in (
            self.ask("get", f"/shots/{shot.pk}/frame?n=1&step=7&{view}", status=422),
            self.ask("get", f"/versions/{version['id']}/steps/7/shapes?n=1", status=422),
        ):
            self.assertIn("step 7 does not exist", refused["detail"])

        source = open_source(shot.path).read(1)
        colourful = cv2.blur(source.max(axis=2) - source.min(axis=2), (13, 13))[20:-20, 20:-20]
        row, column = np.unravel_index(np.argmax(colourful), colourful.shape)
        place = {"n": 1, "x": int(column) + 20, "y": int(row) + 20}
        hue = self.ask("post", f"/versions/{version['id']}/steps/1/hue", place)
        plan["steps"][1]["reach"] = {"hues": [hue]}
        self.ask("put", f"/versions/{version['id']}", {"plan": plan})
        sampled = self.picture(shot, f"n=1&step=1&{view}")[place["y"], place["x"], 0]
        self.assertEqual(sampled, 255)
        self.assertEqual(
            set(self.ask("get", "/reach")["parts"]), {"tones", "huesample", "shape", "detail", "cleanup"}
        )

    def test_a_strip_and_its_pictures(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        body = {"step": 1, "setting": "luma", "n": 1, "x": 32, "y": 16, "width": 96, "height": 80}
        strip = self.ask("post", f"/versions/{version}/strip", body)
        values = [rung["value"] for rung in strip["rungs"]]
        self.assertEqual(values, [0, 35, 65, 100, 135, 165, 200])
        query = f"n=1&view=result&version_id={version}&region=32,16,96,80&step=1&setting=luma"
        tiles = [self.picture(shot, f"{query}&value={value}").astype(float) for value in values]
        self.assertGreater(np.abs(tiles[0] - tiles[3]).mean(), 0.1)
        refused = self.ask("post", f"/versions/{version}/strip", body | {"setting": "depth"}, 422)
        self.assertIn("no such setting", refused["detail"])
        self.assertIn("200", self.ask("get", f"/shots/{shot.pk}/frame?{query}&value=900", status=422)["detail"])

    def test_a_pixel_is_read_in_code_values_on_both_sides(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})["id"]
        asked = f"/shots/{shot.pk}/pixel?n=1&x=40&y=50&version_id={version}"
        self.assertIsNone(self.ask("get", asked)["result"])  # nothing is made for a read-out
        shown = self.picture(shot, f"n=1&view=result&version_id={version}&region=27,37,41,43")[13, 13]
        read = self.ask("get", asked)
        np.testing.assert_allclose(read["source"], open_source(shot.path).read(1)[50, 40] * 1023, atol=1e-3)
        np.testing.assert_allclose(np.array(read["result"]) / 1023 * 255, shown, atol=1)
        self.assertIsNone(self.ask("get", f"/shots/{shot.pk}/pixel?n=1&x=40&y=50")["result"])
        self.ask("get", f"/shots/{shot.pk}/pixel?n=1&x=900&y=50", status=422)

    def test_a_kept_picture_waits_for_no_other_work(self) -> None:
        shot, query = self.surveyed_shot(), "n=0&view=source&region=3,5,31,29"
        made, freed = self.picture(shot, query), threading.Event()
        self.addCleanup(freed.set)
        threading.Timer(20, freed.set).start()
        for _ in range(4):
            _lanes.submit(lambda _: freed.wait(30))
        np.testing.assert_array_equal(self.picture(shot, query), made)
        self.assertFalse(freed.is_set())

    def test_views_of_one_signal_and_under_stress(self) -> None:
        shot = self.surveyed_shot()
        plain = self.picture(shot, "n=1")
        green = self.picture(shot, "n=1&signal=g")
        np.testing.assert_array_equal(green, plain[..., [1, 1, 1]])
        self.assertGreater(self.picture(shot, "n=1&stress=60").std(), 1.5 * plain.std())
        self.assertIn("100", self.ask("get", f"/shots/{shot.pk}/frame?n=1&stress=101", status=422)["detail"])

    def test_a_draft_is_half_as_large_and_looks_like_the_result(self) -> None:
        shot = self.surveyed_shot()
        version = self.ask("post", f"/shots/{shot.pk}/propose", {})
        query = f"n=1&view=result&version_id={version['id']}"
        exact, draft = self.picture(shot, query), self.picture(shot, f"{query}&draft=true")
        source = self.picture(shot, "n=1&view=source")
        self.assertEqual(draft.shape[0] * 2, exact.shape[0])
        size = draft.shape[1::-1]
        small, noisy = (
            cv2.resize(p.astype(np.float32), size, interpolation=cv2.INTER_AREA) for p in (exact, source)
        )
        self.assertLess(np.abs(draft - small).mean(), 0.6 * np.abs(noisy - small).mean())

    def test_pictures_that_do_not_exist(self) -> None:
        shot = self.surveyed_shot()
        cases = {"n=99": 422, "n=0&region=500,500,10,10": 422, "n=0&view=result&version_id=77": 404}
        for query, status in cases.items():
            with self.subTest(query):
                refused = self.ask("get", f"/shots/{shot.pk}/frame?{query}", status=status)
                self.assertNotIn("\n", refused["detail"])
