"""The application that carries templates, tags and commands."""

from django.apps import AppConfig


class WebConfig(AppConfig):
    """Label for everything that belongs to no single model."""

    name = "cadrel.web"
    label = "web"
