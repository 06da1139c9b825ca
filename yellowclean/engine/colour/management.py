"""Colour management through OpenColorIO: from what the footage is in to what the display shows.

The default configuration is the library's own studio configuration for ACES, with one's own beside it where the
environment names one (OCIO); a look may also be by another one alone, by the path of a .ocio file.
"""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

import PyOpenColorIO as ocio
from pydantic import BaseModel, ConfigDict, Field

from ..bounded import Text
from ..errors import BadInput
from ..media.boundary import checked_document

DEFAULT_CONFIG = "studio-config-v4.0.0_aces-v2.0_ocio-v2.5"

FAILURES = (ocio.Exception, ocio.ExceptionMissingFile, UnicodeDecodeError)
"""What the library raises; the second is no kind of the first, and its words about a binary file are no text."""


class Managed(BaseModel):
    """From the footage's space to a view of a display, both by the configuration's names."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    input: Text
    display: Text
    view: Text
    config: Text = Field("", description="Path of a .ocio file; empty for the built-in one.")

    def grading_space(self, config: ocio.Config) -> str:
        """Where contrast, CDL and LUT act."""
        return ocio.ROLE_COLOR_TIMING if config.hasRole(ocio.ROLE_COLOR_TIMING) else ocio.ROLE_SCENE_LINEAR


class Spaces(BaseModel):
    """What a configuration offers, and what it is called."""

    name: str
    inputs: list[str]
    displays: dict[str, list[str]]


def config_of(managed: Managed | None) -> ocio.Config:
    """The configuration that is meant; without management one that knows no spaces."""
    return _opened(managed.config) if managed else _raw()


@lru_cache(4)
def _opened(path: str) -> ocio.Config:
    checked_document(path)
    try:
        config = ocio.Config.CreateFromFile(path) if path else _built_in()
        config.validate()
    except FAILURES as error:
        raise BadInput(f"{path} is no colour configuration that can be read: {one_line(error)}") from error
    return config


CAMERA_2020 = "Camera Rec.2020"
"""Of wide-gamut cameras that record neither log nor HDR; the library's configuration has none."""
DISPLAY_2020 = "Rec.1886 Rec.2020 - Display"
"""What shows their pictures."""


def _built_in() -> ocio.Config:
    """The library's configuration with `DISPLAY_2020` and `CAMERA_2020`: curve and primaries of ITU-R BT.2020-2,
    tables 4 (at ten bits) and 3."""
    config = ocio.Config.CreateFromBuiltinConfig(DEFAULT_CONFIG)
    scene = config.getRoleColorSpace(ocio.ROLE_INTERCHANGE_SCENE)
    alpha, gamma = 0.099, 1 / 0.45
    curve = ocio.ExponentWithLinearTransform(
        gamma=[gamma, gamma, gamma, 1], offset=[alpha, alpha, alpha, 0], direction=ocio.TRANSFORM_DIR_INVERSE
    )
    space = ocio.ColorSpace(ocio.REFERENCE_SPACE_SCENE, CAMERA_2020, family="Utility/ITU", encoding="sdr-video")
    primaries = ocio.ColorSpaceTransform(scene, "Linear Rec.2020")
    space.setTransform(ocio.GroupTransform([primaries, curve]), ocio.COLORSPACE_DIR_FROM_REFERENCE)
    config.addColorSpace(space)
    shown = ocio.ColorSpace(ocio.REFERENCE_SPACE_DISPLAY, DISPLAY_2020, family="Display", encoding="sdr-video")
    from_light = ocio.BuiltinTransform("DISPLAY - CIE-XYZ-D65_to_REC.1886-REC.2020 - MIRROR NEGS")
    shown.setTransform(from_light, ocio.COLORSPACE_DIR_FROM_REFERENCE)
    config.addColorSpace(shown)
    own = own_config()
    return _with_own(config, own) if own else config


def colours() -> str:
    """What the default configuration is known by: another one's of the same names may be other colours."""
    return str(builtin_config().getCacheID())


def own_config() -> str:
    """Path of the configuration that the environment names; empty for none, and for one of the library's own."""
    named = os.environ.get("OCIO", "")
    return "" if named.startswith("ocio://") else named


def own_config_trouble() -> str:
    """Why the configuration that the environment names is not used; empty where it is, or there is none."""
    builtin_config()
    return _trouble[-1] if _trouble else ""


_trouble: list[str] = []


def _with_own(config: ocio.Config, path: str) -> ocio.Config:
    """A configuration with the spaces, looks and displays of one's own beside it, brought to its reference space;
    where both have a name, its own stands. One that cannot be had leaves it as it is, and is told of."""
    level = ocio.GetLoggingLevel()
    ocio.SetLoggingLevel(ocio.LOGGING_LEVEL_NONE)
    try:
        own = ocio.Config.CreateFromFile(path)
        own.validate()
        how = ocio.ConfigMergingParameters.Create()
        how.setDefaultStrategy(ocio.ConfigMergingParameters.STRATEGY_PREFER_BASE)
        how.setRoles(ocio.ConfigMergingParameters.STRATEGY_BASE_ONLY)
        how.setFileRules(ocio.ConfigMergingParameters.STRATEGY_BASE_ONLY)
        how.setAdjustInputReferenceSpace(True)
        how.setErrorOnConflict(False)
        merged = ocio.ConfigMergingHelpers.MergeConfigs(how, config, own)
        merged.setActiveDisplays(", ".join(dict.fromkeys([*config.getDisplays(), *own.getDisplays()])))
        merged.setActiveViews("")
        for folder in own.getSearchPaths():
            merged.addSearchPath(str(Path(path).absolute().parent / folder))
        merged.validate()
    except (*FAILURES, ValueError) as error:
        _trouble.append(f"OCIO={path}: is no colour configuration that can be used: {one_line(error)}")
        return config
    finally:
        ocio.SetLoggingLevel(level)
    return merged


def shown_space(managed: Managed) -> str:
    """The space of the built-in configuration that values are in under a view; "" for one of another one."""
    if managed.config:
        return ""
    found = builtin_config().getDisplayViewColorSpaceName(managed.display, managed.view)
    return managed.display if found == "<USE_DISPLAY_NAME>" else str(found)


def builtin_config() -> ocio.Config:
    """The default configuration."""
    return _opened("")


@lru_cache(1)
def _raw() -> ocio.Config:
    return ocio.Config.CreateRaw()


def spaces(path: str = "") -> Spaces:
    """The input spaces and displays of a configuration. Raises `BadInput`."""
    config = _opened(path)
    return Spaces(
        name=config.getName() or path,
        inputs=[space.getName() for space in config.getColorSpaces()],
        displays={display: list(config.getViews(display)) for display in config.getDisplays()},
    )


def managed_by_default(space: str) -> Managed:
    """Management by the built-in configuration, from a space of it."""
    config = builtin_config()
    display = config.getDefaultDisplay()
    return Managed(input=space, display=display, view=config.getDefaultView(display))


def one_line(error: Exception) -> str:
    """The first line of a library's message."""
    return str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
