"""A disk that is full: work waits for room, what can be spared is, and nobody dies of it."""

from __future__ import annotations

import shutil
import sqlite3
import time
from collections.abc import Callable
from typing import TypeVar

from django.conf import settings
from django.db.utils import OperationalError

from ..engine.disk import is_full
from ..engine.errors import Cancelled
from ..engine.frames import StopCheck, never

ROOM_EVERY = 3.0
"""Seconds between tries."""

LEAST_FREE = 1 << 20
"""Bytes below which a database that cannot be written has no room."""

WAITING = "The disk is full; it goes on by itself once there is room."

T = TypeVar("T")


def no_room(error: BaseException) -> bool:
    """Whether something failed for want of room: on the disk of a result, or on that of the database."""
    if isinstance(error, OperationalError | sqlite3.OperationalError):
        free = shutil.disk_usage(settings.YELLOW_CLEAN.data).free
        return "full" in str(error) or ("I/O" in str(error) and free < LEAST_FREE)
    return is_full(error)


def with_room(
    action: Callable[[], T], stopped: StopCheck = never, told: Callable[[str], object] = lambda text: None
) -> T:
    """Do it; for want of room wait, say so to `told`, and do it again. Raises `Cancelled` when `stopped`."""
    while True:
        try:
            return action()
        except Exception as error:
            if not no_room(error):
                raise
        spared(lambda: told(WAITING))
        until = time.monotonic() + ROOM_EVERY
        while time.monotonic() < until:
            if stopped():
                raise Cancelled("Stopped while the disk was full; nothing was kept.")
            time.sleep(0.3)


def spared(action: Callable[[], T]) -> T | None:
    """Do it, or do without for want of room: a cache, a progress."""
    try:
        return action()
    except Exception as error:
        if not no_room(error):
            raise
        return None
