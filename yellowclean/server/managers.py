"""Queries."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Self

from django.db import models


class ShotQuerySet(models.QuerySet[Any]):
    """Questions about shots."""

    def listed(self) -> Self:
        """Those that stand in their job: all of which no others were made."""
        return self.filter(derived__isnull=True)


class WorkQuerySet(models.QuerySet[Any]):
    """Questions about background work."""

    def active(self) -> Self:
        return self.filter(state__in=("queued", "running"))

    def active_or_ended_since(self, time: datetime) -> Self:
        return self.filter(models.Q(state__in=("queued", "running")) | models.Q(finished__gte=time))

    def interrupted(self) -> Self:
        """Work that says it runs although no worker does: what a killed worker leaves behind."""
        return self.filter(state="running")

    def cancel(self) -> int:
        """Ask for an end; queued work ends at once, running work at its next frame."""
        return self.active().update(cancel_requested=True)


class RenderQuerySet(WorkQuerySet):
    """Questions about renders."""

    def waiting(self) -> Self:
        """Those that may begin, in the order of the queue."""
        return self.filter(state="queued", paused=False, cancel_requested=False).order_by("rank", "pk")
