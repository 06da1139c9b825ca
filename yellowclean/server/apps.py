"""The Django application."""

from django.apps import AppConfig


class ServerConfig(AppConfig):
    name = "yellowclean.server"
    label = "yellowclean"
