"""The Dask cluster that frames are spread over: a farm's scheduler, or processes of our own."""

from __future__ import annotations

import contextlib
import logging
import os
import threading
import time
from functools import cache
from pathlib import Path
from typing import Any

from django.conf import settings
from pydantic import BaseModel, Field, ValidationError

from ..engine.errors import BadInput
from ..engine.release import release
from .farm import KEY, fitting, mark

# Read when distributed is first imported, here and in its worker processes.
os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")

from distributed import Client, LocalCluster

PATIENCE = 2
"""Seconds that something lost is waited for while it is put away."""

JOINING = 30.0
"""Seconds that a farm without workers is waited for."""

_starting = threading.Lock()


class Way(BaseModel):
    """A way to spread renders over the cores: processes, and kernel threads in each."""

    processes: int = Field(ge=1, le=1024)
    threads: int = Field(ge=1, le=1024)


def tuned_file() -> Path:
    """Where the way is kept that tuning found to be the quickest on this machine."""
    return Path(settings.YELLOW_CLEAN.data) / "tuning.json"


def way_in_use() -> Way:
    """As many processes as the environment says, else what tuning found, else one for each core."""
    cores, asked = os.cpu_count() or 1, settings.YELLOW_CLEAN.workers
    if not asked:
        with contextlib.suppress(OSError, ValidationError):
            return Way.model_validate_json(tuned_file().read_text())
    return Way(processes=asked or cores, threads=max(cores // (asked or cores), 1))


def client() -> Any:
    """A connected client. The first call starts the local cluster, which takes about two seconds."""
    with _starting:
        return _client()


@cache
def _client() -> Any:
    options = settings.YELLOW_CLEAN
    if options.scheduler:
        connected = Client(options.scheduler, timeout="10s")
        connected.set_metadata(KEY, release())
        return connected
    way = way_in_use()
    os.environ["YELLOW_CLEAN_THREADS"] = str(way.threads)
    scratch = str(options.data / "scratch")
    cluster = LocalCluster(
        processes=True,
        n_workers=way.processes,
        threads_per_worker=1,
        memory_limit=None,
        dashboard_address="127.0.0.1:0",
        local_directory=scratch,
        silence_logs=logging.ERROR,
    )
    return Client(cluster)


def asked_of_workers(connected: Any) -> dict[str, Any]:
    """What work asks of those that compute it: on a farm, that they are of this very release. Raises `BadInput`
    where nobody on the farm is."""
    if not settings.YELLOW_CLEAN.scheduler:
        return {}
    until = time.monotonic() + JOINING
    while True:  # a scheduler that was started again fills by and by
        fits, others = fitting(connected.scheduler_info(n_workers=-1)["workers"])
        if fits:
            return {"resources": {mark(): 1}}
        if time.monotonic() > until:
            why = f"; {len(others)} of another release have" if others else ""
            raise BadInput(f"{settings.YELLOW_CLEAN.scheduler}: no worker of this release has joined{why}.")
        time.sleep(0.5)


def forget(connected: Any) -> None:
    """Give up a connection that was lost, unless another has taken its place already; the next call of `client`
    makes one. A local cluster ends with it."""
    with _starting:
        if not _client.cache_info().currsize or _client() is not connected:
            return
        _client.cache_clear()
    with contextlib.suppress(Exception):  # it is lost already, however it says so
        if connected.cluster is not None:
            connected.cluster.close(timeout=PATIENCE)
        connected.close(timeout=PATIENCE)


def shut_down() -> None:
    """End the local cluster, if one was started."""
    if _client.cache_info().currsize:
        connected = client()
        if not settings.YELLOW_CLEAN.scheduler:
            connected.shutdown()
        connected.close()
        _client.cache_clear()
