"""The demo reel: nine shots of Quay Nine, one for each kind of trouble."""

from __future__ import annotations

from .sensor import Camera
from .shoot import Faults, ShotRecipe

TUNGSTEN = (1.5, 1.0, 1.9)

DEMO_SHOTS = (
    ShotRecipe(
        name="q9_012_quay_lantern", scene="quay", codec="prores-hq", timecode="01:02:10:00",
        camera=Camera(stops_under=4.0, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_016_figurehead", scene="figurehead", codec="prores-hq", timecode="01:03:22:08",
        camera=Camera(stops_under=3.0, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_020_sailcloth", scene="cloth", codec="ffv1", timecode="01:04:31:12",
        camera=Camera(stops_under=2.5, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_026_sail_loft", scene="cloth", codec="prores-hq", timecode="01:05:48:00", seed=26,
        camera=Camera(stops_under=1.0), motion=(1.1, 0.3, 0.6), faults=Faults(mains_percent=6.0),
    ),
    ShotRecipe(
        name="q9_031_dusk_cranes", scene="dusk", codec="h264-8bit", timecode="01:07:02:00",
        camera=Camera(full_scale=1_000_000, read_noise=1.0),
    ),
    ShotRecipe(
        name="q9_044_basin_phone", scene="basin", codec="h264-8bit", bit_rate=900_000,
        camera=Camera(stops_under=2.0, full_scale=5000, white_balance=TUNGSTEN), timecode="01:09:40:06",
    ),
    ShotRecipe(
        name="q9_048_drying_jacket", scene="drying", codec="prores-hq", timecode="01:10:55:00",
        camera=Camera(stops_under=0.5, lens_sigma=0.2),
    ),
    ShotRecipe(
        name="q9_053_night_lapse", scene="stars", codec="tiff", timecode="01:12:00:00",
        camera=Camera(stops_under=2.0, hot_pixels=60),
        faults=Faults(flicker_percent=6.0, satellites=1, dust=3),
    ),
    ShotRecipe(
        name="q9_061_old_tape", scene="quay", codec="prores-hq", timecode="01:13:20:00", seed=61,
        camera=Camera(stops_under=0.5), motion=(2.2, 0.0, 0.5), faults=Faults(interlaced=True, repeated=(4, 31)),
    ),
)  # fmt: skip


def demo_recipes(width: int, height: int, frames: int) -> list[ShotRecipe]:
    """The shots at a size and length; bit rates follow the number of pixels."""
    share = width * height / (1280 * 720)
    return [
        shot.model_copy(
            update={
                "width": width, "height": height, "frames": frames,
                "bit_rate": int(shot.bit_rate * share) if shot.bit_rate else None,
            }
        )
        for shot in DEMO_SHOTS
    ]  # fmt: skip
