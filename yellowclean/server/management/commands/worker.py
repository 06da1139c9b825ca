"""`manage.py worker`: runs surveys and renders; first takes up what an earlier worker left."""

from __future__ import annotations

import logging
import os
import threading
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from django_tasks import TaskResultStatus
from django_tasks_db.management.commands.db_worker import Worker
from django_tasks_db.models import DBTaskResult

from ...cluster import shut_down
from ...leftovers import remove_leftovers
from ...room import with_room
from ...tasks import sweep


class Command(BaseCommand):
    help = "Run the background worker until it is told to stop."

    def handle(self, *args: Any, **options: Any) -> None:
        logging.getLogger("django_tasks_db").setLevel(logging.ERROR)
        stale = DBTaskResult.objects.filter(status=TaskResultStatus.RUNNING)
        with_room(lambda: stale.update(status=TaskResultStatus.FAILED))
        sweep()
        remove_leftovers()
        lanes = [_lane(k) for k in range(settings.YELLOW_CLEAN.workers or os.cpu_count() or 1)]
        for lane in lanes[1:]:
            # What a lane is doing when the first one is told to stop, the next start takes up again.
            threading.Thread(target=with_room, args=(lane.run,), name=lane.worker_id, daemon=True).start()
        lanes[0].configure_signals()
        try:
            with_room(lanes[0].run)
        finally:
            shut_down()


def _lane(k: int) -> Worker:
    """One of the loops that take work from the queue: a job's shots are measured side by side."""
    return Worker(
        queue_names=["*"],
        interval=0.3,
        batch=False,
        backend_name="default",
        startup_delay=False,
        max_tasks=None,
        worker_id=f"yellow-clean-{k}",
        excluded_queue_names=[],
    )
