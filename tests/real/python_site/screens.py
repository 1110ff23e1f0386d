"""Everything that the system's own screens offer, done through them: `python screens.py all`; and all that a site says
of itself: `python screens.py told`."""

import json
import os
import re
import sys
from pathlib import Path

os.environ["DJANGO_SETTINGS_MODULE"] = "settings"
sys.path.insert(0, str(Path(__file__).parent))
import django

django.setup()
from io import BytesIO

from bs4 import BeautifulSoup
from django.apps import apps
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from oscar.core.loading import get_model
from PIL import Image as Bitmap
from wagtail.models import Collection, Page, Revision

SENT = []
User = apps.get_model("auth.User")


class Screens:
    """One person's session; a screen is fetched, its form is filled in as it stands but for what is given, and sent."""

    def __init__(self, who):
        self.client = Client(SERVER_NAME="ridge.example")
        self.client.force_login(User.objects.get(username=who), backend="django.contrib.auth.backends.ModelBackend")

    def fields(self, url, at):
        answer = self.client.get(url)
        if answer.status_code != 200:
            raise SystemExit(f"{url}: {answer.status_code} {answer.get('Location')}")
        text = answer.content.decode()
        if answer["Content-Type"].startswith("application/json"):
            text = answer.json()["html"]
        forms = [f for f in BeautifulSoup(text, "html.parser").find_all("form")
                 if (f.get("method") or "").lower() == "post"]
        form = [f for f in forms if at is None or at in str(f)][0 if at else -1]
        values = {}
        for one in form.find_all(["input", "select", "textarea"]):
            name, kind = one.get("name"), one.get("type")
            if not name or "__prefix__" in name or one.has_attr("disabled") or kind in ("submit", "file", "button"):
                continue
            if one.name == "select":
                chosen = [o.get("value", o.text) for o in one.find_all("option") if o.has_attr("selected")]
                if not chosen and not one.has_attr("multiple"):
                    chosen = [o.get("value", o.text) for o in one.find_all("option")][:1]
                values.setdefault(name, []).extend(chosen)
            elif one.name == "textarea":
                values.setdefault(name, []).append(one.text.removeprefix("\n"))
            elif kind in ("checkbox", "radio"):
                if one.has_attr("checked"):
                    values.setdefault(name, []).append(one.get("value", "on"))
            else:
                values.setdefault(name, []).append(one.get("value", ""))
        return values

    def send(self, url, /, at=None, read=True, **given):
        values = (self.fields(url, at) if read else {}) | given
        answer = self.client.post(url, values)
        if answer.status_code not in (200, 302) or (answer.status_code == 200 and wrong(answer)):
            raise SystemExit(f"{url}: {answer.status_code} {wrong(answer)}\n{values}")
        SENT.append(url)
        return answer


def wrong(answer):
    if answer["Content-Type"].startswith("application/json"):
        data = answer.json()
        return "" if data.get("success", True) or data.get("step") else data
    text = BeautifulSoup(answer.content.decode(), "html.parser")
    return [e.get_text(" ", strip=True)[:200] for e in text.select(
        ".error-message, .help-inline, .error-block, .alert-danger, .messages .error, .errorlist, .invalid-feedback")]


def upload(name, size=(20, 20)):
    data = BytesIO()
    Bitmap.new("RGB", size).save(data, "PNG")
    return SimpleUploadedFile(name, data.getvalue(), "image/png")


def stream(*blocks):
    """What the editor of a stream sends; `blocks` are pairs of a kind and a number."""
    sent = {"stream-count": str(len(blocks))}
    for n, (kind, value) in enumerate(blocks):
        sent |= {f"stream-{n}-{k}": v for k, v in (("deleted", ""), ("order", str(n)), ("type", kind), ("id", ""),
                                                   ("value", str(value)))}
    return sent


def rows(prefix, *given):
    """What a form of several rows sends."""
    sent = {f"{prefix}-{k}_FORMS": v for k, v in (("TOTAL", str(len(given))), ("INITIAL", "0"), ("MIN_NUM", "0"),
                                                  ("MAX_NUM", "1000"))}
    for n, row in enumerate(given):
        sent |= {f"{prefix}-{n}-{k}": str(v) for k, v in ({"ORDER": n + 1, "DELETE": "", "id": ""} | row).items()}
    return sent


def rich(text, page=None, picture=None):
    """What the editor of a rich text sends: a paragraph with a link to a page, and a picture."""
    blocks = [{"key": "aaaaa", "type": "unstyled", "depth": 0, "text": text, "inlineStyleRanges": [],
               "entityRanges": [{"key": 0, "offset": 0, "length": 3}] if page else []}]
    known = {"0": {"type": "LINK", "mutability": "MUTABLE", "data": {"id": page.pk, "url": page.url, "parentId": 1}}} \
        if page else {}
    if picture:
        blocks.append({"key": "bbbbb", "type": "atomic", "depth": 0, "text": " ", "inlineStyleRanges": [],
                       "entityRanges": [{"key": 1, "offset": 0, "length": 1}]})
        known["1"] = {"type": "IMAGE", "mutability": "IMMUTABLE",
                      "data": {"id": str(picture.pk), "alt": "x", "format": "left", "src": "/x.png"}}
    return json.dumps({"blocks": blocks, "entityMap": known})


def newest(model):
    return apps.get_model(model).objects.order_by("-pk").first()


def get(title):
    return Page.objects.filter(title=title).order_by("pk")[0]  # the one that is not a copy


def content():
    """Pages, pictures, documents, collections, redirects, snippets, settings, promotions, languages, sites."""
    me = Screens("keeper")
    for n in range(3):
        me.send("/cms/collections/add/", parent=Collection.objects.get(name="Root").pk, name=f"Shelf {n}")
    me.send(f"/cms/collections/{newest('wagtailcore.Collection').pk}/", name="Shelf of two",
            parent=Collection.objects.get(name="Shelf 0").pk)
    for n in range(4):
        me.send("/cms/images/add/", title=f"Photo {n}", tags=f"dome, night {n}",
                file=upload(f"photo{n}.png", (30 + n, 20)), collection=Collection.objects.get(name="Shelf 0").pk)
    photo = newest("wagtailimages.Image")
    me.send(f"/cms/images/{photo.pk}/", title="Photo renamed", focal_point_x="5", focal_point_y="6",
            focal_point_width="4", focal_point_height="4")
    me.send(f"/cms/images/{photo.pk - 1}/", file=upload("instead.png", (44, 20)))
    me.send(f"/cms/images/{photo.pk - 2}/delete/")
    for n in range(3):
        me.send("/cms/documents/add/", title=f"Paper {n}", tags="hours", file=SimpleUploadedFile(
            f"paper{n}.txt", f"Open at {n}".encode()), collection=Collection.objects.get(name="Shelf 1").pk)
    paper = newest("wagtaildocs.Document")
    me.send(f"/cms/documents/edit/{paper.pk}/", title="Paper renamed")
    me.send(f"/cms/documents/edit/{paper.pk - 1}/", file=SimpleUploadedFile("other.txt", b"Open at 12"))
    me.send(f"/cms/documents/delete/{paper.pk - 2}/")
    notes, programme, home = get("Notes"), get("Programme"), get("Home")
    publish = {"action-publish": "1"}
    for n in range(4):
        me.send(f"/cms/pages/add/home/notepage/{notes.pk}/", title=f"New {n}", slug=f"new-{n}", intro=f"{n} of 4",
                picture=str(photo.pk), paper=str(paper.pk), words=f"sky, night {n}",
                body=rich(f"See it at {n}", programme, photo),
                **stream(("picture", photo.pk), ("link", notes.pk)), **rows("related", {"other": programme.pk}),
                **publish)
    me.send(f"/cms/pages/add/home/notepage/{get('New 3').pk}/", title="Draft below", slug="draft-below", **stream())
    me.send(f"/cms/pages/add/home/notepage/{get('New 3').pk}/", title="Below", slug="below", body=rich("See New 2", get(
        "New 2")), **stream(("link", get("New 2").pk)), **rows("related", {"other": get("New 1").pk}), **publish)
    below = get("Below")
    me.send(f"/cms/pages/{below.pk}/edit/", intro="50 chairs", **stream(("link", get("New 2").pk)), **publish)
    me.send(f"/cms/pages/{below.pk}/edit/", title="Below, drafted", **stream(("picture", photo.pk)))
    me.send(f"/cms/pages/{get('Evening 2').pk}/edit/", intro="At 8", body=rich("See below", below), **stream(
        ("link", below.pk)), **publish)
    me.send(f"/cms/pages/{get('Evening 3').pk}/edit/", slug="evening-third", **stream(), **publish)
    me.send(f"/cms/pages/{get('Note 2').pk}/edit/", go_live_at="2031-01-01 10:00", expire_at="2032-01-01 10:00",
            **stream(), **publish)
    me.send(f"/cms/pages/{get('Note 3').pk}/move/{programme.pk}/confirm/")
    me.send(f"/cms/pages/{get('New 2').pk}/set_position/?position=0", read=False)
    me.send(f"/cms/pages/{get('New 1').pk}/copy/", new_title="New 1 again", new_slug="new-1-again", new_parent_page=str(
        notes.pk), publish_copies="on")
    me.send(f"/cms/pages/{get('New 3').pk}/copy/", new_title="New 3 again", new_slug="new-3-again", new_parent_page=str(
        programme.pk), copy_subpages="on", publish_copies="on")
    me.send(f"/cms/pages/{get('New 0').pk}/copy/", new_title="Alias", new_slug="alias", new_parent_page=str(
        programme.pk), alias="on")
    alias = Page.objects.get(slug="alias").pk
    me.send(f"/cms/pages/{alias}/convert_alias/")
    me.send(f"/cms/pages/{get('New 1 again').pk}/unpublish/")
    me.send(f"/cms/pages/{get('Note 4').pk}/delete/")
    me.send(f"/cms/pages/{get('New 0').pk}/lock/", read=False)
    me.send(f"/cms/pages/{get('Note 0').pk}/lock/", read=False)
    me.send(f"/cms/pages/{get('Note 0').pk}/unlock/", read=False)
    me.send(f"/cms/pages/{get('New 2').pk}/privacy/", restriction_type="password", password="sky")
    me.send(f"/cms/pages/{get('New 3').pk}/privacy/", restriction_type="login")
    me.send(f"/cms/collections/{Collection.objects.get(name='Shelf 1').pk}/privacy/", restriction_type="login")
    first = Revision.page_revisions.filter(object_id=str(below.pk)).order_by("pk").first()
    me.send(f"/cms/pages/{below.pk}/edit/", revision=str(first.pk), **stream(("link", get("New 1").pk)), **publish)
    me.send(f"/cms/pages/add/home/askpage/{home.pk}/", title="Ask", slug="ask", to_address="ask@ridge.example",
            from_address="no@ridge.example", subject="Asked", thanks=rich("Thank you"), **rows(
                "form_fields", *({"label": f"Field {n}", "field_type": kind, "required": "on", "choices": "1,2,3",
                                  "default_value": "", "help_text": ""} for n, kind in enumerate(
                    ("singleline", "email", "number", "dropdown")))), **publish)
    for n in range(3):
        me.send("/cms/redirects/add/", old_path=f"/old-{n}", is_permanent="on",
                redirect_page=str(below.pk if n else notes.pk))
    me.send("/cms/redirects/add/", old_path="/away", redirect_link="https://elsewhere.example/3")
    me.send(f"/cms/redirects/{newest('wagtailredirects.Redirect').pk}/", redirect_link="https://elsewhere.example/21")
    me.send(f"/cms/redirects/{apps.get_model('wagtailredirects.Redirect').objects.get(old_path='/old-2').pk}/delete/")
    for n in range(3):
        me.send("/cms/snippets/home/notice/add/", text=f"Notice {n}", page=str(below.pk), picture=str(photo.pk),
                **publish)
    at, notice = "/cms/snippets/home/notice/", newest("home.Notice").pk
    me.send(at + f"edit/{notice}/", text="Notice changed", **publish)
    me.send(at + f"edit/{notice}/", text="Notice drafted")
    me.send(at + f"edit/{notice - 1}/", text="Notice 1, of 9", page=str(notes.pk), **publish)
    me.send(at + f"lock/{notice - 1}/", read=False)
    me.send(at + f"delete/{notice - 2}/")
    for n, day in enumerate(("Monday", "Tuesday", "Friday")):
        me.send("/cms/snippets/home/opening/add/", day=day, opens=str(7 + n))
    me.send(f"/cms/snippets/home/opening/edit/{newest('home.Opening').pk}/", opens="11")
    me.send("/cms/settings/home/hours/1/", opens="8", telephone="0123 456", contact=str(below.pk))
    me.send("/cms/settings/home/hours/1/", opens="7")
    for n in range(2):
        me.send("/cms/searchpicks/add/", query_string=f"dome {n}", **rows("editors_picks", {
            "page": below.pk, "description": "Here", "external_link_url": "", "external_link_text": ""}))
    me.send("/cms/locales/new/", language_code="de")
    german = newest("wagtailcore.Locale")
    me.send(f"/cms/translation/submit/page/{home.pk}/", locales=str(german.pk))
    me.send(f"/cms/translation/submit/page/{notes.pk}/", locales=str(german.pk))
    me.send(f"/cms/pages/{notes.get_translation(german).pk}/edit/", title="Notizen", slug="notizen", **stream(),
            **publish)
    me.send("/cms/sites/new/", hostname="hut.example", port="80", site_name="The hut", root_page=str(get("New 3").pk))
    me.send(f"/cms/sites/edit/{newest('wagtailcore.Site').pk}/", site_name="The hut, 2")


def people():
    """Groups, workflows, accounts."""
    me = Screens("keeper")
    notes = get("Notes")
    none = rows("page_permissions") | rows("collection_permissions") | rows("image_permissions") | rows(
        "document_permissions") | rows("collectionmanagement_permissions")
    for n in range(2):
        me.send("/cms/groups/new/", name=f"Writers {n}", **none)
    group = newest("auth.Group")
    me.send(f"/cms/groups/edit/{group.pk}/", name="Writers of two")
    for n in range(2):
        me.send("/cms/workflows/tasks/add/wagtailcore/groupapprovaltask/", name=f"Read {n}", groups=str(group.pk))
    task = newest("wagtailcore.Task")
    me.send(f"/cms/workflows/tasks/edit/{task.pk}/", groups=str(group.pk - 1))
    me.send("/cms/workflows/add/", name="Twice", **rows("workflow_tasks", {"task": task.pk - 1}, {"task": task.pk}),
            **rows("pages", {"page": notes.pk}))
    flow = newest("wagtailcore.Workflow")
    me.send(f"/cms/workflows/edit/{flow.pk}/", name="Read twice")
    me.send(f"/cms/pages/{get('Note 0').pk}/edit/", intro="To be read", **stream(), **{"action-submit": "1"})
    me.send("/cms/workflows/add/", name="Never", **rows("workflow_tasks", {"task": task.pk}), **rows("pages"))
    me.send(f"/cms/workflows/disable/{newest('wagtailcore.Workflow').pk}/")
    me.send("/cms/account/", at="profile", **{"name_email-first_name": "Kay", "name_email-last_name": "Keeper",
                                              "name_email-email": "keeper@ridge.example"})


def shop():
    """The dashboard of the shop."""
    me = Screens("keeper")
    at = "/shop/dashboard/catalogue/"
    me.send(at + "product-type/create/", name="Book", requires_shipping="on", track_stock="on", **rows("attributes",
            {"name": "Pages", "code": "pages", "type": "integer", "required": ""},
            {"name": "Cover", "code": "cover", "type": "text", "required": ""}))
    for n in range(3):
        me.send(at + "categories/create/", name=f"Shelf {n}", slug=f"shelf-{n}", description="<p>Of 3</p>",
                _position="first-child", _ref_node_id="0", is_public="on")
    category = newest("catalogue.Category")
    me.send(at + f"categories/{category.pk}/update/", name="Shelf two", _position="first-child",
            _ref_node_id=str(category.pk - 1))
    me.send(at + f"categories/{category.pk - 2}/delete/")
    kinds = get_model("catalogue", "ProductClass").objects.get(name="Book")
    for n in range(4):
        me.send(at + f"products/create/{kinds.slug}/", title=f"Book {n}", upc=f"B-{n}",
                description=f"<p>{50 + n} pages</p>", attr_pages=str(50 + n), attr_cover="red",
                is_public="on", is_discountable="on", slug=f"book-{n}",
                **rows("stockrecords", {"partner": newest("partner.Partner").pk, "partner_sku": f"book-{n}",
                                        "price_currency": "GBP", "price": "12.50", "num_in_stock": 20 + n,
                                        "low_stock_threshold": 3}),
                **rows("productcategory_set", {"category": category.pk}), **rows("images"),
                **rows("primary_recommendations"))
    book = newest("catalogue.Product")
    me.send(at + f"products/{book.pk}/", title="Book changed", attr_pages="60")
    me.send(at + f"products/{book.pk - 1}/", **{
        "primary_recommendations-0-recommendation": str(book.pk), "primary_recommendations-0-ranking": "2"})
    me.send(at + f"products/{book.pk - 2}/", **{"images-0-caption": "Cover", "images-0-original": upload("cover.png")})
    me.send(at + f"products/{book.pk - 3}/delete/")
    me.send(at + f"products/{get_model('catalogue', 'Product').objects.get(slug='ticket-1').pk}/",
            description="<p>Warm blankets now.</p>")
    me.send(at + "attribute-option-group/create/", name="Sizes", **rows(
        "options", {"option": "Small"}, {"option": "Large"}))
    me.send(at + "option/create/", name="Engraving", type="text")
    me.send(at + f"option/{newest('catalogue.Option').pk}/update/", name="Engraved words")
    at = "/shop/dashboard/"
    me.send(at + "partners/create/", name="Mill", code="mill")
    me.send(at + f"partners/{newest('partner.Partner').pk}/", name="The mill", line1="3 Mill Lane", country="GB",
            line4="Ridge", postcode="AB1 2CD")
    for n in range(2):
        me.send(at + "ranges/create/", name=f"Range {n}", description="Of 2", is_public="on")
    span = newest("offer.Range")
    me.send(at + f"ranges/{span.pk}/products/", at="query", action="add_products", query="B-2, B-3",
            upload_type="included")
    me.send(at + f"ranges/{span.pk}/", name="Range of books")
    me.send(at + f"ranges/{span.pk - 1}/delete/")
    for kind in ("Site", "Voucher"):
        me.send(at + "offers/new/metadata/", name=f"Three for two {kind}", description="Of 3", offer_type=kind)
        me.send(at + "offers/new/incentive/", range=str(span.pk), type="Percentage", value="10", max_affected_items="1")
        me.send(at + "offers/new/condition/", range=str(span.pk), type="Count", value="3")
        me.send(at + "offers/new/restrictions/", priority="2", max_basket_applications="1", exclusive="on")
    offer = newest("offer.ConditionalOffer")
    me.send(at + f"offers/{offer.pk - 1}/metadata/", name="Three for two, in May", save="1")
    me.send(at + "vouchers/create/", name="Welcome", code="WELCOME21", start_datetime="2026-01-01 10:00",
            end_datetime="2031-01-01 10:00", usage="Single use", offers=str(offer.pk))
    me.send(at + f"vouchers/update/{newest('voucher.Voucher').pk}/", name="Welcome, 2")
    me.send(at + "vouchers/sets/create/", name="Cards", code_length="8", description="Of 3", count="3",
            usage="Single use", start_datetime="2026-01-01 10:00", end_datetime="2031-01-01 10:00",
            offers=str(offer.pk))
    for n in range(2):
        me.send(at + "pages/create/", title=f"Terms {n}", url=f"/terms.{n}/", content=f"<p>{20 + n} days</p>")
    me.send(at + f"pages/update/{newest('flatpages.FlatPage').pk}/", content="<p>22 days</p>")
    me.send(at + f"pages/delete/{newest('flatpages.FlatPage').pk - 1}/")
    me.send(at + "shipping/weight-based/create/", name="Post", description="By 2", countries=["GB"], default_weight="1")
    way = newest("shipping.WeightBased")
    for n in range(2):
        me.send(at + f"shipping/weight-based/{way.pk}/", upper_limit=str(2 + n), charge=str(3 + n))
    me.send(at + f"shipping/weight-based/{way.pk}/edit/", name="Post, by 3")
    me.send(at + f"comms/{newest('communication.CommunicationEventType').code}/", name="On its way",
            email_subject_template="Order 21", email_body_template="It comes in 3 days",
            email_body_html_template="<p>It comes in 3 days</p>")


# --- everything that a site says of itself, without its numbers

NUMBERS = {"id", "path", "depth", "numchild", "rght", "lft", "tree_id"}
LEFT_OUT = {"contenttypes.contenttype", "auth.permission", "sessions.session", "admin.logentry", "thumbnail.kvstore",
            "wagtailcore.referenceindex", "wagtailsearch.indexentry", "wagtailimages.rendition",
            "wagtailadmin.editingsession", "wagtailadmin.formstate", "wagtailcore.uploadedfile", "auth.user",
            "wagtailusers.userprofile"}


def called(thing):
    """What a thing is called, whatever its number."""
    if thing is None:
        return None
    if isinstance(thing, Page):
        return f"page {thing.title} {thing.url_path}"
    return f"{thing._meta.label_lower} {thing}"


def told_rich(text):
    """A rich text, with what it points at by name."""
    def name(match):
        model = "wagtailimages.Image" if 'embedtype="image"' in match[0] else "wagtailcore.Page"
        there = apps.get_model(model).objects.filter(pk=match[1]).first()
        return re.sub(r'\bid="\d+"', f'id="{called(there)}"', match[0])
    return re.sub(r'<(?:a|embed)\b[^>]*?\bid="(\d+)"[^>]*>', name, text)


def told_row(row):
    """A row with what it points at by name."""
    said = {}
    for field in row._meta.concrete_fields:
        value = getattr(row, field.attname)
        if field.name in NUMBERS or field.primary_key or field.attname.endswith("_ptr_id"):
            continue
        if field.is_relation:
            said[field.name] = called(getattr(row, field.name, None)) if value is not None and (
                field.related_model.objects.filter(pk=value).exists()) else None
        elif field.attname == "object_id" or (field.attname == "content" and isinstance(row, Revision)):
            continue
        elif field.attname.endswith("content_type_id"):
            said[field.name] = str(getattr(row, field.name))
        elif type(value).__name__ == "StreamValue":
            said[field.name] = [[b.block_type, called(b.value)] for b in value]
        elif field.name == "data":
            said[field.name] = re.sub(r'"id": \d+', '"id": 0', json.dumps(value)).replace(
                str((value or {}).get("workflow", {}).get("task_state_id", "none")), "0")
        else:
            said[field.name] = told_rich(value) if isinstance(value, str) else str(value)
    if hasattr(row, "get_parent"):
        said["parent"] = called(row.get_parent())
    if hasattr(row, "object_id") and getattr(row, "content_type", None):
        said["object"] = called(row.content_type.model_class().objects.filter(pk=row.object_id).first())
    return said


def told():
    """Every row of the site, by what it says; a version of a thing with the thing as it was, and what hung on it."""
    found = {}
    for model in apps.get_models():
        label = model._meta.label_lower
        if label in LEFT_OUT or not model._meta.managed or model._meta.proxy:
            continue
        for row in model._base_manager.all():
            said = told_row(row)
            if isinstance(row, Revision):
                was = row.as_object()
                said["content"] = told_row(was)
                said["own"] = str(was.pk) == row.object_id
                for name in ("related", "tagged", "form_fields"):
                    if hasattr(was, name):
                        said[name] = [{**told_row(r), "there": r.pk is None or type(r).objects.filter(
                            pk=r.pk).exists()} for r in getattr(was, name).all()]
            found.setdefault(label, []).append(json.dumps(said, sort_keys=True, default=str))
    print(json.dumps({label: sorted(rows) for label, rows in found.items()}))


DONE = {"content": content, "people": people, "shop": shop, "told": told}
if __name__ == "__main__":
    for name in ("content", "people", "shop") if sys.argv[1] == "all" else sys.argv[1:]:
        DONE[name]()
    if SENT:
        print(len(SENT))
