"""What is damaged: a little footage in every format, and every kind of document that comes from outside."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from tests.clips import record, smooth_frames, with_tone
from yellowclean.cli import main
from yellowclean.engine.media import OUTPUT_FORMATS
from yellowclean.engine.plan import plan_schema

SIZE, LEAST_DNXHR, FRAMES = "64x48", "256x120", 4
_OTHERS = (
    ("mjpeg", "yuvj420p", ".avi"), ("mpeg2video", "yuv420p", ".mpg"), ("mpeg4", "yuv420p", ".mov"),
    ("rawvideo", "yuv422p", ".avi"), ("huffyuv", "yuv422p", ".avi"), ("mpeg2video", "yuv420p", ".ts"),
)  # fmt: skip


def make(folder: Path) -> None:
    """Write all specimens: one folder for each piece of footage, `documents` for the rest."""
    small, larger = (_shot(folder / size, size) for size in (SIZE, LEAST_DNXHR))
    documents = folder / "documents"
    documents.mkdir()
    _run("measure", small, "--profile-out", documents / "profile.json")
    (documents / "empty.json").write_text('{"steps": []}')
    _run("propose", small, "--out", documents / "least.json")
    _every_step(documents / "steps.json", documents / "least.json")
    corners = [(r, g, b) for b in (0, 1) for g in (0, 1) for r in (0, 1)]
    (documents / "look.cube").write_text("LUT_3D_SIZE 2\n" + "".join("{} {} {}\n".format(*c) for c in corners))
    for name, fmt in OUTPUT_FORMATS.items():
        if fmt.grain:  # needs a plan that leaves some; its files are those of av1
            continue
        place = folder / "media" / name
        place.mkdir(parents=True)
        file = f"x_####{fmt.ending}" if fmt.is_sequence else f"x{fmt.ending}"
        source = larger if fmt.codec == "dnxhd" else small
        _run("render", source, "--plan", documents / "empty.json", "--out", place / file, "--format", name)
    for codec, layout, ending in _OTHERS:
        place = folder / "media" / f"{codec}{ending}"
        place.mkdir()
        _recorded(place / f"x{ending}", codec, layout)
    for ending in (".mkv", ".avi"):
        place = folder / "media" / f"sound{ending}"
        place.mkdir()
        with_tone(place / f"x{ending}", 1, frames=FRAMES)
    for source in (small, larger):
        shutil.rmtree(source.parent)


def _shot(place: Path, size: str) -> Path:
    _run("testcamera", "figurehead", "--out", place, "--size", size, "--frames", FRAMES)
    return place / "figurehead.mkv"


def _every_step(path: Path, proposed: Path) -> None:
    """A plan with one of each treatment as they come, for mutation; it need not make sense."""
    plan = json.loads(proposed.read_text())
    plan["steps"] = [{"kind": kind} for kind in plan_schema()["treatments"]]
    path.write_text(json.dumps(plan, indent=1))


def _recorded(path: Path, codec: str, layout: str) -> None:
    planes = []
    for frame in smooth_frames(64, 48, FRAMES):
        codes = (frame * 255).clip(0, 255).astype("uint8")
        half = 2 if "420" in layout else 1
        planes.append([codes[..., 0], codes[::half, ::2, 1], codes[::half, ::2, 2]])
    record(path, planes, layout, codec, options={"threads": "1"})


def _run(*words: object) -> None:
    if main([str(word) for word in words]):
        raise RuntimeError(f"no specimen: {words}")
