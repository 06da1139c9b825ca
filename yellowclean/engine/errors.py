"""The engine's errors. Each message says what happened, where, and what to do about it, in one line."""


class YellowCleanError(Exception):
    """Root of everything the product raises on purpose; `str()` of it is fit for a user."""


class BadInput(YellowCleanError, ValueError):
    """Footage or a document that cannot be used as it is."""


class BadPlan(YellowCleanError, ValueError):
    """A plan or profile document that breaks its schema or its limits."""


class Cancelled(YellowCleanError):
    """The work was stopped on request; nothing partial was kept."""
