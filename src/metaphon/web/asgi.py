"""The pages as their web server loads them.

Listening has a server of its own (metaphon.web.listen.asgi).
"""

import os
import warnings

from django.core.asgi import get_asgi_application

# Static files are small and come as plain iterators; recordings and results are sent by
# shell/streaming.py.
warnings.filterwarnings(
    "ignore", message="StreamingHttpResponse must consume synchronous iterators"
)

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
application = get_asgi_application()

from metaphon.web.gc_freeze import freeze  # noqa: E402 - only what is loaded by now is frozen

freeze()
