"""App configuration."""

from django.apps import AppConfig


class Config(AppConfig):
    """The app and its label."""

    name = "ordnung.server.house"
    label = "house"
