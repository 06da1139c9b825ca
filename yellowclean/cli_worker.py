"""yellow-clean worker: this machine joins a farm."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable
from pathlib import Path

from .engine.errors import BadInput
from .server.farm import KEY, check_release, mappings, mark

PATIENCE = "10s"
MOST = 1000
"""Pieces of work that a process would take at once, were it not for its one thread."""


def join(scheduler: str, processes: int, scratch: Path, tell: Callable[[str], None] = print) -> None:
    """Work for a scheduler until Ctrl-C, with so many processes, each of which is started again when it dies.
    Raises `BadInput` where the scheduler does not answer, or works for another release."""
    # Read when distributed is first imported, here and in the worker processes.
    os.environ.setdefault("DASK_LOGGING__DISTRIBUTED", "error")
    os.environ.setdefault("YELLOW_CLEAN_THREADS", str(max((os.cpu_count() or 1) // processes, 1)))
    mappings()
    try:
        asyncio.run(_work(scheduler, processes, scratch, tell))
    except (OSError, TimeoutError) as error:
        reason = " ".join(str(error).split())[:120].rstrip(".")
        raise BadInput(
            f"{scheduler}: no scheduler answers there ({reason}); start it, or check the address."
        ) from error
    except KeyboardInterrupt:
        tell("The worker has left.")


async def _work(scheduler: str, processes: int, scratch: Path, tell: Callable[[str], None]) -> None:
    from distributed import Client, Nanny  # noqa: PLC0415 (takes a second, and only a worker needs it)

    async with Client(scheduler, asynchronous=True, timeout=PATIENCE) as client:
        check_release(await client.get_metadata(KEY, default=None))
    nannies = [
        Nanny(scheduler, nthreads=1, memory_limit=None, local_directory=str(scratch), resources={mark(): MOST})
        for _ in range(processes)
    ]
    await asyncio.gather(*nannies)
    tell(
        f"Working for {scheduler} with {processes} {'process' if processes == 1 else 'processes'}. Ctrl-C ends it."
    )
    try:
        await asyncio.gather(*(nanny.finished() for nanny in nannies))
    finally:
        await asyncio.gather(*(nanny.close() for nanny in nannies))
