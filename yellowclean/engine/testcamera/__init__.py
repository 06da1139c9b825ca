"""The simulated camera: footage with a known truth, for the demo, the tests and the benchmarks."""

from .demo import DEMO_SHOTS, demo_recipes
from .reel import TITLE, reel_recipes, shoot_reel, write_reel
from .scenes import SCENES, Motion
from .sensor import Camera, expose, sigma_curve
from .shoot import CODECS, LEAST_SIDE, Faults, ShotRecipe, frame_pair, scene_of, shoot

__all__ = [
    "CODECS",
    "DEMO_SHOTS",
    "LEAST_SIDE",
    "SCENES",
    "TITLE",
    "Camera",
    "Faults",
    "Motion",
    "ShotRecipe",
    "demo_recipes",
    "expose",
    "frame_pair",
    "reel_recipes",
    "scene_of",
    "shoot",
    "shoot_reel",
    "sigma_curve",
    "write_reel",
]
