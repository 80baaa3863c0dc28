"""Django settings. Everything that differs from site to site comes from the environment."""

from __future__ import annotations

import os
import secrets
from pathlib import Path

from ordnung.formats.addresses import parse_networks
from ordnung.formats.authorities import Authorities
from ordnung.formats.siteclock import SETTING, parse_clock

HOME = Path(os.environ.get("ORDNUNG_HOME", "var/site")).resolve()
"""Where the database, the payloads, the keys and the repositories lie."""
CA = os.environ.get("ORDNUNG_CA") or None
"""The certificate authority of the controllers and mirrors."""
CLOCK = parse_clock(os.environ.get(SETTING))
PAYLOAD_ADDRESS = os.environ.get("ORDNUNG_PAYLOAD_ADDRESS", "127.0.0.1")
PAYLOAD_PORT = int(os.environ.get("ORDNUNG_PAYLOAD_PORT", "0"))
PAYLOAD_CERTIFICATE = os.environ.get("ORDNUNG_PAYLOAD_CERTIFICATE") or None
NETWORKS = parse_networks(
    os.environ.get("ORDNUNG_NETWORKS", "10.0.0.0/8,172.16.0.0/12,192.168.0.0/16,169.254.0.0/16,fc00::/7,fe80::/10")
)
"""Where controllers may be: an address outside is refused, whoever enters it."""
FOLDERS = [Path(path).resolve() for path in os.environ.get("ORDNUNG_FOLDERS", str(HOME / "incoming")).split(":")]
"""Folders on this machine from which a person may bring in catalogs and packages."""
SSDP = os.environ.get("ORDNUNG_SSDP") or None
"""Our own address on the management network, and optionally the port, for searching it."""
AT_ONCE = int(os.environ.get("ORDNUNG_AT_ONCE", "8"))
"""Servers worked on at one time over the whole site (``night.md`` T6)."""
MAY_FORCE_RESTART = os.environ.get("ORDNUNG_FORCE_RESTART", "ask") == "allow"
"""Whether a forced restart may follow a graceful one that did not come to pass; else a person is asked."""
MIRROR_CA = os.environ.get("ORDNUNG_MIRROR_CA") or None
"""The certificate authority of the mirrors."""
SYSTEM_AUTHORITIES = frozenset(os.environ.get("ORDNUNG_SYSTEM_AUTHORITIES", "").split(",")) & {"controllers", "mirrors"}
"""For whom the system's authorities vouch too, beside or instead of those named here."""
MIRRORS_VOUCHED_BY = Authorities(MIRROR_CA, system=MIRROR_CA is None or "mirrors" in SYSTEM_AUTHORITIES)
"""Who vouches for mirrors: never the controllers' authority unless it is named here too."""
ENGINE_TROUBLE = os.environ.get("ORDNUNG_ENGINE_TROUBLE") or None
"""Where the supervisor writes what is wrong with the engine process, in words; empty while it works."""
WEB_DIST = Path(os.environ.get("ORDNUNG_WEB", str(Path(__file__).parents[3] / "web" / "dist")))


def _key() -> str:
    """The site's secret, from the environment or a file of mode 0600 outside the database."""
    if "ORDNUNG_SECRET" in os.environ:
        return os.environ["ORDNUNG_SECRET"]
    path = HOME / "secret.key"
    if not path.exists():
        HOME.mkdir(parents=True, exist_ok=True)
        path.touch(0o600)
        path.write_text(secrets.token_hex(32))
    return path.read_text().strip()


SECRET_KEY = _key()
DEBUG = False
ALLOWED_HOSTS = os.environ.get("ORDNUNG_HOSTS", "127.0.0.1,localhost,testserver").split(",")
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "rest_framework",
    "drf_spectacular",
    "ordnung.server.people",
    "ordnung.server.fleet",
    "ordnung.server.catalogs",
    "ordnung.server.advisories",
    "ordnung.server.baselines",
    "ordnung.server.repositories",
    "ordnung.server.runs",
    "ordnung.server.work",
]
MIDDLEWARE = [
    "ordnung.server.security.security_headers",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
]
ROOT_URLCONF = "ordnung.server.urls"
ASGI_APPLICATION = "ordnung.server.asgi.application"
TEMPLATES: list[dict[str, object]] = []
# The journal must survive a power cut: the engine sets FULL, which makes each commit durable.
_SYNCHRONOUS = os.environ.get("ORDNUNG_SYNCHRONOUS", "NORMAL")
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": os.environ.get("ORDNUNG_DATABASE", str(HOME / "ordnung.sqlite3")),
        "CONN_MAX_AGE": 0,
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": f"PRAGMA journal_mode=WAL; PRAGMA synchronous={_SYNCHRONOUS}; PRAGMA foreign_keys=ON;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.Argon2PasswordHasher"]
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"
STATIC_URL = "/static/"
STATIC_ROOT = WEB_DIST  # Vite's output is served as it is: its names carry their hashes
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/static/assets/.+-[\w-]{8}\.\w+$"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
SESSION_COOKIE_NAME = "ordnung-session"
CSRF_COOKIE_NAME = "ordnung-csrf"
CSRF_COOKIE_SAMESITE = "Lax"
SECURE_CONTENT_TYPE_NOSNIFF = True
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
CACHES = {"default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"}}
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["ordnung.server.security.SessionOnly"],
    "DEFAULT_PERMISSION_CLASSES": ["rest_framework.permissions.IsAuthenticated"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "ordnung.server.problems.handle",
    "DEFAULT_THROTTLE_RATES": {"sign-in": os.environ.get("ORDNUNG_SIGN_IN_RATE", "20/min")},
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Ordnung",
    "DESCRIPTION": "Keeps the firmware of rack servers in order.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_PERMISSIONS": ["rest_framework.permissions.IsAuthenticated"],
    "SCHEMA_PATH_PREFIX": "/api/v1",
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "WorkState": ["asked", "running", "done", "failed"],
        "RunState": ["draft", "running", "ended"],
        "RepositoryState": ["packing", "signing", "sealed", "waiting", "incomplete"],
        "LineState": ["waiting", "fetching", "packed", "refused", "left out", "elsewhere"],
        "WrittenState": ["writing", "done", "failed"],
        "ArrivalState": ["checking", "done", "waiting", "refused"],
    },
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"errors": {"class": "logging.StreamHandler", "level": "ERROR"}},
    "root": {"handlers": ["errors"], "level": "WARNING"},
    "loggers": {"django.request": {"handlers": ["errors"], "level": "ERROR", "propagate": False}},
}
