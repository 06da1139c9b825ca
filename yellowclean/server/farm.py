"""Other machines: their paths to shared storage, and the releases that may compute together. Imports no Django: a
worker of the farm needs none."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Mapping
from pathlib import PurePosixPath
from typing import Any

from ..engine.errors import BadInput
from ..engine.release import differences, release

PATHS = "YELLOW_CLEAN_PATHS"
"""The environment variable that maps paths of the application to those of a worker: there=here, several of them
parted by the system's mark for lists of paths."""

KEY = "yellow-clean"
"""Under which the scheduler keeps the release of the application that it works for."""


def mappings(text: str | None = None) -> list[tuple[str, str]]:
    """Pairs of a folder as the application names it and as this machine does. Raises `BadInput`."""
    told = os.environ.get(PATHS, "") if text is None else text
    pairs = []
    for entry in told.split(os.pathsep):
        if entry:
            there, mark, here = entry.partition("=")
            if not mark or not there.startswith("/") or not here.startswith("/"):
                raise BadInput(f"{PATHS}: {entry!r} is no pair of folders; write /there=/here.")
            pairs.append((there.rstrip("/"), here.rstrip("/")))
    return sorted(pairs, key=lambda pair: -len(pair[0]))


def here(path: str) -> str:
    """A path of the application, as this machine names it."""
    for there, mine in mappings():
        if PurePosixPath(path).is_relative_to(there or "/"):
            return f"{mine}{path[len(there) :]}"
    return path


def plan_here(plan: str) -> str:
    """A plan document whose files are named as this machine names them."""
    for there, mine in mappings():
        plan = plan.replace(f'"{there}/', f'"{mine}/')
    return plan


def check_release(told: dict[str, str] | None) -> None:
    """Refuse to compute for an application of another release. Raises `BadInput`."""
    different = differences(release(), told) if told else ""
    if different:
        raise BadInput(
            f"the application is of another release ({different}); install the same one on all machines."
        )


def mark() -> str:
    """The name under which workers of this very release offer themselves: work asks for it, so that no other takes
    it, and one that joins later, or again under another address, does."""
    told = " ".join(f"{name}={number}" for name, number in release().items())
    return f"yellow-clean {hashlib.sha256(told.encode()).hexdigest()[:16]}"


def fitting(workers: Mapping[str, Any]) -> tuple[list[str], list[str]]:
    """Of what a scheduler tells of its workers: addresses of those of this release, and of the others."""
    fits = [address for address, told in workers.items() if mark() in (told.get("resources") or {})]
    return sorted(fits), sorted(set(workers) - set(fits))
