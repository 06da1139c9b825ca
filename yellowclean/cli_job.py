"""The command line for a whole reel: job import, measure, propose, render, note."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any

from .engine.errors import BadInput
from .engine.frames import Progress, StopCheck
from .engine.media import OUTPUT_FORMATS
from .engine.media.timecode import exact
from .engine.noise.profile import profile_from_json
from .engine.reel.finding import VIDEO_ENDINGS, found_media
from .engine.reel.folder import JobFolder
from .engine.reel.naming import FIELDS, TEMPLATE
from .engine.reel.scenes import take_scenes
from .engine.reel.work import load, measure, propose_all, render_all, take, take_folder, write_note, write_timelines

Bar = Callable[[str], Progress]
HANDLES = 12


def add_job(
    parser: argparse.ArgumentParser, bar: Bar, asked_for: Callable[[argparse.ArgumentParser], None]
) -> None:
    """Add the verbs of a job to the parser of "job"; `bar` makes a progress bar, `asked_for` adds what a proposal
    can be asked for."""
    verbs = parser.add_subparsers(required=True, metavar="VERB")

    def verb(name: str, run: Callable[[Any, StopCheck], None], text: str) -> argparse.ArgumentParser:
        added = verbs.add_parser(name, help=text, description=text)
        added.set_defaults(verb=run, bar=bar)
        return added

    it = verb(
        "import",
        _import,
        "Make a job of a timeline (.otio, .edl, .xml), a folder, or a long file, which is cut into its scenes.",
    )
    it.add_argument("input", type=Path)
    it.add_argument("--media", type=Path, action="append", default=[], metavar="DIR",
                    help="where the timeline's media are looked for; may be given several times")  # fmt: skip
    it.add_argument("--job", type=Path, required=True, metavar="JOB", help="the folder of the new job")
    it.add_argument("--handles", type=int, default=HANDLES, metavar="N",
                    help=f"frames around each event, where there are any (default {HANDLES})")  # fmt: skip
    it.add_argument("--rate", type=_rate, metavar="FPS", help="frames a second of an .edl, which does not tell")
    it.add_argument("--allow-missing", action="store_true", help="take the events whose media are there")

    it = verb("measure", _measure, "Measure all shots of a job that were not.")
    it.add_argument("job", type=Path)
    it.add_argument("--again", action="store_true", help="measure all of them anew")

    it = verb("propose", _propose, "Propose the least plan for every shot, measuring those that were not.")
    it.add_argument("job", type=Path)
    it.add_argument("--profile", type=Path, metavar="P.json", help="a saved noise profile for all of them")
    asked_for(it)

    it = verb("render", _render, "Write all shots of a job by their plans.")
    it.add_argument("job", type=Path)
    it.add_argument("--format", action="append", choices=sorted(OUTPUT_FORMATS), required=True,
                    help="may be given several times")  # fmt: skip
    it.add_argument("--version", default="", metavar="A", help="the plan's letter (default: the last one)")
    it.add_argument("--name", default=TEMPLATE, metavar="TEMPLATE",
                    help=f"names of the files; fields: {', '.join('{' + f + '}' for f in FIELDS)}")  # fmt: skip
    it.add_argument("--cut", action="store_true", help="without handles")

    it = verb("note", _note, "Write the delivery note, and the timeline relinked to what was written.")
    it.add_argument("job", type=Path)
    it.add_argument("--out", type=Path, metavar="DIR", help="where to (default: JOB/delivery)")


def _rate(text: str) -> Fraction:
    try:
        rate = exact(float(text))
    except (ValueError, OverflowError):
        raise argparse.ArgumentTypeError(f"{text!r} is no rate; write frames a second, as in 23.976") from None
    if not 1 <= rate <= 1000:
        raise argparse.ArgumentTypeError(f"{text} frames a second are out of range")
    return rate


def _import(options: Any, stop: StopCheck) -> None:
    root = options.job.absolute()
    if options.input.is_dir():
        job, missing = take_folder(root, options.input.absolute()), list[str]()
    elif options.input.suffix.lower() in VIDEO_ENDINGS:
        job, missing = take_scenes(root, options.input.absolute(), progress=options.bar("cuts"), stopped=stop), []
    else:
        job, missing = _from_timeline(options, root)
    for shot in job.shots:
        place = shot.place
        frames = f", frames {shot.first} to {shot.stop - 1}" if shot.first is not None and shot.stop else ""
        print(f"{f'{place.number} ' if place else ''}{shot.name}: {shot.media}{frames}")
        for line in place.told if place else []:
            print(f"{shot.name}: {line}")
    for line in missing:
        print(line, file=sys.stderr)


def _from_timeline(options: Any, root: Path) -> tuple[JobFolder, list[str]]:
    if not options.input.is_file():
        raise BadInput(f"{options.input}: does not exist; check the path.")
    folders = [folder.absolute() for folder in options.media] or [options.input.absolute().parent]
    for folder in folders:
        if not folder.is_dir():
            raise BadInput(f"{folder}: is no folder; name the one that holds the media.")
    document, timeline = load(options.input.read_bytes(), options.input.name, options.rate, folders)
    media = found_media(timeline, folders)
    made = take(root, timeline, document, media, options.handles, allow_missing=options.allow_missing)
    for line in timeline.left_out:
        print(line)
    return made


def _measure(options: Any, stop: StopCheck) -> None:
    job = JobFolder(options.job)
    _all_went(job, measure(job, again=options.again, progress=options.bar("measure"), stopped=stop), "measured")


def _propose(options: Any, stop: StopCheck) -> None:
    job = JobFolder(options.job)
    failed = measure(job, progress=options.bar("measure"), stopped=stop)
    if options.profile and not options.profile.is_file():
        raise BadInput(f"{options.profile}: does not exist; check the path.")
    profile = profile_from_json(options.profile.read_bytes(), str(options.profile)) if options.profile else None
    propose_all(job, profile, scale=options.scale, space=options.to, sharpen=options.sharpen)
    _all_went(job, failed, "measured")


def _all_went(job: JobFolder, failed: list[str], what: str) -> None:
    """Say which shots failed, once the others are done. Raises `BadInput` where any did."""
    for line in failed[1:]:
        print(line, file=sys.stderr)
    if failed:
        told = f" ({len(failed)} of {len(job.shots)} shots were not {what})"
        others = told if len(failed) > 1 else ""
        raise BadInput(f"{failed[0]}{others}")


def _render(options: Any, stop: StopCheck) -> None:
    render_all(
        JobFolder(options.job), list(dict.fromkeys(options.format)), template=options.name, cut=options.cut,
        label=options.version, progress=options.bar("render"), stopped=stop,
    )  # fmt: skip


def _note(options: Any, stop: StopCheck) -> None:
    job = JobFolder(options.job)
    if not any(job.written(shot) for shot in job.shots):
        raise BadInput(f"{options.job}: nothing is written yet; run yellow-clean job render first.")
    out = options.out or job.root / "delivery"
    files = write_note(job, out)
    timelines, told = write_timelines(job, out)
    for path in [*files, *timelines]:
        print(path)
    for line in told:
        print(line)
