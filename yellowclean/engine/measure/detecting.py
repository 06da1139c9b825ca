"""One pass of a shot's frames past all detectors."""

from __future__ import annotations

from array import array
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..frames import Array, Frame
from ..media import MediaInfo
from ..noise.profile import NoiseCurve
from ..parallel import side_by_side
from .cuts import Cuts
from .findings import DETECTORS, Detector, Finding, Glance, Look, Said

LOOKS = 8
"""Frames that detectors look at which need not see every frame."""


class DetectorPass:
    """Shows the frames of a pass to the detectors, each with the luma before and after it."""

    def __init__(self, info: MediaInfo, chosen: range, detectors: Sequence[Detector] = DETECTORS) -> None:
        self._info = info
        self._detectors = detectors
        picked = np.linspace(chosen.start, chosen.stop - 1, min(LOOKS, len(chosen)))
        self._picked = {round(n) for n in picked}
        self._seen: dict[str, list[tuple[int, Any]]] = {d.kind: [] for d in detectors if not d.every_frame}
        # of every frame a number or two are kept, so that a long shot takes little more memory than a short one
        self._series = {d.kind: array("d") for d in detectors if d.every_frame}
        self._frames = array("q")
        self.cuts = Cuts()
        self._before: Array | None = None
        self._waiting: tuple[int, Array, Frame | None, NoiseCurve, Said] | None = None

    def wants(self, n: int) -> bool:
        """Whether the whole of frame n is looked at, not its luma alone."""
        return n in self._picked

    def show(self, n: int, plane: Array, frame: Frame | None, curve: NoiseCurve, said: Said) -> None:
        self._observe(plane)
        self.cuts.see(n, plane)
        self._waiting = n, plane, frame, curve, said

    def _observe(self, after: Array | None) -> None:
        """Let the detectors look at the frame that waited for its successor."""
        if self._waiting is None:
            return
        n, plane, frame, curve, said = self._waiting
        glance = Glance(n, self._info, plane, self._before, after, curve, said)
        look = None
        if frame is not None:
            look = Look(n, self._info, plane, self._before, after, curve, said, frame=frame)
        for detector in self._detectors:
            if detector.every_frame:
                self._series[detector.kind].extend(detector.observe(glance))
        self._frames.append(n)
        if look is not None:
            heavy = [d for d in self._detectors if not d.every_frame]
            for detector, observed in zip(heavy, side_by_side(lambda d: d.observe(look), heavy), strict=True):
                self._seen[detector.kind].append((n, observed))
        self._before = plane

    def findings(self) -> list[Finding]:
        self._observe(None)
        self._waiting = None
        return [d.conclude(self._all_seen(d), self._info) for d in self._detectors]

    def _all_seen(self, detector: Detector) -> Sequence[tuple[int, Any]]:
        if detector.every_frame:
            numbers = np.array(self._series[detector.kind]).reshape(len(self._frames), -1)
            return list(zip(self._frames, numbers, strict=True))
        return self._seen[detector.kind]
