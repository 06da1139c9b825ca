"""Reach: where a step acts. `model` says what can be asked for, `matte` turns it into a matte."""

from .matte import matte
from .model import Cleanup, Detail, HueSample, Reach, Shape, ShapeKey, Tones
from .sample import sampled_hue

__all__ = ["Cleanup", "Detail", "HueSample", "Reach", "Shape", "ShapeKey", "Tones", "matte", "sampled_hue"]
