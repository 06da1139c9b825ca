"""How much light an HDR picture holds: its maximum content light level and maximum frame-average light level
(CTA-861.3, annex P), by the curve of SMPTE ST 2084."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from ..frames import Array, Frame

PEAKS = 1000, 2000, 4000, 10000
"""cd/m² of displays that HDR is mastered on (common practice, no source)."""

NEARLY = 0.95
"""Of the brightest light, that a peak has to reach: codecs overshoot a little."""

BLACKEST = 0.0001
"""cd/m² of their black (common practice, no source)."""

BINS = 1 << 16

M1, M2 = 2610 / 16384, 2523 / 4096 * 128
C1, C2, C3 = 3424 / 4096, 2413 / 4096 * 32, 2392 / 4096 * 32


def pq_light(signal: Array) -> Array:
    """cd/m² of a PQ signal, 0-1 (SMPTE ST 2084:2014, equation 4.1)."""
    root = np.asarray(signal, np.float64) ** (1 / M2)
    light: Array = 10000 * (np.maximum(root - C1, 0) / (C2 - C3 * root)) ** (1 / M1)
    return light


@dataclass
class LightLevel:
    """Gathers frames in PQ; the figures are in cd/m²."""

    content: float = 0.0
    frame_average: float = 0.0
    _table: Array = field(default_factory=lambda: pq_light(np.linspace(0, 1, BINS)), repr=False)

    def add(self, frame: Frame) -> None:
        """Another frame, R'G'B' in PQ, H×W×3."""
        brightest = np.clip(np.nan_to_num(frame).max(axis=2), 0, 1)
        light = self._table[np.rint(brightest * (BINS - 1)).astype(np.intp)]
        self.content = max(self.content, float(light.max()))
        self.frame_average = max(self.frame_average, float(light.mean()))

    @property
    def mastering_peak(self) -> int:
        """The peak of the least display that shows all of it."""
        return next((peak for peak in PEAKS if peak >= NEARLY * self.content), PEAKS[-1])
