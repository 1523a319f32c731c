"""The application as the web server loads it."""

import os
import sys
import warnings
from multiprocessing import forkserver

from django.core.asgi import get_asgi_application

# Static files are small and come as plain iterators; recordings and results are sent by shell/streaming.py.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
pages = get_asgi_application()

# what follows needs the applications to be set up
from channels.auth import AuthMiddlewareStack  # noqa: E402
from channels.routing import ProtocolTypeRouter, URLRouter  # noqa: E402
from channels.security.websocket import AllowedHostsOriginValidator  # noqa: E402
from django.urls import path  # noqa: E402

from metaphon.web.listen.consumer import Listener  # noqa: E402
from metaphon.web.settling import settle  # noqa: E402

live = URLRouter([path("mix/<int:mix_id>/listen/live", Listener.as_asgi())])
application = ProtocolTypeRouter({"http": pages, "websocket": AllowedHostsOriginValidator(AuthMiddlewareStack(live))})

sys.setswitchinterval(0.001)  # so that sound on its way does not wait for a page being drawn
forkserver.ensure_running()  # so that the first listener need not wait for it

settle()
