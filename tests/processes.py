"""Processes beside the tests: a real worker on the test database, and an ASGI live server."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import socket
import subprocess
import sys
from typing import Any

import uvicorn
from django.conf import settings
from django.db import connections
from django.test.testcases import LiveServerThread

from yellowclean.server.asgi import application

_WORKER = """
import os, django
os.environ["DJANGO_SETTINGS_MODULE"] = "yellowclean.server.settings"
from yellowclean.server import settings
settings.DATABASES["default"]["NAME"] = settings.DATABASES["default"]["TEST"]["NAME"]
django.setup()
from django.core.management import call_command
if __name__ == "__main__":
    call_command("worker")
"""


def worker_process() -> subprocess.Popen[bytes]:
    """The product's worker, in a process group of its own, on the test database."""
    script = settings.YELLOW_CLEAN.data / "worker_on_test_database.py"
    script.write_text(_WORKER)
    environment = os.environ | {"YELLOW_CLEAN_DATA": str(settings.YELLOW_CLEAN.data)}
    return subprocess.Popen([sys.executable, str(script)], env=environment, start_new_session=True)


def kill(process: subprocess.Popen[bytes]) -> None:
    """End a process and all its children at once."""
    with contextlib.suppress(ProcessLookupError):
        os.killpg(process.pid, signal.SIGKILL)
    process.wait()


class AsgiServerThread(LiveServerThread):
    """Django's live server speaks WSGI, which holds event streams back; this one is uvicorn."""

    def run(self) -> None:
        listening = socket.socket()
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # it may be started again where one ended
        listening.bind((self.host, self.port or 0))
        self.port = listening.getsockname()[1]
        config = uvicorn.Config(application, log_level="error", lifespan="off", timeout_graceful_shutdown=1)
        self._server = uvicorn.Server(config)
        self._server.install_signal_handlers = lambda: None  # type: ignore[attr-defined]
        self.is_ready.set()
        try:
            asyncio.run(self._server.serve(sockets=[listening]))
        finally:
            connections.close_all()

    def terminate(self) -> None:
        server: Any = getattr(self, "_server", None)
        if server:
            server.should_exit = True
        self.join(10)
