"""The demo timeline: one minute of Quay Nine, twelve events over five files."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import opentimelineio as otio
from opentimelineio import opentime

from ..frames import Progress, StopCheck, never
from ..media.timecode import number_of
from ..reel.relink import as_edls, as_otio
from .demo import TUNGSTEN
from .scenes import RATE
from .sensor import Camera
from .shoot import ShotRecipe, shoot

TITLE = "Quay Nine, scene 4"
FRAMES = 288
"""Of each file: room for every event and its handles."""

REEL_SHOTS = (
    ShotRecipe(
        name="q9_112_quay", scene="quay", codec="ffv1", timecode="02:10:04:00", seed=112,
        camera=Camera(stops_under=3.5, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_116_figurehead", scene="figurehead", codec="prores-hq", timecode="02:13:21:06", seed=116,
        camera=Camera(stops_under=3.0, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_120_sailcloth", scene="cloth", codec="ffv1", timecode="02:16:40:12", seed=120,
        camera=Camera(stops_under=2.5, white_balance=TUNGSTEN),
    ),
    ShotRecipe(
        name="q9_131_cranes", scene="dusk", codec="h264-8bit", timecode="02:20:09:00", seed=131,
        camera=Camera(full_scale=1_000_000, read_noise=1.0),
    ),
    ShotRecipe(
        name="q9_148_jacket", scene="drying", codec="prores-hq", timecode="02:25:33:18", seed=148,
        camera=Camera(stops_under=0.5, lens_sigma=0.2),
    ),
)  # fmt: skip

REEL_EVENTS = (
    (0, 20, 144), (1, 30, 96), (2, 14, 120), (1, 140, 132), (3, 12, 168), (0, 150, 120),
    (4, 24, 96), (2, 100, 108), (3, 170, 96), (4, 130, 144), (0, 60, 120), (1, 16, 96),
)  # fmt: skip
"""File, its first frame and how many frames, in order of playing; 1440 in all."""


def reel_recipes(width: int, height: int, share: int = 1) -> list[ShotRecipe]:
    """The files of the demo timeline at a size; `share` makes all of it that many times shorter."""
    told = {"width": width, "height": height, "frames": FRAMES // share}
    return [shot.model_copy(update=told) for shot in REEL_SHOTS]


def shoot_reel(
    folder: Path, width: int, height: int, progress: Progress | None = None, *, stopped: StopCheck = never,
    share: int = 1,
) -> Path:  # fmt: skip
    """Shoot the files, each into a folder of its own, and write quay_nine.otio and .edl beside them; the former."""
    recipes = reel_recipes(width, height, share)
    paths = []
    for k, recipe in enumerate(recipes):

        def told(done: float, before: int = k) -> None:
            if progress:
                progress((before + done) / len(recipes))

        paths.append(shoot(recipe, folder / recipe.name, told, stopped=stopped))
    return write_reel(paths, folder, share)


def write_reel(paths: list[Path], folder: Path, share: int = 1) -> Path:
    """The timeline of these files, in the order of `REEL_SHOTS`."""
    timeline = reel_timeline(paths, share)
    document = folder / "quay_nine.otio"
    document.write_text(as_otio(timeline))
    lists, _ = as_edls(timeline, Fraction(RATE))
    (folder / "quay_nine.edl").write_text(next(iter(lists.values())))
    return document


def reel_timeline(paths: list[Path], share: int = 1) -> otio.schema.Timeline:
    """The events, with what an editor noted on some of them."""
    timeline = otio.schema.Timeline(TITLE, global_start_time=opentime.RationalTime(RATE * 3600, RATE))
    track = otio.schema.Track("V1", kind=otio.schema.TrackKind.Video)
    timeline.tracks.append(track)
    for file, first, frames in REEL_EVENTS:
        recipe = REEL_SHOTS[file]
        begins = number_of(recipe.timecode, Fraction(RATE)) or 0
        clip = otio.schema.Clip(
            recipe.name,
            media_reference=otio.schema.ExternalReference(
                paths[file].absolute().as_uri(),
                opentime.TimeRange(
                    opentime.RationalTime(begins, RATE), opentime.RationalTime(FRAMES // share, RATE)
                ),
            ),
            source_range=opentime.TimeRange(
                opentime.RationalTime(begins + first // share, RATE),
                opentime.RationalTime(frames // share, RATE),
            ),
        )
        track.append(clip)
    track[0].metadata["cmx_3600"] = {"comments": ["COMMENT: keep the grain of the fog"]}
    mark = opentime.RationalTime(track[4].source_range.start_time.value + 40 // share, RATE)
    track[4].markers.append(
        otio.schema.Marker("bands in the sky", opentime.TimeRange(mark, opentime.RationalTime(1, RATE)))
    )
    return timeline
