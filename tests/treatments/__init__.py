"""Treatments of one file each, which the tests add to the engine."""

from __future__ import annotations

from contextlib import AbstractContextManager
from pathlib import Path
from unittest import mock

from yellowclean.engine import treat


def added() -> AbstractContextManager[object]:
    """A patch under which the treatments of this folder are found beside the engine's own."""
    with mock.patch.object(treat, "__path__", [*treat.__path__, str(Path(__file__).parent)]):
        return mock.patch.dict(treat.TREATMENTS, treat._discovered(), clear=True)
