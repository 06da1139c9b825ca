"""Camera curves: from linear light to encoded values and back.

Both continue linearly below black, so that noise around zero keeps its mean.
"""

from __future__ import annotations

import math

import numpy as np

from ..frames import Array

DISPLAY_POWER = 2.4
"""Of a reference display, black at zero (ITU-R BT.1886)."""

BETA_709 = 0.018053968510807
ALPHA_709 = 1 + 5.5 * BETA_709
"""Exact solution of ITU-R BT.709-6 item 1.2 for a smooth join (BT.2020-2 table 4 prints 1.0993, 0.0181)."""

LOG_TOP = 8.0
"""Linear light that the test camera's log curve maps to 1: three stops above diffuse white."""
LOG_SLOPE = 160.0


def bt709_encoded(linear: Array) -> Array:
    """Opto-electronic transfer of BT.709 item 1.2."""
    bright = np.maximum(linear, np.float32(BETA_709))
    curved = np.float32(ALPHA_709) * bright ** np.float32(0.45) - np.float32(ALPHA_709 - 1)
    return np.where(linear < np.float32(BETA_709), np.float32(4.5) * linear, curved).astype(np.float32)


def bt709_linear(encoded: Array) -> Array:
    """Inverse of `bt709_encoded`."""
    edge = np.float32(4.5 * BETA_709)
    bright = np.maximum(encoded, edge)
    curved = ((bright + np.float32(ALPHA_709 - 1)) / np.float32(ALPHA_709)) ** np.float32(1 / 0.45)
    return np.where(encoded < edge, encoded / np.float32(4.5), curved).astype(np.float32)


def log_encoded(linear: Array) -> Array:
    """A plain log curve of the test camera: log(1 + 160 L) / log(1 + 160·8)."""
    scale = np.float32(1 / math.log1p(LOG_SLOPE * LOG_TOP))
    curved = np.log1p(np.float32(LOG_SLOPE) * np.maximum(linear, 0)) * scale
    return np.where(linear < 0, linear * np.float32(LOG_SLOPE) * scale, curved).astype(np.float32)


def log_linear(encoded: Array) -> Array:
    """Inverse of `log_encoded`."""
    span = np.float32(math.log1p(LOG_SLOPE * LOG_TOP))
    curved = np.expm1(np.maximum(encoded, 0) * span) / np.float32(LOG_SLOPE)
    return np.where(encoded < 0, encoded * span / np.float32(LOG_SLOPE), curved).astype(np.float32)


ENCODERS = {"bt709": bt709_encoded, "log": log_encoded}
DECODERS = {"bt709": bt709_linear, "log": log_linear}
