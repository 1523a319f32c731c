"""Settings, read from the environment; bin/ sets it for one machine (see docs/operations.md)."""

from pathlib import Path

import environ
from django.core.exceptions import ImproperlyConfigured

from metaphon.web.shell.workspaces import WORKSPACES

env = environ.Env()

SECRET_KEY = env("METAPHON_SECRET_KEY")
if len(SECRET_KEY) < 32:
    raise ImproperlyConfigured("METAPHON_SECRET_KEY is short; set 32 random characters or more.")
DEBUG = False
LOOPBACK = ["localhost", "127.0.0.1", "[::1]"]
DEMO = env.bool("METAPHON_DEMO", False)
DEMO_USER, DEMO_PASSWORD = "demo", "harbour-lamp"
ALLOWED_HOSTS = env.list("METAPHON_HOSTS", default=LOOPBACK)
if DEMO and not {*ALLOWED_HOSTS} <= {*LOOPBACK}:
    raise ImproperlyConfigured(
        "METAPHON_DEMO has a password that everybody knows and runs on loopback alone; unset it, "
        "or METAPHON_HOSTS."
    )
LISTEN_PORT = env.int(
    "METAPHON_LISTEN_PORT", None
)  # none: listening is reached at the same address as the pages

DATABASES = {"default": env.db("METAPHON_DATABASE_URL")}
DATABASES["default"]["OPTIONS"] = {
    **DATABASES["default"].get("OPTIONS", {}),  # such as sslmode, from the address
    "pool": {"min_size": 1, "max_size": 12},  # a new connection takes 15 ms
}
DATABASES["default"]["CONN_HEALTH_CHECKS"] = (
    True  # so that a database that was started anew is found again
)

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.humanize",
    "whitenoise.runserver_nostatic",
    "django.contrib.staticfiles",
    "axes",
    "csp",
    "django_htmx",
    "procrastinate.contrib.django",
    "metaphon.web.mixes",
    "metaphon.web.shell",
    "channels",
    "metaphon.web.jobs",
    *(workspace.app for workspace in WORKSPACES),
]

MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "metaphon.web.shell.packing.Packing",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "csp.middleware.CSPMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "metaphon.web.shell.middleware.PlainWords",
    "axes.middleware.AxesMiddleware",
]

ROOT_URLCONF = "metaphon.web.urls"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "metaphon.web.shell.context.shell",
            ],
            "builtins": ["metaphon.web.shell.templatetags.figures"],
        },
    }
]

AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}
]
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = 0.25  # hours
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_LOCKOUT_TEMPLATE = "shell/locked_out.html"
AXES_VERBOSE = False
LOGIN_URL = "sign_in"
LOGIN_REDIRECT_URL = "mixes"
LOGOUT_REDIRECT_URL = "sign_in"

CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'self'"],
        "img-src": ["'self'", "data:"],
        "media-src": ["'self'", "blob:"],
        "connect-src": [
            "'self'",
            *(
                f"ws://{host}:{LISTEN_PORT}"
                for host in ALLOWED_HOSTS
                if LISTEN_PORT and host[0] != "["
            ),
        ],
        "frame-ancestors": ["'none'"],
        "form-action": ["'self'"],
    }
}
SECURE_CONTENT_TYPE_NOSNIFF = True
SESSION_COOKIE_HTTPONLY = True
CSRF_FAILURE_VIEW = "metaphon.web.shell.views.forgery_refused"

STATIC_URL = "/static/"
WHITENOISE_USE_FINDERS = True
MEDIA_ROOT = Path(env("METAPHON_STORAGE"))
FILE_UPLOAD_HANDLERS = ["django.core.files.uploadhandler.TemporaryFileUploadHandler"]
FILE_UPLOAD_TEMP_DIR = env("METAPHON_UPLOADS", default=None)
DATA_UPLOAD_MAX_NUMBER_FILES = 64

FILE_UPLOAD_PERMISSIONS = 0o640
FILE_UPLOAD_DIRECTORY_PERMISSIONS = 0o750
_GIGABYTE = 10**9
MIX_BYTES = env.int("METAPHON_MIX_GB", 200) * _GIGABYTE
PERSON_BYTES = env.int("METAPHON_PERSON_GB", 1000) * _GIGABYTE
RESERVED_BYTES = env.int("METAPHON_RESERVED_GB", 1) * _GIGABYTE  # of the disk, never filled

LANGUAGE_CODE = "en-gb"
USE_TZ = True
TIME_ZONE = "UTC"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
FORM_RENDERER = "django.forms.renderers.DjangoTemplates"

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"plain": {"format": "{levelname} {name}: {message}", "style": "{"}},
    "handlers": {
        "console": {
            "class": "logging.StreamHandler",
            "formatter": "plain",
            "level": env("METAPHON_LOG_LEVEL", default="WARNING"),
        }
    },
    "root": {"handlers": ["console"], "level": "WARNING"},
}
