"""Room on a disk: looked at before, and told from other failures after."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Sequence
from pathlib import Path

from .errors import BadInput

NO_ROOM = errno.ENOSPC, errno.EDQUOT


class NoRoom(BadInput):
    """A disk has less room than is needed."""


def is_full(error: BaseException) -> bool:
    """Whether something failed for want of room on a disk; what comes from another process may be mere text."""
    if isinstance(error, NoRoom) or getattr(error, "errno", None) in NO_ROOM:
        return True
    return any(os.strerror(number) in str(error) for number in NO_ROOM)


def check_room(folder: Path, needed: int) -> None:
    """Refuse what would fill the disk. Raises `NoRoom`."""
    there = next(p for p in (folder, *folder.parents) if p.exists())
    free = shutil.disk_usage(there).free
    if needed > free:
        raise NoRoom(
            f"{folder}: needs about {in_words(needed)}, {in_words(free)} are free; make room, or write elsewhere."
        )


def in_words(size: int) -> str:
    """Bytes as people read them (multiples of 1000, as disks are sold)."""
    units: Sequence[str] = ("bytes", "kB", "MB", "GB", "TB")
    value, unit = float(size), 0
    while value >= 1000 and unit < len(units) - 1:
        value, unit = value / 1000, unit + 1
    return f"{value:.0f} {units[unit]}" if value >= 10 or not unit else f"{value:.1f} {units[unit]}"
