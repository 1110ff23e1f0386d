"""Tells what a real system declares of its tables, as JSON: run with the Python of that system's own environment.

For each table its columns (type, whether empty is allowed, default, choices, index) and what is true of it: foreign
keys, generic relations, and which columns are plain numbers. Nothing of a database is needed; no name of a system
decides anything here but which settings are loaded.
"""

import contextlib
import json
import os
import sys

CONTRIB = ["admin", "auth", "contenttypes", "sessions", "messages", "sites", "redirects", "flatpages", "humanize"]
DJANGO = {
    "mezzanine": ["mezzanine.boot", "mezzanine.conf", "mezzanine.core", "mezzanine.generic", "mezzanine.pages",
                  "mezzanine.blog", "mezzanine.forms", "mezzanine.galleries", "cartridge.shop", "django_comments"],
    "machina": ["mptt", "haystack", "widget_tweaks", "machina", "machina.apps.forum",
                "machina.apps.forum_conversation", "machina.apps.forum_conversation.forum_attachments",
                "machina.apps.forum_conversation.forum_polls", "machina.apps.forum_feeds",
                "machina.apps.forum_moderation", "machina.apps.forum_search", "machina.apps.forum_tracking",
                "machina.apps.forum_member", "machina.apps.forum_permission"],
    "helpdesk": ["bootstrap4form", "account", "pinax.invitations", "pinax.teams", "rest_framework", "helpdesk"],
    "wiki": ["django_nyt", "mptt", "sekizai", "sorl.thumbnail", "wiki", "wiki.plugins.attachments",
             "wiki.plugins.notifications", "wiki.plugins.images", "wiki.plugins.macros", "wiki.plugins.links"],
    "puput": ["wagtail.contrib.forms", "wagtail.contrib.redirects", "wagtail.sites", "wagtail.users", "wagtail.embeds",
              "wagtail.documents", "wagtail.snippets", "wagtail.images", "wagtail.search", "wagtail.admin", "wagtail",
              "modelcluster", "taggit", "wagtail.contrib.sitemaps", "wagtail.contrib.routable_page",
              "django_social_share", "puput", "colorful"],
    "oscar": None,
}
SETTINGS = {"shuup": "shuup_workbench.settings", "weblate": "weblate.settings_example",
            "evennia": "evennia.settings_default", "mayan": "mayan.settings.base",
            "oscar": "settings"}
METADATA = {"superset": "superset", "superset2": "superset",
            "airflow": "airflow", "kotti": "kotti", "indico": "indico", "ckan": "ckan"}


def django_apps(name):
    import django
    from django.conf import settings
    if SETTINGS.get(name):
        os.environ["DJANGO_SETTINGS_MODULE"] = SETTINGS[name]
        settings.INSTALLED_APPS  # noqa: B018
    else:
        apps = [f"django.contrib.{c}" for c in CONTRIB] + (DJANGO.get(name) or [])
        more = {}
        if name == "oscar":
            from oscar.defaults import __dict__ as said
            more = {k: v for k, v in said.items() if k.startswith("OSCAR")}
            apps = [f"django.contrib.{c}" for c in CONTRIB] + oscar_apps()
        if name == "misago":
            apps = misago_apps()
            more = {"AUTH_USER_MODEL": "misago_users.User"}
        if name == "askbot":
            apps = askbot_apps()
        from importlib.util import find_spec
        here = [a for a in apps if find_spec(a.split(".")[0]) and (a.split(".")[-1][0].isupper() or find_spec(a))]
        settings.configure(
            INSTALLED_APPS=here, DATABASES={"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}},
            SITE_ID=1, SECRET_KEY="x", DEFAULT_AUTO_FIELD="django.db.models.AutoField", ROOT_URLCONF="x",
            WAGTAIL_SITE_NAME="x", TEMPLATES=[{"BACKEND": "django.template.backends.django.DjangoTemplates",
            "DIRS": [], "APP_DIRS": True, "OPTIONS": {"context_processors": []}}], USE_TZ=True, STATIC_URL="/s/",
            HAYSTACK_CONNECTIONS={"default": {"ENGINE": "haystack.backends.simple_backend.SimpleEngine"}},
            PACKAGE_NAME_FILEBROWSER="x", PACKAGE_NAME_GRAPPELLI="x", TESTING=True,
            COMMENTS_APP="mezzanine.generic" if name == "mezzanine" else None, **more)
    django.setup()
    return django_tables()


def oscar_apps():
    return ["oscar.config.Shop", "oscar.apps.analytics", "oscar.apps.checkout", "oscar.apps.address",
            "oscar.apps.shipping",
            "oscar.apps.catalogue", "oscar.apps.catalogue.reviews", "oscar.apps.communication", "oscar.apps.partner",
            "oscar.apps.basket", "oscar.apps.payment", "oscar.apps.offer", "oscar.apps.order", "oscar.apps.customer",
            "oscar.apps.search", "oscar.apps.voucher", "oscar.apps.wishlists", "oscar.apps.dashboard",
            "widget_tweaks", "haystack", "treebeard", "django_tables2"]


def misago_apps():
    import pathlib

    import misago
    found = sorted(p.parent.name for p in pathlib.Path(misago.__file__).parent.glob("*/models*")
                   if (p.parent / "apps.py").exists() or p.exists())
    return ["misago"] + [f"django.contrib.{c}" for c in CONTRIB[:4]] + [f"misago.{n}" for n in dict.fromkeys(found)] + [
        "mptt", "social_django"]


def askbot_apps():
    return [f"django.contrib.{c}" for c in CONTRIB] + [
            "askbot", "askbot.deps.django_authopenid", "askbot.deps.group_messaging",
            "followit", "keyedcache", "livesettings", "django_countries"]


def django_tables():
    from django.apps import apps
    from django.db import connection, models
    tables = {}
    for model in apps.get_models(include_auto_created=True):
        meta = model._meta
        if meta.proxy or not meta.managed or meta.db_table in tables:
            continue
        together = [list(u) for u in meta.unique_together] + [
            list(c.fields) for c in getattr(meta, "constraints", ()) if getattr(c, "fields", None)]
        columns, by_field = [], {}
        for f in meta.local_concrete_fields:
            by_field[f.name] = f.column
            kind = f.get_internal_type()
            goal = None
            if (f.remote_field is not None and getattr(f, "many_to_one", False)) or getattr(f, "one_to_one", False):
                goal = getattr(f.remote_field.model, "_meta", None)
            try:
                declared = f.db_type(connection)
            except Exception:
                declared = None
            default = None if callable(f.default) or f.default is models.NOT_PROVIDED else f.default
            columns.append({
                "name": f.column, "declared": declared or "text", "kind": kind, "null": f.null, "blank": f.blank,
                "default": default if isinstance(default, (bool, int, str, float)) else None,
                "choices": [c[0] for c in f.flatchoices][:40] if f.choices else [], "index": f.db_index or bool(goal),
                "unique": f.unique, "length": f.max_length, "primary": f.primary_key,
                "to": goal.db_table if goal else None, "to_column": f.target_field.column if goal else None})
        generic = []
        for f in getattr(meta, "private_fields", ()):
            if hasattr(f, "ct_field") and hasattr(f, "fk_field") and not hasattr(f, "object_id_field_name"):
                with contextlib.suppress(Exception):
                    generic.append([meta.get_field(f.fk_field).column, meta.get_field(f.ct_field).column])
        tables[meta.db_table] = {
            "columns": columns, "generic": generic,
            "uniques": [[by_field[n] for n in u if n in by_field] for u in together]}
    return tables


def sqlalchemy_tables(name):
    import sqlalchemy as sa
    if name.startswith("superset"):
        os.environ.setdefault("SUPERSET_SECRET_KEY", "x" * 40)
        os.environ["SUPERSET_CONFIG"] = "superset.config"
        from superset.app import create_app
        app = create_app()
        with app.app_context():
            from superset.extensions import db
            metadata = [db.metadata]
            from flask_appbuilder import Model
            metadata.append(Model.metadata)
    elif name == "airflow":
        import airflow.models
        from airflow.models.base import Base
        airflow.models.import_all_models()
        metadata = [Base.metadata]
        with contextlib.suppress(Exception):
            import airflow.providers.fab.auth_manager.models as fab
            metadata.append(fab.Model.metadata)
    elif name == "kotti":
        import kotti, kotti.resources, kotti.security, kotti.workflow  # noqa
        metadata = [kotti.Base.metadata]
    elif name == "indico":
        from indico.core.db.sqlalchemy import db
        from indico.core.db.sqlalchemy.util.models import import_all_models
        import_all_models()
        metadata = [db.metadata]
    else:
        import ckan.model
        import ckan.model.meta
        metadata = [ckan.model.meta.metadata]
    tables = {}
    for meta in metadata:
        for table in meta.tables.values():
            called = table.name if not table.schema else f"{table.schema}_{table.name}"
            indexed = {getattr(next(iter(i.columns)), "name", "") for i in table.indexes if len(i.columns)}
            columns = []
            for c in table.columns:
                fk = min(c.foreign_keys, default=None,
                         key=lambda k: len(k.constraint.columns) if k.constraint is not None else 1)
                goal = fk.target_fullname.rsplit(".", 1) if fk is not None else None
                try:
                    declared = str(c.type)
                except Exception:
                    declared = "TEXT"
                default = c.default.arg if c.default is not None and getattr(c.default, "is_scalar", False) else None
                columns.append({
                    "name": c.name, "declared": declared.split(" CHECK")[0].split(" COLLATE")[0][:30],
                    "kind": type(c.type).__name__, "null": bool(c.nullable), "blank": False,
                    "default": default if isinstance(default, (bool, int, str, float)) else None,
                    "choices": [], "index": bool(c.index) or c.name in indexed, "unique": bool(c.unique),
                    "length": getattr(c.type, "length", None), "primary": c.primary_key and len(table.primary_key) == 1,
                    "key": c.primary_key,
                    "to": goal[0].replace(".", "_") if goal else None, "to_column": goal[1] if goal else None})
            uniques = [[c.name for c in k.columns] for k in table.constraints
                       if isinstance(k, sa.UniqueConstraint) and len(k.columns)]
            tables[called] = {"columns": columns, "generic": [], "uniques": uniques}
    return tables


def main():
    name, target = sys.argv[1:3]
    tables = sqlalchemy_tables(name) if name in METADATA else django_apps(name)
    with open(target, "w", encoding="utf-8") as out:
        json.dump({"system": name, "tables": tables}, out, indent=1, default=str)
    print(name, len(tables), "tables,", sum(bool(c["to"]) for t in tables.values() for c in t["columns"]), "references")


main()
