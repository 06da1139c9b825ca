"""The whole application on a data folder of its own, as `manage.py serve` starts it, and what a client asks."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any, Self

ROOT = Path(__file__).resolve().parents[1]
PATIENCE = 240.0
"""Seconds within which everything has to be done, kills and restarts included."""


class Application:
    """One server on `data`, which can be started again however it ended; it imports from the folder `library`."""

    def __init__(self, data: Path, library: Path) -> None:
        self.data, self._library = data, library
        self._process: subprocess.Popen[bytes] | None = None
        self.port = 0
        self.log = data.parent / f"{data.name}.log"

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()
        self.clear()

    def start(self) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        environment = {k: v for k, v in os.environ.items() if k != "DJANGO_SETTINGS_MODULE"} | {
            "YELLOW_CLEAN_DATA": str(self.data), "YELLOW_CLEAN_MEDIA_FOLDERS": str(self._library),
            "YELLOW_CLEAN_MEASURE_ADDED": "0", "OPENBLAS_NUM_THREADS": "1",
        }  # fmt: skip
        with self.log.open("ab") as log:
            self._process = subprocess.Popen(
                [sys.executable, "manage.py", "serve", "--port", str(self.port)],
                cwd=ROOT, env=environment, start_new_session=True, stdout=log, stderr=log,
            )  # fmt: skip
        self.until(lambda: self.ask("GET", "/treatments") is not None, 60)

    @property
    def runs(self) -> bool:
        return self._process is not None and self._process.poll() is None

    def ask(self, method: str, path: str, body: Any = None) -> Any:
        """The answer's document; None where nobody answers. Raises `AssertionError` for answers of 5xx, but 507."""
        request = urllib.request.Request(
            f"http://127.0.0.1:{self.port}/api{path}", method=method,
            data=None if body is None else json.dumps(body).encode(), headers={"Content-Type": "application/json"},
        )  # fmt: skip
        try:
            with urllib.request.urlopen(request, timeout=30) as answer:
                text = answer.read()
                is_json = answer.headers.get("Content-Type", "").startswith("application/json")
                return json.loads(text) if is_json and text else {"bytes": len(text)}
        except urllib.error.HTTPError as error:
            told = error.read()[:300]
            if error.code >= 500 and error.code != 507:
                raise AssertionError(f"{method} {path}: {error.code} {told!r}") from error
            return {"refused": error.code, "detail": told.decode(errors="replace")}
        except (OSError, ValueError):
            return None

    def answers(self, path: str) -> bool:
        """Whether what is asked for is given."""
        answer = self.ask("GET", path)
        return answer is not None and not (isinstance(answer, dict) and "refused" in answer)

    def until(self, true: Callable[[], bool], seconds: float = PATIENCE) -> None:
        """Wait until something holds. Raises `TimeoutError`."""
        end = time.monotonic() + seconds
        while not true():
            if time.monotonic() > end:
                raise TimeoutError(f"not so after {seconds:.0f} s; see {self.log}")
            time.sleep(0.2)

    def processes(self) -> dict[str, list[int]]:
        """Process ids by part: serve, web, worker, farm."""
        if not self.runs or self._process is None:
            return {}
        found: dict[str, list[int]] = {"serve": [self._process.pid]}
        for child in _children(self._process.pid):
            kind = "web" if "uvicorn" in _command(child) else "worker"
            found.setdefault(kind, []).append(child)
            if kind == "worker":
                found["farm"] = [p for p in descendants(child) if "multiprocessing" in _command(p)]
        return found

    def kill(self, part: str) -> None:
        """SIGKILL one part, or all of it at once ("tree")."""
        found = self.processes()
        everything = [pid for pids in found.values() for pid in pids]
        for pid in everything if part == "tree" else found.get(part, [])[:1]:
            end(pid)

    def stop(self) -> None:
        for pid in [pid for pids in self.processes().values() for pid in pids]:
            end(pid)
        if self._process is not None:
            self._process.wait()

    def settle(self) -> None:
        """Start it again if it ended as a whole. Raises `AssertionError` where a process outlived that."""
        time.sleep(1.0)
        if not self.runs:
            self.until(lambda: not self.strays(), 15)
            self.start()

    def strays(self) -> list[int]:
        """All processes that work on the data folder, whoever started them."""
        mark, found = f"YELLOW_CLEAN_DATA={self.data}\0".encode(), []
        for folder in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError):
                if mark in (folder / "environ").read_bytes():
                    found.append(int(folder.name))
        return found

    def clear(self) -> None:
        """End whatever still works on the data folder."""
        for pid in self.strays():
            end(pid)


def end(pid: int) -> None:
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


def _command(pid: int) -> str:
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}/cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
    return ""


def _children(pid: int) -> list[int]:
    with contextlib.suppress(OSError):
        return [int(word) for word in Path(f"/proc/{pid}/task/{pid}/children").read_text().split()]
    return []


def descendants(pid: int) -> list[int]:
    """The processes that a process started, and those that they did."""
    return [p for child in _children(pid) for p in (child, *descendants(child))]


def pictures(path: Path) -> str:
    """A digest of all samples of a file: equal pictures in two files, whatever else differs in these."""
    from yellowclean.engine.media import VideoSource  # noqa: PLC0415

    source, digest = VideoSource(path), hashlib.sha256()
    for n in range(source.info.frames):
        for plane in source.planes(n):
            digest.update(plane.tobytes())
    source.close()
    return digest.hexdigest()
