"""`manage.py worker`: runs surveys and renders; first takes up what an earlier worker left."""

from __future__ import annotations

import logging
from typing import Any

from django.core.management.base import BaseCommand
from django_tasks import TaskResultStatus
from django_tasks_db.management.commands.db_worker import Worker
from django_tasks_db.models import DBTaskResult

from ...cluster import shut_down
from ...tasks import sweep


class Command(BaseCommand):
    help = "Run the background worker until it is told to stop."

    def handle(self, *args: Any, **options: Any) -> None:
        logging.getLogger("django_tasks_db").setLevel(logging.ERROR)
        stale = DBTaskResult.objects.filter(status=TaskResultStatus.RUNNING)
        stale.update(status=TaskResultStatus.FAILED)
        sweep()
        worker = Worker(
            queue_names=["*"],
            interval=0.3,
            batch=False,
            backend_name="default",
            startup_delay=False,
            max_tasks=None,
            worker_id="yellow-clean",
            excluded_queue_names=[],
        )
        worker.configure_signals()
        try:
            worker.run()
        finally:
            shut_down()
