"""The Django application, and what has to hold before it starts."""

from __future__ import annotations

from typing import Any

from django.apps import AppConfig
from django.core.checks import CheckMessage, Error, register

from ..engine.colour.management import own_config_trouble


class ServerConfig(AppConfig):
    name = "yellowclean.server"
    label = "yellowclean"


@register()
def colour_configuration(app_configs: Any, **kwargs: Any) -> list[CheckMessage]:
    """One's own colour configuration is used, or nothing is."""
    trouble = own_config_trouble()
    return [Error(trouble, hint="Name another file in OCIO, or none.")] if trouble else []
