"""`manage.py serve`: the web server and the worker together; Ctrl-C ends every process."""

from __future__ import annotations

import contextlib
import ctypes
import fcntl
import http.client
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError, CommandParser

LOOPBACK = "127.0.0.1"

MOST_ENDS, WITHIN = 5, 60.0
"""Times that a part may end within so many seconds before the application gives up."""

PR_SET_PDEATHSIG = 1


class Command(BaseCommand):
    help = "Serve the application until Ctrl-C."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--port", type=int, default=8000)
        parser.add_argument(
            "--host", default=LOOPBACK, help="beyond this machine only with YELLOW_CLEAN_REQUIRE_LOGIN=1"
        )

    def handle(self, *args: Any, **options: Any) -> None:
        host = options["host"]
        if host not in {LOOPBACK, "localhost"} and not settings.YELLOW_CLEAN.require_login:
            raise CommandError(
                f"{host}: would let everybody in who reaches this machine; set YELLOW_CLEAN_REQUIRE_LOGIN=1 and"
                " make an account (manage.py createsuperuser), or leave --host out."
            )
        with _alone():
            self._serve(host, options["port"])

    def _serve(self, host: str, port: int) -> None:
        call_command("migrate", verbosity=0)
        manage = [sys.executable, str(settings.BASE_DIR / "manage.py")]
        web = [sys.executable, "-m", "uvicorn", "yellowclean.server.asgi:application", "--port", str(port)]
        web += ["--host", host]
        web += ["--log-level", "warning", "--timeout-graceful-shutdown", "2"]
        signal.signal(signal.SIGTERM, _interrupted)
        signal.signal(signal.SIGINT, _interrupted)  # ignored by default where a shell started us aside
        parts = [_Part("web server", web), _Part("worker", [*manage, "worker"])]
        try:
            _wait_until_up(host, port, parts)
            behind = "behind its proxy" if settings.YELLOW_CLEAN.require_login else "in a browser"
            self.stdout.write(f"Yellow Clean is ready {behind}: http://{host}:{port}  (Ctrl-C ends it)")
            while True:
                time.sleep(0.3)
                for part in parts:
                    if (code := part.process.poll()) is not None:
                        self.stderr.write(f"The {part.name} ended ({_how(code)}); it is started again.")
                        part.start_again()
        except KeyboardInterrupt:
            pass
        finally:
            _end([part.process for part in parts])


class _Part:
    """A process of the application, started again when it ends; what it was doing, the next one takes up."""

    def __init__(self, name: str, command: list[str]) -> None:
        self.name, self._command, self._ends = name, command, list[float]()
        self.process = _child(command)

    def start_again(self) -> None:
        """Raises `CommandError` where it ends again and again."""
        now = time.monotonic()
        self._ends = [end for end in self._ends if now - end < WITHIN] + [now]
        if len(self._ends) > MOST_ENDS:
            raise CommandError(f"The {self.name} ends again and again; see the messages above.")
        _signal_group(self.process, signal.SIGKILL)
        self.process = _child(self._command)


def _how(code: int) -> str:
    return f"killed by signal {-code}" if code < 0 else f"exit {code}"


@contextlib.contextmanager
def _alone() -> Iterator[None]:
    """Keep the data folder to this server. Two would give each other's work up as left by a killed one."""
    data = settings.YELLOW_CLEAN.data
    with (data / "serving.lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            raise CommandError(
                f"{data}: another server works on this folder; end it, or name another in YELLOW_CLEAN_DATA."
            ) from error
        yield


def _child(command: list[str]) -> subprocess.Popen[bytes]:
    """A process of its own group, so that Ctrl-C reaches it through us alone and in order."""
    return subprocess.Popen(command, start_new_session=True, preexec_fn=_ends_with_parent)  # noqa: PLW1509, no threads


def _ends_with_parent() -> None:
    """Have the kernel end this process when the one that started it does, however that came: two workers on one
    data folder would take each other's work for that of a killed one (prctl(2))."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)


def _interrupted(*_: object) -> None:
    raise KeyboardInterrupt


def _wait_until_up(host: str, port: int, parts: list[_Part]) -> None:
    for _ in range(200):
        if any(part.process.poll() is not None for part in parts):
            raise CommandError(f"{host}:{port} could not be served; is another program using the port?")
        connection = http.client.HTTPConnection(host, port, timeout=2)
        try:
            connection.request("GET", "/api/treatments")
            connection.getresponse()  # whatever it says
            return
        except (http.client.HTTPException, OSError):
            time.sleep(0.15)
        finally:
            connection.close()
    raise CommandError(f"{host}:{port} does not answer; see the messages above.")


def _end(children: list[subprocess.Popen[bytes]]) -> None:
    """Ask nicely, then firmly, then by force, each whole group."""
    for how, patience in ((signal.SIGTERM, 3.0), (signal.SIGTERM, 3.0), (signal.SIGKILL, 3.0)):
        for child in children:
            _signal_group(child, how)
        end = time.monotonic() + patience
        while time.monotonic() < end and any(child.poll() is None for child in children):
            time.sleep(0.05)
    for child in children:
        _signal_group(child, signal.SIGKILL)


def _signal_group(child: subprocess.Popen[bytes], how: int) -> None:

    with contextlib.suppress(ProcessLookupError):
        os.killpg(child.pid, how)
