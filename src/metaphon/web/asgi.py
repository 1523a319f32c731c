"""The application as the web server loads it."""

import os

from django.core.asgi import get_asgi_application

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
application = get_asgi_application()
