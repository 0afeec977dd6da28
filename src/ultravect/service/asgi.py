"""The service as an ASGI application."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "ultravect.service.settings")
_django = get_asgi_application()

from ultravect.service.front import Front  # noqa: E402 - Django has to be set up first

application = Front(_django)
