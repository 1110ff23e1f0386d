"""A site of the Python content system with a real shop, on a file of SQLite's or on PostgreSQL; made without
migrations."""

import tomllib
from pathlib import Path
from urllib.parse import unquote, urlsplit

from oscar import defaults

globals().update({name: getattr(defaults, name) for name in dir(defaults) if name.isupper()})
BASE = Path(__file__).parent
SECRET_KEY = "made up"
ALLOWED_HOSTS = ["*"]
INSTALLED_APPS = [
    "home", *(f"wagtail{name}" for name in (
        ".contrib.redirects", ".contrib.forms", ".contrib.settings", ".contrib.search_promotions",
        ".contrib.simple_translation", ".locales", ".embeds", ".sites", ".users", ".snippets", ".documents",
        ".images", ".search", ".admin", "")),
    "modelcluster", "taggit", *(f"django.contrib.{name}" for name in (
        "admin", "auth", "contenttypes", "sessions", "messages", "staticfiles", "sites", "flatpages")),
    "oscar.config.Shop", *(f"oscar.apps.{name}.apps.{config}Config" for name, config in (
        ("analytics", "Analytics"), ("checkout", "Checkout"), ("address", "Address"), ("shipping", "Shipping"),
        ("catalogue", "Catalogue"), ("catalogue.reviews", "CatalogueReviews"), ("communication", "Communication"),
        ("partner", "Partner"), ("basket", "Basket"), ("payment", "Payment"), ("offer", "Offer"), ("order", "Order"),
        ("customer", "Customer"), ("search", "Search"), ("voucher", "Voucher"), ("wishlists", "Wishlists"),
        ("dashboard", "Dashboard"), *((f"dashboard.{name.lower()}", f"{name}Dashboard") for name in (
            "Reports", "Users", "Orders", "Catalogue", "Offers", "Partners", "Pages", "Ranges", "Reviews", "Vouchers",
            "Communications", "Shipping")))),
    "widget_tweaks", "haystack", "treebeard", "django_tables2", "sorl.thumbnail"]
MIDDLEWARE = ["django.contrib.sessions.middleware.SessionMiddleware",
              "django.contrib.auth.middleware.AuthenticationMiddleware",
              "django.contrib.messages.middleware.MessageMiddleware", "oscar.apps.basket.middleware.BasketMiddleware"]
TEMPLATES = [{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True, "OPTIONS": {
    "context_processors": ["django.template.context_processors.request", "django.contrib.auth.context_processors.auth",
                           "django.contrib.messages.context_processors.messages"]}}]
HAYSTACK_CONNECTIONS = {"default": {"ENGINE": "haystack.backends.simple_backend.SimpleEngine"}}
_URL = urlsplit(tomllib.loads((BASE / "nostos.toml").read_text())["site"]["database"])
DATABASES = {"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": BASE / "site.db"}
             if _URL.scheme == "sqlite" else {
                 "ENGINE": "django.db.backends.postgresql", "NAME": _URL.path[1:], "USER": _URL.username,
                 "PASSWORD": unquote(_URL.password or ""), "HOST": _URL.hostname, "PORT": _URL.port}}
ROOT_URLCONF = "urls"
SITE_ID = 1
WAGTAIL_SITE_NAME = "Kestrel Ridge"
WAGTAILADMIN_BASE_URL = "http://ridge.example"
MEDIA_ROOT, MEDIA_URL, STATIC_URL = BASE / "media", "/media/", "/static/"
USE_TZ = True
EMAIL_BACKEND = "django.core.mail.backends.locmem.EmailBackend"
WAGTAIL_I18N_ENABLED = True
LANGUAGES = WAGTAIL_CONTENT_LANGUAGES = [("en", "English"), ("de", "German")]
DEFAULT_AUTO_FIELD = "django.db.models.AutoField"
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
SILENCED_SYSTEM_CHECKS = ["admin.E403", "fields.W342"]


class _Without(dict[str, None]):
    """No app has migrations: its tables are made as its models are."""

    def __contains__(self, _: object) -> bool:
        return True

    def __getitem__(self, _: str) -> None:
        return None


MIGRATION_MODULES = _Without()
