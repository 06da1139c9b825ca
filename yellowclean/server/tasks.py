"""Background work: surveys and renders, run by the worker process."""

from __future__ import annotations

import shutil
import time
from collections.abc import Callable
from contextlib import closing, contextmanager
from functools import partial
from typing import Any

from distributed import CancelledError, wait
from distributed.client import FutureCancelledError
from distributed.comm.core import CommClosedError
from distributed.scheduler import KilledWorker
from django.conf import settings
from django.utils import timezone
from django_tasks import task

from ..engine.delivery import delivery_report
from ..engine.disk import check_room
from ..engine.errors import Cancelled, YellowCleanError, line_of
from ..engine.frames import Progress, StopCheck
from ..engine.measure.patch import Patch
from ..engine.measure.report import SurveyReport
from ..engine.media import OUTPUT_FORMATS, Destination
from ..engine.render import assemble, segment_done, segment_files, segments
from ..engine.survey import survey
from .cluster import asked_of_workers, client, forget
from .models import Render, Shot, State, Survey, Work
from .rendering import Experience, judged_already
from .room import spared, with_room
from .segments import STOP_FILE, Piece, make_segment, survey_there
from .use_cases import keep_survey

MOST_ATTEMPTS = 3
RETRIES = 2
"""Times that a piece of work is tried again after an error of its own."""

GONE = (CommClosedError, CancelledError, FutureCancelledError)
"""How the library says that the scheduler went away."""

LOST = (*GONE, KilledWorker)
"""The same, or that worker after worker died over one piece."""

SCHEDULER_PATIENCE, RECONNECT_EVERY = 300.0, 2.0
"""Seconds that a scheduler may be away before a render fails, and between tries to reach it."""

LOOK_EVERY = 0.4
"""Seconds between looks at the database for a wish to cancel, and between progress updates."""


@task()
def run_survey(pk: int) -> None:
    """Measure a shot and keep the report with it."""
    with _running(Survey, pk) as work:
        if work is not None:
            shot = work.shot
            shot.require_footage()
            report = with_room(partial(_survey, work), _cancel_check(work), _teller(work))
            shot.require_footage()  # what was measured is not kept for footage that was replaced meanwhile
            with_room(partial(keep_survey, shot, report), _cancel_check(work), _teller(work))


def _survey(work: Survey) -> SurveyReport:
    if settings.YELLOW_CLEAN.scheduler:
        return _survey_there(work)
    patches = [Patch.model_validate(p) for p in work.patches]
    with closing(work.shot.opened()) as source:
        return survey(source, patches, progress=_reporter(work), stopped=_cancel_check(work))


def _survey_there(work: Survey) -> SurveyReport:
    """A survey made by a worker of the farm."""
    connected, stopped = client(), _cancel_check(work)
    folder = settings.YELLOW_CLEAN.data / "scratch"
    folder.mkdir(parents=True, exist_ok=True)
    stop_file = folder / f"stop_survey_{work.pk}"
    stop_file.unlink(missing_ok=True)
    about = (piece_of(work.shot), work.patches, str(stop_file))
    asked = connected.submit(survey_there, *about, pure=False, retries=RETRIES, **asked_of_workers(connected))
    try:
        while not ended_among({asked}):
            if stopped():
                raise Cancelled("Measuring was stopped.")
        return SurveyReport.model_validate_json(asked.result())
    except Cancelled:
        stop_file.touch()
        raise


@task()
def run_render(pk: int) -> None:
    """Render the version that is next in the queue, which need not be the one that was asked for with this task:
    its segments are spread over the cluster, and what was written is measured again."""
    for work in Render.objects.filter(state=State.QUEUED, cancel_requested=True):
        _ended(work, State.CANCELLED, "Cancelled before it began.")
    while chosen := Render.objects.waiting().first():
        with _running(Render, chosen.pk) as work:
            if work is None:
                continue  # another lane was faster: this one takes the next
            try:
                with_room(partial(_render, work), _cancel_check(work), _teller(work))
            except Cancelled:
                if not _goes_on_later(work):
                    shutil.rmtree(work.folder, ignore_errors=True)
                    Destination(work.target_path, OUTPUT_FORMATS[work.format]).discard()
                raise
        return


def _goes_on_later(work: Work) -> bool:
    """Whether work was stopped by being held back, not by being cancelled or deleted."""
    return isinstance(work, Render) and Render.objects.filter(pk=work.pk, cancel_requested=False).exists()


def _render(work: Render) -> None:
    work.shot.require_footage()
    folder = work.folder
    folder.mkdir(parents=True, exist_ok=True)
    (folder / STOP_FILE).unlink(missing_ok=True)
    fmt = OUTPUT_FORMATS[work.format]
    chosen = range(work.first, work.stop)
    target = Destination(work.target_path, fmt)
    check_room(target.path.parent, Experience().room_for(work))
    target.path.parent.mkdir(parents=True, exist_ok=True)
    stopped, report = _cancel_check(work), _reporter(work)
    _spread(work, target, chosen, lambda share: report(0.85 * share), stopped)
    known = judged_already(work)
    with closing(work.shot.opened()) as source:
        assemble(target, source, work.plan, chosen, folder, lambda share: report(0.85 + 0.13 * share), stopped)
        delivery = delivery_report(
            source, target, chosen, work.plan, measured=work.shot.report,
            judging=work.judging and known is None, stopped=stopped,
        )  # fmt: skip
    work.shot.require_footage()
    for piece in segment_files(folder, chosen, OUTPUT_FORMATS["ffv1"]):
        piece.unlink(missing_ok=True)
    if known:
        delivery = delivery.model_copy(update={"overwork": known})
    told = {"path": str(target.path), "report": delivery.model_dump()}
    with_room(lambda: Render.objects.filter(pk=work.pk).update(**told), stopped)


def _spread(work: Render, target: Destination, chosen: range, report: Progress, stopped: StopCheck) -> None:
    """Have every missing segment made by the cluster. A scheduler that goes away is waited for: what was made
    stays, and only what was under way is made again."""
    pieces, info = segments(chosen), work.shot.info
    waited, fewest = 0.0, len(pieces)
    while True:
        missing = [p for p in pieces if not segment_done(target, info, work.folder, p)]
        waited, fewest = (0.0 if len(missing) < fewest else waited), len(missing)
        connected = None
        try:
            connected = client()
            _spread_once(connected, work, target, missing, lambda left: report(1 - left / len(pieces)), stopped)
            return
        except (*LOST, OSError) as error:
            if waited > SCHEDULER_PATIENCE or (isinstance(error, OSError) and not _unreachable(error)):
                raise
            if connected is not None and not isinstance(error, KilledWorker):
                forget(connected)
            _sleep(RECONNECT_EVERY, stopped)
            waited += RECONNECT_EVERY


def _unreachable(error: OSError) -> bool:
    """Whether an error is that of a scheduler that cannot be reached, not one of files."""
    return error.errno is None or isinstance(error, ConnectionError | TimeoutError)


def _sleep(seconds: float, stopped: StopCheck) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if stopped():
            raise Cancelled("The render was cancelled; nothing was kept.")
        time.sleep(LOOK_EVERY)


def _spread_once(
    connected: Any, work: Render, target: Destination, missing: list[range], report: Callable[[int], None],
    stopped: StopCheck,
) -> None:  # fmt: skip
    if not missing:
        return
    asked = asked_of_workers(connected)
    plan, piece = work.plan.to_json(), piece_of(work.shot)
    about = (piece, plan, (str(target.path), work.format), str(work.folder))
    waiting = {
        connected.submit(make_segment, *about, (p.start, p.stop), pure=False, retries=RETRIES, **asked)
        for p in missing
    }
    try:
        while waiting:
            report(len(waiting))
            if stopped():
                raise Cancelled("The render was cancelled; nothing was kept.")
            waiting -= ended_among(waiting)
    except LOST:
        raise
    except BaseException:
        (work.folder / STOP_FILE).touch()
        connected.cancel(list(waiting))
        raise


def piece_of(shot: Shot) -> Piece:
    """A shot's footage, as a worker of the cluster needs to know it."""
    frames = (shot.frames.start, shot.frames.stop) if shot.frames else None
    return Piece(shot.path, shot.fingerprint, str(shot.index_file), shot.space, frames, shot.lines_first)


def ended_among(waiting: set[Any]) -> set[Any]:
    """Futures that ended within a moment; raises the error of one that failed."""
    try:
        done: set[Any] = wait(waiting, timeout=LOOK_EVERY, return_when="FIRST_COMPLETED").done
    except TimeoutError:
        if any(future.client.status != "running" for future in list(waiting)[:1]):
            raise CommClosedError("the scheduler went away") from None
        return set()
    for future in done:
        future.result()
    return done


@contextmanager
def _running(kind: type[Work], pk: int) -> Any:
    """Marks work as running and records how it ended. Yields None when there is nothing to do."""
    work = kind.objects.select_related("shot").filter(pk=pk).first()
    if work is None or work.state != State.QUEUED:
        yield None
        return
    if work.cancel_requested:
        _ended(work, State.CANCELLED, "Cancelled before it began.")
        yield None
        return
    work.state, work.started, work.attempts = State.RUNNING, timezone.now(), work.attempts + 1
    begun = {"state": work.state, "started": work.started, "attempts": work.attempts}
    claim = kind.objects.filter(pk=pk, state=State.QUEUED)
    if not with_room(lambda: claim.update(**begun)):  # another lane was faster
        yield None
        return
    try:
        yield work
    except Cancelled as error:
        if _goes_on_later(work):
            with_room(lambda: kind.objects.filter(pk=pk).update(state=State.QUEUED, attempts=0))
            if Render.objects.waiting().filter(pk=pk).exists():  # it was let go on before it had stopped
                run_render.enqueue(pk)
        else:
            _ended(work, State.CANCELLED, str(error))
    except LOST as error:
        _ended(
            work,
            State.FAILED,
            f"{settings.YELLOW_CLEAN.scheduler or 'The local cluster'} does not answer ({type(error).__name__});"
            " start it, then start this again: nothing that was made is lost.",
        )
    except (YellowCleanError, OSError) as error:
        _ended(work, State.FAILED, line_of(error))
    except Exception as error:
        _ended(
            work, State.FAILED, f"{kind.__name__} of {work.shot.name} failed unexpectedly: {type(error).__name__}."
        )
        raise
    else:
        _ended(work, State.DONE)


def _ended(work: Work, state: State, message: str = "") -> None:
    """Record how work ended, as soon as there is room for that."""
    with_room(lambda: work.ended(state, message))


def _teller(work: Work) -> Callable[[str], Any]:
    """Says with the work what it waits for."""
    return lambda text: type(work).objects.filter(pk=work.pk).update(message=text)


def _reporter(work: Work) -> Progress:
    """Writes progress to the database, not more often than anybody could see."""
    last = 0.0

    def report(share: float) -> None:
        nonlocal last
        now = time.monotonic()
        if now - last >= LOOK_EVERY:
            last = now
            spared(lambda: type(work).objects.filter(pk=work.pk).update(progress=share, message=""))

    return report


def _cancel_check(work: Work) -> StopCheck:
    """Whether the user asked for an end or deleted the work, looked up a few times a second at most."""
    last, answer = 0.0, False

    def stopped() -> bool:
        nonlocal last, answer
        now = time.monotonic()
        if now - last >= LOOK_EVERY:
            last = now
            wanted = type(work).objects.filter(pk=work.pk, cancel_requested=False)
            answer = not (wanted.filter(paused=False) if isinstance(work, Render) else wanted).exists()
        return answer

    return stopped


def sweep() -> None:
    """Queue again what a killed worker left running; give up honestly after a few attempts."""
    runners: tuple[tuple[type[Work], Callable[[int], Any]], ...] = (
        (Survey, run_survey.enqueue),
        (Render, run_render.enqueue),
    )
    for kind, enqueue in runners:
        for work in kind.objects.interrupted():
            if work.cancel_requested:
                _ended(work, State.CANCELLED, "Cancelled.")
            elif work.attempts >= MOST_ATTEMPTS:
                _ended(work, State.FAILED, f"The worker was interrupted {work.attempts} times; start it again.")
            else:
                work.state = State.QUEUED
                with_room(partial(work.save, update_fields=["state"]))
                with_room(partial(enqueue, work.pk))
