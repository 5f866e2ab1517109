"""Settings; what differs per installation comes from the environment, set by the commands in bin."""

import os
import secrets
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent
VAR = Path(os.environ.get("CADREL_VAR", PACKAGE.parents[2] / "var"))


def _secret() -> str:
    """The signing key: made once, readable by its owner only."""
    path = VAR / "secret_key"
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(50))
    return path.read_text()


SECRET_KEY = _secret()
DEBUG = False
ALLOWED_HOSTS = ["127.0.0.1", "localhost"]
WEB_PORT = int(os.environ.get("CADREL_WEB_PORT", "8460"))
LIVE_PORT = int(os.environ.get("CADREL_LIVE_PORT", "8463"))
BENCH_HOST, BENCH_PORT = "127.0.0.1", int(os.environ.get("CADREL_BENCH_PORT", "8461"))
LINK_SECRET = os.environ.get("CADREL_LINK_SECRET", "")  # what drives want to hear before anything else
SPOOL = VAR / "spool"  # finished runs that wait for the database
KNOWN_AXES = VAR / "live" / "axes.json"  # what STOP must reach, for when the database is gone

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "django_htmx",
    "axes",
    "cadrel.web.apps.WebConfig",
    "cadrel.web.projects",
    "cadrel.web.runs",
    "cadrel.web.library",
    "cadrel.web.jobs",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "cadrel.web.middleware.ContentPolicy",
    "cadrel.web.middleware.Unwell",
    "cadrel.web.middleware.TidyText",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django_htmx.middleware.HtmxMiddleware",
    "cadrel.web.middleware.LivePass",
    "axes.middleware.AxesMiddleware",
]
ROOT_URLCONF = "cadrel.web.urls"
ASGI_APPLICATION = "cadrel.web.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [PACKAGE / "templates"],
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "cadrel.web.notices.notices",
                "cadrel.web.middleware.live_origin",
            ],
            "builtins": ["cadrel.web.templatetags.cadrel"],
        },
    }
]
# A server that is away is said soon, and tried again by the next request, not after a back-off of minutes.
POOL = {"min_size": 2, "max_size": 16, "timeout": 2.0, "reconnect_timeout": 1.0}
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.postgresql",
        "NAME": os.environ.get("CADREL_DB_NAME", "cadrel"),
        "USER": os.environ.get("CADREL_DB_USER", "cadrel"),
        "PASSWORD": os.environ.get("CADREL_DB_PASSWORD", ""),
        "HOST": "127.0.0.1",
        "PORT": os.environ.get("CADREL_DB_PORT", "8462"),
        # Under ASGI every request has a thread of its own: kept connections would pile up, a pool does not.
        "CONN_MAX_AGE": 0,
        "CONN_HEALTH_CHECKS": True,  # a pooled connection that died with the server is noticed before it is used
        "OPTIONS": {"pool": POOL, "connect_timeout": 3},
    }
}
AUTHENTICATION_BACKENDS = ["axes.backends.AxesStandaloneBackend", "django.contrib.auth.backends.ModelBackend"]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
AUTH_PASSWORD_VALIDATORS = [{"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}]
AXES_FAILURE_LIMIT = 8
AXES_COOLOFF_TIME = 0.1  # [h]
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
ADDRESS_FAILURE_LIMIT = 40  # failed logins of one address within the cool-off, whatever names it tried
AXES_LOCKOUT_TEMPLATE = "accounts/locked.html"
AXES_RESET_ON_SUCCESS = True
LOGIN_URL = "login"
LOGIN_REDIRECT_URL = "projects"
LOGOUT_REDIRECT_URL = "login"
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en"
STATIC_URL = "/static/"
STATICFILES_DIRS = [PACKAGE / "static"]
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False
WHITENOISE_MAX_AGE = 0  # scripts import each other by plain path: the browser asks, the answer is mostly 304
CSRF_COOKIE_SAMESITE = SESSION_COOKIE_SAMESITE = "Strict"
SESSION_COOKIE_HTTPONLY = True
CSRF_FAILURE_VIEW = "cadrel.web.errors.csrf_failure"
DATA_UPLOAD_MAX_MEMORY_SIZE = 2_000_000
DATA_UPLOAD_MAX_NUMBER_FIELDS = 1000
LARGEST_REQUEST = 4_000_000  # [bytes] of any request: a longer one is refused before it is read
SECURE_REFERRER_POLICY = "same-origin"
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"axes": {"level": "ERROR"}},
}
SILENCED_SYSTEM_CHECKS = ["axes.W003"]
