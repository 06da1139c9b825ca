"""The simulated camera: footage with a known truth, for the demo, the tests and the benchmarks."""

from .demo import DEMO_SHOTS, demo_recipes
from .scenes import SCENES, Motion
from .sensor import Camera, expose, sigma_curve
from .shoot import CODECS, Faults, ShotRecipe, frame_pair, scene_of, shoot

__all__ = [
    "CODECS",
    "DEMO_SHOTS",
    "SCENES",
    "Camera",
    "Faults",
    "Motion",
    "ShotRecipe",
    "demo_recipes",
    "expose",
    "frame_pair",
    "scene_of",
    "shoot",
    "sigma_curve",
]
