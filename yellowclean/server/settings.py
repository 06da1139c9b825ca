"""Django settings. What a user may change is read from the environment, once, in `Options`."""

from __future__ import annotations

import contextlib
import os
import secrets
from dataclasses import dataclass
from pathlib import Path

BASE_DIR = Path(__file__).resolve().parents[2]


def _folders(name: str) -> tuple[Path, ...]:
    """The folders that an environment variable lists."""
    return tuple(Path(f).expanduser().resolve() for f in os.environ.get(name, "").split(os.pathsep) if f)


BESIDE = 1 << 30
"""Bytes of the web process beside decoded frames and results: libraries, and what is being made."""


def _memory() -> int:
    """Bytes for decoded frames and results: what is asked for, else a quarter of the machine's, less what stands
    beside them."""
    asked = os.environ.get("YELLOW_CLEAN_MEMORY_MB")
    whole = int(asked) << 20 if asked else os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") // 4
    return max(whole - BESIDE, 256 << 20)


@dataclass(frozen=True, slots=True)
class Options:
    """The product's own settings.

    `media_folders`: folders from which footage may be imported. `delivery_folders`: folders that results may be
    written into, beside the application's own. `scheduler`: address of a Dask scheduler; empty means a local
    cluster of `workers` processes inside the worker (None: see `cluster.way_in_use`). `measure_added`: whether
    footage is measured as soon as it is added. `require_login`: whether everybody signs in, with an account made by
    `manage.py createsuperuser`.
    """

    data: Path
    media_folders: tuple[Path, ...]
    delivery_folders: tuple[Path, ...]
    scheduler: str
    workers: int | None
    cache_bytes: int
    memory_bytes: int
    measure_added: bool
    require_login: bool

    @staticmethod
    def from_environment() -> Options:
        return Options(
            data=Path(os.environ.get("YELLOW_CLEAN_DATA", BASE_DIR / "data")).absolute(),
            media_folders=_folders("YELLOW_CLEAN_MEDIA_FOLDERS"),
            delivery_folders=_folders("YELLOW_CLEAN_DELIVERY_FOLDERS"),
            scheduler=os.environ.get("YELLOW_CLEAN_SCHEDULER", ""),
            workers=int(os.environ["YELLOW_CLEAN_WORKERS"]) if "YELLOW_CLEAN_WORKERS" in os.environ else None,
            cache_bytes=int(os.environ.get("YELLOW_CLEAN_CACHE_MB", "4096")) << 20,
            memory_bytes=_memory(),
            measure_added=os.environ.get("YELLOW_CLEAN_MEASURE_ADDED", "1") != "0",
            require_login=os.environ.get("YELLOW_CLEAN_REQUIRE_LOGIN", "0") == "1",
        )


YELLOW_CLEAN = Options.from_environment()
YELLOW_CLEAN.data.mkdir(mode=0o700, parents=True, exist_ok=True)


def _secret_key() -> str:
    """A key of this installation's own, made at the first start."""
    file = YELLOW_CLEAN.data / "secret.key"
    if not file.exists():
        fresh = file.with_suffix(f".{os.getpid()}")
        with os.fdopen(os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as stream:
            stream.write(secrets.token_urlsafe(48))
        with contextlib.suppress(FileExistsError):  # another process of ours was faster
            os.link(fresh, file)
        fresh.unlink()
    return file.read_text().strip()


SECRET_KEY = _secret_key()
DEBUG = False
ALLOWED_HOSTS = [
    "127.0.0.1",
    "localhost",
    "[::1]",
    *filter(None, os.environ.get("YELLOW_CLEAN_HOSTS", "").split(",")),
]
INSTALLED_APPS = [
    "django.contrib.auth", "django.contrib.contenttypes", "django.contrib.sessions",
    "ninja", "django_tasks", "django_tasks_db", "yellowclean.server",
]  # fmt: skip
MIDDLEWARE = [
    "yellowclean.server.middleware.own_pages_alone",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.middleware.common.CommonMiddleware",
]
SIGN_IN = [
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "yellowclean.server.sign_in.SignInRequired",
]
"""What is added where accounts are asked for: the application then stands behind a proxy that speaks TLS."""

if YELLOW_CLEAN.require_login:
    MIDDLEWARE += SIGN_IN
    SECURE_PROXY_SSL_HEADER = ("HTTP_X_FORWARDED_PROTO", "https")
    SECURE_SSL_REDIRECT = SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = True
    SECURE_HSTS_SECONDS = 365 * 24 * 3600
    SECURE_HSTS_INCLUDE_SUBDOMAINS = SECURE_HSTS_PRELOAD = True
    X_FRAME_OPTIONS = "DENY"
    CSRF_TRUSTED_ORIGINS = [f"https://{host}" for host in ALLOWED_HOSTS]
LOGIN_URL = "/sign-in/"
AUTH_PASSWORD_VALIDATORS = [{"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator"}]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True}]
ROOT_URLCONF = "yellowclean.server.urls"
ASGI_APPLICATION = "yellowclean.server.asgi.application"
APPEND_SLASH = False

_DATABASE = YELLOW_CLEAN.data / "yellowclean.sqlite3"
if not _DATABASE.exists():  # what stands beside it, SQLite gives the same rights
    _DATABASE.touch(mode=0o600)

DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": _DATABASE,
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL;PRAGMA synchronous=NORMAL;",
        },
        "TEST": {"NAME": YELLOW_CLEAN.data / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"

TASKS = {"default": {"BACKEND": "django_tasks_db.DatabaseBackend", "QUEUES": []}}

USE_TZ = True
TIME_ZONE = "UTC"

STATIC_URL = "/static/"
WEB_DIST = BASE_DIR / "web" / "dist"
WHITENOISE_ROOT = None
STATICFILES_DIRS = [WEB_DIST] if WEB_DIST.is_dir() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False
WHITENOISE_IMMUTABLE_FILE_TEST = r"^.+/assets/.+-[\w-]{8}\.\w+$"
INSTALLED_APPS.append("django.contrib.staticfiles")

DATA_UPLOAD_MAX_MEMORY_SIZE = 64 << 20
"""Largest chunk of an upload."""

NINJA_PAGINATION_PER_PAGE = 200

LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
}
