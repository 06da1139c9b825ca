"""AV1 with a film grain table. Of the free encoders only the reference one takes a table (libaom), which FFmpeg as
a program brings: it is given samples, and hands back a file when all are there."""

from __future__ import annotations

import contextlib
import subprocess
import tempfile
from collections.abc import Sequence
from fractions import Fraction
from pathlib import Path

import imageio_ffmpeg

from ..disk import check_room
from ..errors import BadInput
from .planes import Plane

_ENCODER = (
    "-c:v", "libaom-av1", "-crf", "18", "-b:v", "0", "-cpu-used", "6", "-row-mt", "1", "-f", "mp4",
    "-video_track_timescale",
)  # fmt: skip


LEAST_ROOM = 1 << 20
"""Bytes below which an encoder of a process of its own stopped for want of room."""


class GrainCoder:
    """A running encoder; without a table it lays no grain. Primaries, transfer and matrix as H.273 numbers them,
    siting as FFmpeg does: one more."""

    def __init__(
        self, file: Path, size: tuple[int, int], rate: Fraction, table: str, *, pixel_format: str,
        full_range: bool, siting: int, primaries: int, transfer: int, matrix: int,
    ) -> None:  # fmt: skip
        self.file = file
        self._folder = tempfile.TemporaryDirectory(prefix="grain-")
        path = Path(self._folder.name) / "table"
        path.write_text(table)
        self._said = (Path(self._folder.name) / "said").open("w+")
        with_table = ["-aom-params", f"film-grain-table={path}"] if table else []
        self._running = subprocess.Popen(
            [
                imageio_ffmpeg.get_ffmpeg_exe(), "-v", "error", "-nostdin", "-f", "rawvideo",
                "-pix_fmt", pixel_format, "-s", "{}x{}".format(*size), "-r", str(rate),
                "-color_primaries", str(primaries), "-color_trc", str(transfer), "-colorspace", str(matrix),
                "-color_range", "pc" if full_range else "tv", "-chroma_sample_location", str(siting), "-i", "-",
                *with_table, *_ENCODER, str(rate.numerator), "-y", str(file),
            ],
            stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=self._said,
        )  # fmt: skip

    def put(self, planes: Sequence[Plane]) -> None:
        """Encode the next frame. Raises `BadInput` where the encoder has stopped."""
        assert self._running.stdin
        try:
            for plane in planes:
                self._running.stdin.write(plane.tobytes())
        except BrokenPipeError as error:
            raise self._stopped() from error

    def finish(self) -> Path:
        """The file of all frames. Raises `BadInput`."""
        assert self._running.stdin
        with contextlib.suppress(BrokenPipeError):
            self._running.stdin.close()
        if self._running.wait():
            raise self._stopped()
        return self.file

    def close(self) -> None:
        """End it if it still runs, and remove its file."""
        self._running.kill()
        self._running.wait()
        assert self._running.stdin
        with contextlib.suppress(BrokenPipeError):
            self._running.stdin.close()
        self._said.close()
        self._folder.cleanup()
        self.file.unlink(missing_ok=True)

    def _stopped(self) -> BadInput:
        self._running.wait()
        self._said.seek(0)
        check_room(self.file.parent, LEAST_ROOM)
        lines = self._said.read().strip().splitlines()
        return BadInput(
            f"{self.file.parent}: the AV1 encoder stopped ({lines[-1] if lines else 'no reason told'})."
        )
