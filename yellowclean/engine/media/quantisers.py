"""How large the errors are that a codec was let make, from the quantisers that its stream tells.

H.264, MPEG-2 and MPEG-4 tell one for each macroblock, which FFmpeg's libraries export with the frame
(AVVideoEncParams); JPEG pictures carry their tables (ITU-T T.81, B.2.4.1). The laws from quantiser to error were
fitted to the error of the decoded picture against the truth, on the test camera's scenes and on photographs, at
crf 12 to 40 and quantiser scales 3 to 20."""

from __future__ import annotations

import struct
from typing import Any, cast

import numpy as np
from av.sidedata.sidedata import Type
from av.video.frame import VideoFrame

from ..frames import Array

CELL = 16
"""Pixels a side of what one quantiser holds for."""

HEAD = struct.Struct("<I4xQQii")
"""How many blocks, where they begin, bytes of one, the codec's kind, and the frame's quantiser."""

H264, MPEG = 1, 2
"""Kinds, as FFmpeg's libraries number them."""

AT_30, DOUBLED = 2.8, 11.0
"""RMS error of H.264 at quantiser 30, in 8-bit codes, and how much further up it is twice that."""

AT_1, GROWS = 0.53, 0.65
"""RMS error at a quantiser step of one 8-bit code, and its growth with the step: as a power, since coarse steps
take away whole coefficients, which are smaller than they."""

QUANTISATION_TABLE, SCAN, STANDALONE = 0xDB, 0xDA, {0xD8, 0x01, *range(0xD0, 0xD8)}
"""JPEG markers: a segment of tables, the picture itself, and those that no length follows."""

JUDGED_BY = 9
"""Coefficients behind the mean, in order of rising frequency, whose steps stand for a JPEG table: most of the
energy of a picture lies there."""


def coding_error(frame: VideoFrame, bits: int) -> Array | None:
    """Expected RMS error of luma, in 8-bit codes, for each cell of a decoded frame; None where nothing is told."""
    told = cast(Any, frame.side_data).get(Type.VIDEO_ENC_PARAMS)
    if told is None:
        return None
    data = bytes(told)
    count, offset, size, kind, base = HEAD.unpack_from(data)
    if kind not in {H264, MPEG}:
        return None
    cells = np.full((-(-frame.height // CELL), -(-frame.width // CELL)), base, np.float32)
    blocks = np.frombuffer(data, np.int32, count * size // 4, offset).reshape(count, size // 4)
    rows, columns = blocks[:, 1] // CELL, blocks[:, 0] // CELL
    inside = (rows >= 0) & (rows < cells.shape[0]) & (columns >= 0) & (columns < cells.shape[1])
    cells[rows[inside], columns[inside]] = base + blocks[inside, 4]
    # deeper samples are coded with quantisers that begin as much lower as their steps are finer (H.264, 7.4.2.1.1)
    return of_quantiser(cells - 6 * (bits - 8)) if kind == H264 else of_step(cells)


def of_quantiser(quantiser: Array) -> Array:
    """RMS error of H.264 by quantiser, in 8-bit codes."""
    error: Array = np.float32(AT_30) * np.exp2((quantiser - 30) / np.float32(DOUBLED))
    return error


def of_step(step: Array) -> Array:
    """RMS error by the step of a quantiser without a loop filter behind it, both in 8-bit codes."""
    error: Array = np.float32(AT_1) * np.maximum(step, 0) ** np.float32(GROWS)
    return error


def jpeg_step(data: bytes) -> float | None:
    """The typical step of a JPEG picture's first table, in 8-bit codes; None where there is none."""
    at = 0
    while at + 4 <= len(data) and data[at] == 0xFF:
        marker = data[at + 1]
        if marker in STANDALONE:
            at += 2
            continue
        if marker == SCAN:
            break
        length = int.from_bytes(data[at + 2 : at + 4], "big")
        if marker == QUANTISATION_TABLE and at + 5 + 64 <= len(data):
            kind = ">u2" if data[at + 4] >> 4 else "u1"
            return float(np.frombuffer(data, kind, 1 + JUDGED_BY, at + 5)[1:].mean())
        at += 2 + length
    return None
