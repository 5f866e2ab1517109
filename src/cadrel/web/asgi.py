"""Entry point of the ASGI server."""

from django.core.asgi import get_asgi_application

application = get_asgi_application()
