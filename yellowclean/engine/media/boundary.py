"""Where libraries are asked for footage: whatever they stumble over is that file's trouble, told in one line."""

from __future__ import annotations

import contextlib
import functools
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar, cast

import av.error

from ..errors import BadInput, YellowCleanError

Method = TypeVar("Method", bound=Callable[..., Any])


def reason_of(error: BaseException) -> str:
    """What a library says is wrong, fit to stand in brackets."""
    return str(getattr(error, "strerror", None) or error).strip().rstrip(".") or type(error).__name__


@contextmanager
def reading(path: str | Path) -> Iterator[None]:
    """Turn every failure of a library into `BadInput` about the file; those of the disk stay what they are."""
    try:
        yield
    except YellowCleanError:
        raise
    except MemoryError as error:
        raise BadInput(
            f"{path}: does not fit into memory; the file is damaged, or the machine too small."
        ) from error
    except Exception as error:
        if isinstance(error, OSError) and not isinstance(error, av.error.FFmpegError):
            raise
        raise BadInput(
            f"{path}: is damaged, or of a kind that cannot be read here ({reason_of(error)[:200]});"
            " copy it again from the original."
        ) from error


def guarded(method: Method) -> Method:
    """A method of a `Source` whose failures are those of its file."""

    @functools.wraps(method)
    def within(self: Any, *args: Any, **kwargs: Any) -> Any:
        with reading(self.info.path):
            return method(self, *args, **kwargs)

    return cast(Method, within)


def checked_name(path: Path) -> None:
    """Refuse a path that libraries cannot be told of."""
    try:
        if "\0" in str(path):
            raise BadInput(f"{str(path)!a}: is no path.")
        str(path).encode()
    except UnicodeEncodeError:
        raise BadInput(f"{str(path)!a}: its name is not UTF-8; choose another.") from None


def checked_document(path: str | Path) -> None:
    """Refuse a device or a pipe before a library reads it, which may never end. Nothing there is its to tell."""
    if path:
        with contextlib.suppress(OSError):
            _refuse_endless(Path(path), Path(path).stat())


def _refuse_endless(path: Path, status: os.stat_result) -> None:
    if not stat.S_ISREG(status.st_mode):
        raise BadInput(f"{path}: is not a file but a device, a pipe or a folder; choose the file itself.")


def checked_file(path: Path) -> Path:
    """Refuse what is no file that holds something: no path, nothing there, a device, a pipe, an empty file."""
    checked_name(path)
    try:
        status = path.stat()
    except OSError as error:
        if isinstance(error, PermissionError):
            raise
        raise BadInput(f"{str(path)[:300]}: does not exist; check the path.") from error
    _refuse_endless(path, status)
    if status.st_size == 0:
        raise BadInput(f"{path}: is empty (0 bytes); copy it again from the original.")
    return path
