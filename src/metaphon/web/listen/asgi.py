"""Listening as its own server loads it.

So that sound on its way never waits for a page being made.
"""

import os
import sys

import django

from metaphon.core.listen.engines import begin_loading, wait_for_first_engine

begin_loading()
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "metaphon.web.settings")
django.setup()

# what follows needs the applications to be set up
from channels.auth import AuthMiddlewareStack  # noqa: E402
from channels.routing import ProtocolTypeRouter, URLRouter  # noqa: E402
from django.urls import path, resolve  # noqa: E402

from metaphon.core.listen.priority import come_first  # noqa: E402
from metaphon.web.gc_freeze import freeze  # noqa: E402
from metaphon.web.listen.about import about  # noqa: E402
from metaphon.web.listen.consumer import Listener  # noqa: E402
from metaphon.web.listen.guest import Guest  # noqa: E402
from metaphon.web.listen.origin import OwnPages  # noqa: E402
from metaphon.web.together.around import Around  # noqa: E402

live = URLRouter(
    [
        path("mix/<int:mix_id>/listen/live", Listener.as_asgi()),
        path("mix/<int:mix_id>/around", Around.as_asgi()),
        path("shared/<str:text>/live", Guest.as_asgi()),
    ]
)
application = ProtocolTypeRouter({"websocket": OwnPages(AuthMiddlewareStack(live)), "http": about})

resolve("/health")  # so that the first edit need not wait for every address to be read
sys.setswitchinterval(0.001)  # so that sound on its way does not wait for a mix being read
wait_for_first_engine()  # no listener is let in before: on a new machine it takes minutes
come_first()
freeze()
