"""The simulated sensor: exposure, photon and read noise, colour filter, demosaic, hot pixels.

Noise model: EMVA 1288 release 4.0, photon transfer: variance in electrons = signal + read², here
normal-distributed. Values may go below zero, as behind a camera's black pedestal.
"""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from ..colour.curves import ENCODERS
from ..frames import Array, Frame

PEDESTAL = 4096.0
STEP = 5500.0
"""16-bit codes for the demosaic: black at PEDESTAL, diffuse white STEP above (up to 11 × white fits)."""


class Camera(BaseModel):
    """Parameters of the test camera; every random draw follows from `seed` and the frame number."""

    model_config = ConfigDict(frozen=True)

    stops_under: float = Field(0.0, description="Exposure below nominal, made up for by gain.")
    full_scale: float = Field(9000.0, description="Electrons at diffuse white, nominal exposure.")
    read_noise: float = Field(3.0, description="Read noise in electrons.")
    white_balance: tuple[float, float, float] = (1.0, 1.0, 1.0)
    bayer: bool = True
    curve: Literal["bt709", "log"] = "bt709"
    lens_sigma: float = Field(0.6, description="Gaussian blur of the lens in pixels.")
    hot_pixels: int = 0
    noiseless: bool = False
    seed: int = 9

    def clean(self) -> Camera:
        """The same camera without noise and hot pixels: what gives the truth."""
        return self.model_copy(update={"noiseless": True, "hot_pixels": 0})


def expose(light: Array, camera: Camera, n: int) -> Frame:
    """Frame n of linear light through lens, sensor and curve: encoded R'G'B' (not yet clipped)."""
    optical = cv2.GaussianBlur(light, (0, 0), camera.lens_sigma) if camera.lens_sigma > 0 else light
    rng = np.random.default_rng((camera.seed, n))
    if camera.bayer:
        linear = _demosaiced(_sensed(_mosaic(optical), _mosaic_gain(optical.shape, camera), camera, rng))
    else:
        linear = _sensed(optical, np.array(camera.white_balance, np.float32), camera, rng)
    return ENCODERS[camera.curve](linear)


def sigma_curve(camera: Camera, levels: Array) -> tuple[Array, Array]:
    """True (levels, sigma) of R'G'B' for grey fields of linear `levels`, each K×3, in frame values.

    Measured on 480×480 flat fields from the camera itself, so that demosaicing and curve are in it;
    the sampling error of a sigma is then below 0.5 %.
    """
    means, sigmas = [], []
    for k, level in enumerate(levels):
        field = np.full((480, 480, 3), level, np.float32)
        inner = expose(field, camera, 100_000 + k)[8:-8, 8:-8].reshape(-1, 3)
        means.append(inner.mean(axis=0))
        sigmas.append(inner.std(axis=0))
    return np.array(means, np.float32), np.array(sigmas, np.float32)


def _sensed(signal: Array, gain: Array, camera: Camera, rng: np.random.Generator) -> Array:
    """Linear light as the sensor reports it, with noise, where `gain` is the white balance."""
    if camera.noiseless:
        return signal
    electrons = camera.full_scale * 2.0**-camera.stops_under / gain
    variance = np.maximum(signal, 0) * electrons + np.float32(camera.read_noise**2)
    noise = rng.standard_normal(signal.shape, dtype=np.float32) * np.sqrt(variance)
    sensed = signal + noise / electrons
    if camera.hot_pixels:
        where = np.random.default_rng(camera.seed + 77)
        y = where.integers(0, signal.shape[0], camera.hot_pixels)
        x = where.integers(0, signal.shape[1], camera.hot_pixels)
        sensed[y, x] += (
            where.uniform(0.15, 0.8, camera.hot_pixels).astype(np.float32).reshape(-1, *([1] * (sensed.ndim - 2)))
        )
    result: Array = sensed.astype(np.float32)
    return result


def _mosaic(light: Array) -> Array:
    """What an RGGB colour filter lets through."""
    plane = light[..., 1].copy()
    plane[::2, ::2] = light[::2, ::2, 0]
    plane[1::2, 1::2] = light[1::2, 1::2, 2]
    return plane


def _mosaic_gain(shape: tuple[int, ...], camera: Camera) -> Array:
    gains = np.empty((*shape[:2], 3), np.float32)
    gains[:] = camera.white_balance
    return _mosaic(gains)


def _demosaiced(plane: Array) -> Array:
    """Edge-aware demosaicing of an RGGB plane (OpenCV calls that order BG after its second line)."""
    codes = np.clip(np.rint(plane * STEP + PEDESTAL), 0, 65535).astype(np.uint16)
    rgb = cv2.demosaicing(codes, cv2.COLOR_BayerBG2RGB_EA)
    result: Array = (rgb.astype(np.float32) - np.float32(PEDESTAL)) / np.float32(STEP)
    return result
