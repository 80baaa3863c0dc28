"""Django settings. Everything that differs from site to site comes from the environment."""

from __future__ import annotations

import datetime
import os
import secrets
from pathlib import Path

from ordnung.formats.addresses import parse_networks
from ordnung.formats.authorities import Authorities
from ordnung.formats.siteclock import SETTING, parse_clock


def parse_folders(text: str) -> list[Path]:
    """Folders between colons. Raises ValueError for an empty one, which would be wherever the process stands."""
    folders = text.split(":")
    if not all(folder.strip() for folder in folders):
        raise ValueError(f"ORDNUNG_FOLDERS={text!r} has an empty folder in it, which would allow every file")
    return [Path(folder).resolve() for folder in folders]


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
FOLDERS = parse_folders(os.environ.get("ORDNUNG_FOLDERS", str(HOME / "incoming")))
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
EVERYWHERE_ELSE = (
    "0.0.0.0/0,::/0,!0.0.0.0/8,!127.0.0.0/8,!169.254.0.0/16,!224.0.0.0/4,!240.0.0.0/4,!::/127,!fe80::/10,!ff00::/8"
)
"""Everywhere but this machine itself, addresses of one link, and those of no single machine."""
EGRESS = parse_networks(os.environ.get("ORDNUNG_EGRESS", EVERYWHERE_ELSE))
"""Where mirrors and proxies may be."""
ENGINE_TROUBLE = os.environ.get("ORDNUNG_ENGINE_TROUBLE") or None
"""Where the supervisor writes what is wrong with the engine process, in words; empty while it works."""
PROXIES = int(os.environ.get("ORDNUNG_PROXIES", "0"))
"""How many proxies stand before the site and add to X-Forwarded-For; with none, that header is not believed."""
SESSION_IDLE = datetime.timedelta(minutes=int(os.environ.get("ORDNUNG_SESSION_IDLE_MINUTES", "480")))
SESSION_LONGEST = datetime.timedelta(hours=int(os.environ.get("ORDNUNG_SESSION_HOURS", "72")))
"""A session ends when nothing was asked for so long, and at the latest so long after the sign-in."""
UPLOADS_A_PERSON = int(os.environ.get("ORDNUNG_UPLOADS_A_PERSON_GIB", "64")) * 2**30
UPLOADS_IN_ALL = int(os.environ.get("ORDNUNG_UPLOADS_IN_ALL_GIB", "128")) * 2**30
"""Bytes of files on their way here from browsers."""
SITE = os.environ.get("ORDNUNG_SITE", "Ordnung")
"""What the site is called in what it gives out."""
TWO_PEOPLE = frozenset(os.environ.get("ORDNUNG_TWO_PEOPLE", "").split(",")) & {"certificates", "runs"}
"""Where the house wants a second person: to accept the certificate of an address that one changed, to start a run
that one drafted.
"""
WEB_DIST = Path(os.environ.get("ORDNUNG_WEB", str(Path(__file__).parents[3] / "web" / "dist")))

BOOT_BASE = Path(os.environ.get("ORDNUNG_BOOT_BASE", str(Path(__file__).parents[3] / "var" / "boot-base")))
"""The small Linux of discs that boot by themselves; it need not be there."""


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
    "csp",
    "rest_framework",
    "drf_spectacular",
    "ordnung.server.people",
    "ordnung.server.house",
    "ordnung.server.audit",
    "ordnung.server.fleet",
    "ordnung.server.catalogs",
    "ordnung.server.advisories",
    "ordnung.server.baselines",
    "ordnung.server.repositories",
    "ordnung.server.runs",
    "ordnung.server.work",
]
MIDDLEWARE = [
    "django.middleware.security.SecurityMiddleware",
    "csp.middleware.CSPMiddleware",
    "ordnung.server.security.kept_by_nobody",
    "ordnung.server.compression.CompressedJson",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "ordnung.server.people.sessions.SessionEnds",
    "ordnung.server.people.repeats.Repeats",
    "ordnung.server.audit.recording.Recording",
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
        "CONN_MAX_AGE": None,  # a line to the database is kept as long as its thread (``server.handler``)
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": f"PRAGMA journal_mode=WAL; PRAGMA synchronous={_SYNCHRONOUS}; PRAGMA foreign_keys=ON;",
        },
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
    {"NAME": "django.contrib.auth.password_validation.UserAttributeSimilarityValidator"},
    {"NAME": "django.contrib.auth.password_validation.NumericPasswordValidator"},
]
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
CSRF_FAILURE_VIEW = "ordnung.server.problems.forbidden"
SECURE = os.environ.get("ORDNUNG_SECURE", "") == "yes"
"""Whether the site is reached over TLS, by itself or by a proxy before it: cookies then never go any other way."""
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = SECURE
SECURE_HSTS_SECONDS = 365 * 86400 if SECURE else 0
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
# No inline script. Inline style is allowed because the interface library writes its rules that way.
CONTENT_SECURITY_POLICY = {
    "DIRECTIVES": {
        "default-src": ["'self'"],
        "script-src": ["'self'"],
        "style-src": ["'self'", "'unsafe-inline'"],
        "img-src": ["'self'", "data:"],
        "font-src": ["'self'"],
        "connect-src": ["'self'"],
        "object-src": ["'none'"],
        "base-uri": ["'none'"],
        "frame-ancestors": ["'none'"],
        "form-action": ["'self'"],
    }
}
SECURE_CROSS_ORIGIN_OPENER_POLICY = "same-origin"
DATA_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
FILE_UPLOAD_MAX_MEMORY_SIZE = 4 * 1024 * 1024
CACHES = {"default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"}}
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": ["ordnung.server.security.SessionOnly"],
    "DEFAULT_PERMISSION_CLASSES": ["ordnung.server.rights.permission.HasRight"],
    "DEFAULT_RENDERER_CLASSES": ["ordnung.server.shapes.RowRenderer"],
    "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "ordnung.server.problems.handle",
    "NUM_PROXIES": PROXIES,
    "DEFAULT_THROTTLE_RATES": {"sign-in": os.environ.get("ORDNUNG_SIGN_IN_RATE", "20/min")},
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Ordnung",
    "DESCRIPTION": "Keeps the firmware of rack servers in order.",
    "VERSION": "1",
    "OAS_VERSION": "3.1.0",
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_PERMISSIONS": ["ordnung.server.rights.permission.HasRight"],
    "SCHEMA_PATH_PREFIX": "/api/v1",
    "COMPONENT_SPLIT_REQUEST": True,
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "ordnung.server.contract.tell_problems",
    ],
    "ENUM_NAME_OVERRIDES": {
        "Helper": ["", "person", "hook"],
        "Right": ["look", "plan", "run", "approve", "keep"],
        "WorkState": ["asked", "running", "done", "failed"],
        "RunState": ["draft", "running", "ended"],
        "OrderState": ["go", "hold", "stop"],
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
