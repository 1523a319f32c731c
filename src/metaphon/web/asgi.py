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
pages = get_asgi_application()

# what follows needs the applications to be set up
from metaphon.web.gc_freeze import freeze  # noqa: E402
from metaphon.web.mixes.access import carries_token  # noqa: E402
from metaphon.web.shell.bodies import Bodies  # noqa: E402

application = Bodies(pages, carries_token)

freeze()
