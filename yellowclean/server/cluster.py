"""The Dask cluster that frames are spread over: a farm's scheduler, or processes of our own."""

from __future__ import annotations

import logging
import os
import threading
from functools import cache
from typing import Any

from django.conf import settings

# Read when distributed is first imported, here and in its worker processes.
os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")

from distributed import Client, LocalCluster

_starting = threading.Lock()


def client() -> Any:
    """A connected client. The first call starts the local cluster, which takes about two seconds."""
    with _starting:
        return _client()


@cache
def _client() -> Any:
    options = settings.YELLOW_CLEAN
    if options.scheduler:
        return Client(options.scheduler, timeout="10s")
    # One kernel thread a process: the processes already use every core.
    os.environ["YELLOW_CLEAN_THREADS"] = str(max((os.cpu_count() or 1) // options.workers, 1))
    scratch = str(options.data / "scratch")
    cluster = LocalCluster(
        processes=True,
        n_workers=options.workers,
        threads_per_worker=1,
        memory_limit=None,
        dashboard_address="127.0.0.1:0",
        local_directory=scratch,
        silence_logs=logging.ERROR,
    )
    return Client(cluster)


def shut_down() -> None:
    """End the local cluster, if one was started."""
    if _client.cache_info().currsize:
        connected = client()
        if not settings.YELLOW_CLEAN.scheduler:
            connected.shutdown()
        connected.close()
        _client.cache_clear()
