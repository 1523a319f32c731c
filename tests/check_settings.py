"""Settings for tools that read the code without running it."""

import os

os.environ.setdefault("METAPHON_SECRET_KEY", "only for reading code " * 3)
os.environ.setdefault("METAPHON_DATABASE_URL", "postgres://nobody@127.0.0.1/none")
os.environ.setdefault("METAPHON_STORAGE", "/nonexistent")

from metaphon.web.settings import *  # noqa: F403
