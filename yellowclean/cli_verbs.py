"""What the verbs of the command line take and do."""

from __future__ import annotations

import argparse
import json
import os
import signal
import sys
import tempfile
import time
import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, nullcontext, redirect_stderr
from pathlib import Path
from typing import Any, NoReturn, get_args

from .cli import ABOUT, PROGRAM, VERBS
from .cli_arguments import between, frame_range, light, patch, scale, size
from .cli_job import add_job
from .cli_worker import join
from .engine.colour.encodings import checked_space
from .engine.colour.input_space import input_space
from .engine.colour.management import own_config_trouble
from .engine.delivery import delivery_report
from .engine.errors import BadInput, BadPlan, Cancelled, YellowCleanError, line_of
from .engine.frames import Progress
from .engine.judge.metrics import compare
from .engine.judge.standing import said_of, standings
from .engine.measure.fields import order_of
from .engine.measure.report import SurveyReport
from .engine.media import OUTPUT_FORMATS, Moments, Source, destination, open_source
from .engine.media.dither import How
from .engine.media.sequence_writer import outputs_of
from .engine.noise.profile import NoiseProfile, profile_from_json
from .engine.plan import Plan, plan_from_json, plan_schema
from .engine.propose import propose, untreated
from .engine.render import check_apart, damaged_frames, frames_in, inputs_of, render
from .engine.survey import survey
from .engine.testcamera import CODECS, LEAST_SIDE, SCENES, Camera, ShotRecipe, shoot, shoot_reel

REEL = "reel"
STDERR = 2


def run(arguments: Sequence[str]) -> int:
    """Run one verb; the exit code."""
    options = _parser().parse_args(arguments)
    stop = _StopFlag()
    previous = signal.signal(signal.SIGINT, stop.raised)
    try:
        if trouble := own_config_trouble():
            raise BadInput(trouble)
        with nullcontext() if options.verb is _worker else _libraries_silent():
            options.verb(options, stop)
    except Cancelled as error:
        return _said(error, 130)
    except (YellowCleanError, OSError) as error:
        return _said(error, 2)
    except RecursionError:
        return _said("a path or a document is nested too deeply.", 2)
    except Exception as error:
        if os.environ.get("YELLOW_CLEAN_TRACEBACK"):
            raise
        what = f"{type(error).__name__}: {line_of(error)[:300]}"
        hint = "Set YELLOW_CLEAN_TRACEBACK=1 and report what it prints."
        return _said(f"failed inside ({what}); this is a fault of the program. {hint}", 1)
    finally:
        signal.signal(signal.SIGINT, previous)
    return 0


def _said(what: Exception | str, code: int) -> int:
    """Say in one line why it ended; the exit code."""
    text = what if isinstance(what, str) else line_of(what)
    sys.stderr.write(f"{PROGRAM}: {text}\n".encode(errors="backslashreplace").decode())
    return code


@contextmanager
def _libraries_silent() -> Iterator[None]:
    """Libraries write lines of their own to the process's stderr; only ours reach the terminal meanwhile."""
    if not sys.warnoptions:
        warnings.simplefilter("ignore")
    if _number_of(sys.stderr) != STDERR:
        yield
        return
    terminal = os.dup(STDERR)
    with (
        Path(os.devnull).open("wb") as nowhere,
        os.fdopen(terminal, "w", errors="backslashreplace") as ours,
        redirect_stderr(ours),
    ):
        os.dup2(nowhere.fileno(), STDERR)
        try:
            yield
        finally:
            ours.flush()
            os.dup2(terminal, STDERR)


def _number_of(stream: Any) -> int | None:
    """The number of a stream's file; none for one that is in memory."""
    try:
        return int(stream.fileno())
    except (OSError, ValueError, AttributeError):
        return None


class _Parser(argparse.ArgumentParser):
    """Says in one line what is wrong with arguments."""

    def error(self, message: str) -> NoReturn:
        self.exit(_said(f"{' '.join(message.split())[:500]}; {self.prog} --help tells more.", 2))


class _StopFlag:
    """Ctrl-C asks the work to stop at the next frame, so that it can clean up after itself."""

    def __init__(self) -> None:
        self._stopped = False

    def raised(self, *_: object) -> None:
        self._stopped = True

    def __call__(self) -> bool:
        return self._stopped


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(prog=PROGRAM, description=ABOUT)
    verbs = parser.add_subparsers(required=True, metavar="VERB")

    def verb(name: str, does: Callable[[Any, _StopFlag], None]) -> argparse.ArgumentParser:
        added = verbs.add_parser(name, help=VERBS[name], description=VERBS[name])
        added.set_defaults(verb=does)
        return added

    it = verb("measure", _measure)
    it.add_argument("input")
    it.add_argument("--patch", action="append", type=patch, default=[], metavar="X,Y,W,H@FRAME",
                    help="measure here instead of choosing by itself; may be given several times")  # fmt: skip
    it.add_argument("--frames", type=frame_range, metavar="A:B", help="only frames A to B-1")
    it.add_argument("--profile-out", type=Path, metavar="P.json", help="write the noise profile")
    _read_as(it)
    it.add_argument("--json", action="store_true", help="print the whole survey as one JSON document")

    it = verb("propose", _propose)
    it.add_argument("input")
    it.add_argument("--profile", type=Path, metavar="P.json", help="a saved noise profile to use")
    _read_as(it)
    it.add_argument("--out", type=Path, required=True, metavar="PLAN.json")
    _asked_for(it)

    it = verb("render", _render)
    it.add_argument("input")
    it.add_argument("--plan", required=True, metavar="PLAN.json|auto")
    it.add_argument("--out", type=Path, required=True, help="name.mkv, .mov, .mp4, or name_####.png, .tif, .exr")
    it.add_argument("--format", choices=sorted(OUTPUT_FORMATS), help="where the ending leaves a choice")
    it.add_argument("--frames", type=frame_range, metavar="A:B", help="only frames A to B-1")
    it.add_argument("--report", type=Path, metavar="R.json", help="write the delivery report")
    it.add_argument("--dither", choices=get_args(How), help="how the result goes to fewer bits (default moving)")
    _read_as(it)
    _asked_for(it)

    it = verb("worker", _worker)
    it.add_argument("--scheduler", default=os.environ.get("YELLOW_CLEAN_SCHEDULER", ""), metavar="tcp://HOST:PORT")
    it.add_argument("--processes", type=int, default=os.cpu_count() or 1, metavar="N", help="default: one a core")

    verb("treatments", _treatments)

    it = verb("compare", _compare)
    it.add_argument("a", metavar="A")
    it.add_argument("b", metavar="B")
    it.add_argument("--json", action="store_true")

    add_job(verbs.add_parser("job", help=VERBS["job"], description=VERBS["job"]), _bar, _asked_for)

    it = verb("testcamera", _testcamera)
    it.add_argument(
        "scene", choices=[*sorted(SCENES), REEL], help=f"{REEL}: one minute on a timeline, over five files"
    )
    it.add_argument("--out", type=Path, required=True, metavar="DIR")
    it.add_argument("--frames", type=between(1, 10**6, int), default=48, metavar="N")
    it.add_argument("--size", type=size, default=(1280, 720), metavar="WxH")
    it.add_argument("--seed", type=between(0, 2**63, int), default=9, metavar="S")
    it.add_argument(
        "--stops", type=between(-10, 15), default=3.0, metavar="S", help="stops of under-exposure (default 3)"
    )
    it.add_argument("--white", action="store_true", help="a sensor without colour filter: white noise")
    it.add_argument("--curve", choices=("bt709", "log"), default="bt709")
    it.add_argument("--light", type=light, default=(1.0, 1.0, 1.0), metavar="R,G,B",
                    help="colour of the light on the scene; 0,1,0 leaves red and blue at black")  # fmt: skip
    it.add_argument("--codec", choices=sorted(CODECS), default="ffv1")
    it.add_argument(
        "--bit-rate", type=between(1000, 10**9, int), metavar="BITS", help="bits a second for h264-8bit"
    )
    return parser


def _read_as(it: argparse.ArgumentParser) -> None:
    it.add_argument("--from", dest="space", default="", metavar="SPACE",
                    help="what the values are in, where the file is not to be believed")  # fmt: skip
    it.add_argument("--fields", choices=("top", "bottom", "measured"), default="",
                    help="each field of interlaced footage as a frame, by the lines seen first")  # fmt: skip


def _footage(options: Any) -> Source:
    space = checked_space(options.space) if options.space else ""
    source = open_source(options.input, space=space)
    if not options.fields:
        return source
    measured = options.fields == "measured"
    return Moments(source, order_of(source.info.frames, source.luma) if measured else options.fields)


def _asked_for(it: argparse.ArgumentParser) -> None:
    """What a proposal can be asked for beside mending faults."""
    it.add_argument("--scale", type=scale, metavar="2|1920x1080", help="resize by a factor or to a size")
    it.add_argument("--sharpen", action="store_true", help="undo the measured blur even inside its tolerance")
    it.add_argument("--to", metavar="SPACE", help="convert to a named colour space")


def _asked(options: Any) -> dict[str, Any]:
    return {"scale": options.scale, "space": options.to, "sharpen": options.sharpen}


def _worker(options: Any, stop: _StopFlag) -> None:
    if not options.scheduler:
        raise BadInput("no scheduler is named; set YELLOW_CLEAN_SCHEDULER, or give --scheduler tcp://HOST:PORT.")
    if not 1 <= options.processes <= 1024:
        raise BadInput(f"--processes {options.processes}: is out of range; give 1 or more.")
    with tempfile.TemporaryDirectory(prefix="yellow-clean-worker-") as scratch:
        join(options.scheduler, options.processes, Path(scratch))


def _treatments(options: Any, stop: _StopFlag) -> None:
    print(json.dumps(plan_schema()["treatments"], indent=1))


def _chosen(options: Any, frames: int) -> range | None:
    if options.frames is None:
        return None
    first, end = options.frames
    return range(first or 0, frames if end is None else end)


def _measure(options: Any, stop: _StopFlag) -> None:
    with closing(_footage(options)) as source:
        chosen = _chosen(options, source.info.frames)
        if chosen is not None:
            frames_in(source.info, chosen)
        if options.profile_out:
            check_apart([options.profile_out], inputs_of(source.info, Plan()))
        report = survey(source, options.patch, frames=chosen, progress=_bar("measure"), stopped=stop)
    if options.profile_out:
        options.profile_out.write_text(report.profile.to_json() + "\n")
    print(report.to_json() if options.json else _summary(report))


def _summary(report: SurveyReport) -> str:
    media, noise = report.media, report.noise
    lines = [
        f"{media.path}: {media.width}×{media.height}, {media.frames} frames at {media.rate}/s,"
        f" {media.codec} {media.bit_depth}-bit {media.chroma}, {media.range} range, {media.matrix}",
        f"noise: luma {noise.luma_cv:.2f} CV, colour {noise.chroma_cv:.2f} CV,"
        f" R {noise.r_cv:.2f}, G {noise.g_cv:.2f}, B {noise.b_cv:.2f} CV",
        f"grain size {noise.grain_px:.1f} px, confidence {noise.confidence:.0%}",
    ]
    colours = input_space(media)
    lines.append(f"input space: {colours.space}, {colours.why}")
    lines += [f"note: {note}" for note in media.notes]
    for reading in report.patches:
        p = reading.patch
        lines.append(
            f"patch {p.x},{p.y},{p.width},{p.height}@{p.frame}: level {reading.level_cv:.0f} CV,"
            f" luma {reading.luma_cv:.2f} CV, colour {reading.chroma_cv:.2f} CV, {reading.reason},"
            f" confidence {reading.confidence:.0%}"
        )
    for finding in report.findings:
        state = "outside" if finding.outside else "inside"
        lines.append(
            f"{finding.kind}: {finding.value:.2f} {finding.unit},"
            f" {state} the tolerance of {finding.tolerance:g} {finding.unit}"
        )
    return "\n".join(lines)


def _propose(options: Any, stop: _StopFlag) -> None:
    profile = _read_profile(options.profile) if options.profile else None
    with closing(_footage(options)) as source:
        check_apart(
            [options.out], [*inputs_of(source.info, Plan()), *([options.profile] if options.profile else [])]
        )
        measured = survey(source, progress=_bar("measure"), stopped=stop)
    plan = propose(measured, profile, **_asked(options))
    options.out.write_text(plan.to_json() + "\n")
    for step in plan.steps:
        print(f"{step.treatment.title}: {step.reason}")
    for finding in untreated(measured, plan):
        print(finding.told)
    if not plan.steps:
        print(said_of(plan, standings(measured.findings)))


def _render(options: Any, stop: _StopFlag) -> None:
    target = destination(options.out, options.format)
    plan = None if options.plan == "auto" else _read_plan(Path(options.plan))
    if plan is not None and any(_asked(options).values()):
        raise BadInput("--scale, --sharpen and --to belong to --plan auto; write them into the plan instead.")
    with closing(_footage(options)) as source:
        chosen = frames_in(source.info, _chosen(options, source.info.frames))
        documents = [options.report] if options.report else []
        written = outputs_of(target, source.info, chosen)
        if set(documents) & {target.path, options.out}:
            raise BadInput(f"{options.report}: would lie over the result; choose another name.")
        read = [*inputs_of(source.info, plan or Plan()), *([] if plan is None else [Path(options.plan)])]
        check_apart([*written, *documents], read)
        measured = None
        if plan is None:
            measured = survey(source, progress=_bar("measure"), stopped=stop)
            plan = propose(measured, **_asked(options))
        if options.dither:
            plan = plan.model_copy(update={"dither": options.dither})
        render(source, plan, target, frames=chosen, progress=_bar("render"), stopped=stop)
        if options.report:
            report = delivery_report(source, target, chosen, plan, measured=measured)
            options.report.write_text(report.model_dump_json(indent=1) + "\n")
        damaged = damaged_frames(source, chosen)
    print(f"{options.out}: {len(chosen)} frames, {target.format.title}")
    if damaged:
        listed = ", ".join(str(n) for n in damaged[:8]) + (" …" if len(damaged) > 8 else "")
        print(f"damaged in the source: frames {listed}; copy it again from the original.")


def _read_profile(path: Path) -> NoiseProfile:
    return profile_from_json(_read(path), str(path))


def _read_plan(path: Path) -> Plan:
    return plan_from_json(_read(path), str(path))


def _read(path: Path) -> bytes:
    if not path.is_file():
        raise BadPlan(f"{path}: does not exist; check the path.")
    return path.read_bytes()


def _compare(options: Any, stop: _StopFlag) -> None:
    with closing(open_source(options.a)) as a, closing(open_source(options.b)) as b:
        result = compare(a, b)
    if options.json:
        print(json.dumps(result.model_dump(), indent=1))
        return
    ratio = "no difference" if result.psnr_db is None else f"PSNR {result.psnr_db:.2f} dB"
    print(
        f"{ratio}, SSIM {result.ssim:.4f}, RMS {result.rms_cv:.2f} CV, largest {result.largest_cv:.1f} CV,"
        f" flicker {result.flicker_cv:.2f} CV over {result.frames} frames"
    )


def _testcamera(options: Any, stop: _StopFlag) -> None:
    width, height = options.size
    if min(width, height) < LEAST_SIDE:
        raise BadInput(f"--size {width}x{height}: is too small for a scene; give at least {LEAST_SIDE} a side.")
    if options.scene == REEL:
        print(shoot_reel(options.out, width, height, _bar("shoot"), stopped=stop))
        return
    recipe = ShotRecipe(
        name=options.scene, scene=options.scene, frames=options.frames, width=width, height=height,
        seed=options.seed, codec=options.codec, bit_rate=options.bit_rate, light=options.light,
        camera=Camera(stops_under=options.stops, bayer=not options.white, curve=options.curve, seed=options.seed),
    )  # fmt: skip
    print(shoot(recipe, options.out, _bar("shoot"), stopped=stop))


def _bar(what: str) -> Progress:
    """A progress bar on stderr, only where somebody is looking."""
    started = time.monotonic()
    if not sys.stderr.isatty():
        return lambda share: None

    def show(share: float) -> None:
        done = round(30 * share)
        left = (time.monotonic() - started) * (1 / max(share, 1e-3) - 1)
        end = "\n" if share >= 1 else ""
        print(f"\r{what} [{'=' * done}{' ' * (30 - done)}] {share:4.0%}  {left:4.0f} s left ", end=end,
              file=sys.stderr, flush=True)  # fmt: skip

    return show
