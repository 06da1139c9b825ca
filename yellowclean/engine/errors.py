"""The engine's errors. Each message says what happened, where, and what to do about it, in one line."""

from __future__ import annotations

import errno


class YellowCleanError(Exception):
    """Root of everything the product raises on purpose; `str()` of it is fit for a user."""


class BadInput(YellowCleanError, ValueError):
    """Footage or a document that cannot be used as it is."""


class BadPlan(YellowCleanError, ValueError):
    """A plan or profile document that breaks its schema or its limits."""


class Cancelled(YellowCleanError):
    """The work was stopped on request; nothing partial was kept."""


def line_of(error: Exception) -> str:
    """What went wrong in one line for the user: where, what, and what to do about it where that is known."""
    if isinstance(error, OSError) and error.strerror:
        hint = " Make room, then start it again." if error.errno == errno.ENOSPC else ""
        text = f"{error.filename or 'a file'}: {error.strerror}.{hint}"
    else:
        text = str(error)
    return " ".join(text.split())
