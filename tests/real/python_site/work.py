"""Work on a site of the Python content system, by its own functions: `python work.py seed|live|staging|told`."""

import json
import os
import sys
from decimal import Decimal
from io import BytesIO
from pathlib import Path

os.environ["DJANGO_SETTINGS_MODULE"] = "settings"
sys.path.insert(0, str(Path(__file__).parent))
import django

django.setup()
from django.contrib.auth import get_user_model
from django.core.files.base import ContentFile
from django.core.management import call_command
from home.models import NotePage, Related
from oscar.apps.order.utils import OrderCreator, OrderNumberGenerator
from oscar.apps.shipping.methods import NoShippingRequired
from oscar.core.loading import get_class, get_model
from PIL import Image as Bitmap
from wagtail.contrib.redirects.models import Redirect
from wagtail.images import get_image_model
from wagtail.models import Collection, Locale, Page, Site

Basket, Order, Source, SourceType = (get_model(*m) for m in (
    ("basket", "Basket"), ("order", "Order"), ("payment", "Source"), ("payment", "SourceType")))
Product, ProductClass, Category, Links, Partner, Stock = (get_model(*m) for m in (
    ("catalogue", "Product"), ("catalogue", "ProductClass"), ("catalogue", "Category"),
    ("catalogue", "ProductCategory"), ("partner", "Partner"), ("partner", "StockRecord")))


def picture(title):
    data = BytesIO()
    Bitmap.new("RGB", (20, 20)).save(data, "PNG")
    return get_image_model().objects.create(title=title, file=ContentFile(data.getvalue(), name=f"{title}.png"))


def page(above, title, **fields):
    made = NotePage(title=title, slug=title.lower().replace(" ", "-"), **fields)
    above.add_child(instance=made)
    publish(made)
    return made


def publish(changed):
    changed.save_revision(user=get_user_model().objects.get(username="keeper")).publish()


def get(slug):
    return NotePage.objects.get(slug=slug)


def embedded(shown, linked):
    return (f'<p>See <a linktype="page" id="{linked.pk}">it</a><embed embedtype="image" id="{shown.pk}" format="left" '
            'alt="x"/></p>')


def stream(shown, linked):
    return json.dumps([{"type": "picture", "value": shown.pk, "id": f"0000000a-aaaa-4aaa-8aaa-{shown.pk:012}"},
                       {"type": "link", "value": linked.pk, "id": f"0000000b-aaaa-4aaa-8aaa-{linked.pk:012}"}])


def ticket(name, category):
    made = Product.objects.create(title=f"Ticket {name}", product_class=ProductClass.objects.get(), upc=f"T-{name}",
                                  slug=f"ticket-{name}")
    Links.objects.create(product=made, category=category)
    Stock.objects.create(product=made, partner=Partner.objects.get(), partner_sku=f"sku-{name}", price=Decimal("9.00"),
                         num_in_stock=50)


def order(email, at, quantity=1):
    basket = Basket.objects.create()
    basket.strategy = get_class("partner.strategy", "Default")()
    basket.add_product(Product.objects.order_by("pk")[at], quantity=quantity)
    method = NoShippingRequired()
    charge = method.calculate(basket)
    total = get_class("checkout.calculators", "OrderTotalCalculator")().calculate(basket, charge)
    made = OrderCreator().place_order(basket=basket, total=total, shipping_method=method, shipping_charge=charge,
                                      guest_email=email, status="Pending",
                                      order_number=OrderNumberGenerator().order_number(basket))
    basket.submit()
    Source.objects.create(order=made, source_type=SourceType.objects.get_or_create(name="Card")[0], reference=email)


def seed():
    call_command("migrate", run_syncdb=True, verbosity=0)
    Locale.objects.create(language_code="en")
    get_user_model().objects.create_superuser("keeper", "keeper@ridge.example", "pw")
    root = Page.add_root(title="Root", slug="root")
    home = root.add_child(instance=Page(title="Home", slug="home"))
    Site.objects.create(hostname="ridge.example", port=80, root_page=home, is_default_site=True)
    Collection.add_root(name="Root")
    ProductClass.objects.create(name="Ticket", requires_shipping=False)
    Partner.objects.create(name="Ridge", code="ridge")
    get_model("address", "Country").objects.create(iso_3166_1_a2="GB", printable_name="United Kingdom",
                                                   is_shipping_country=True)
    get_model("communication", "CommunicationEventType").objects.create(code="SENT", name="Sent")
    evenings = Category.add_root(name="Evenings")
    pictures = [picture(f"p{n}") for n in range(6)]
    programme, notes = page(home, "Programme"), page(home, "Notes")
    for n in range(5):
        one = page(programme, f"Evening {n}", picture=pictures[n], body=embedded(pictures[n], notes),
                   stream=stream(pictures[n], programme if n % 2 else notes))
        one.related.add(Related(other=notes))
        publish(one)
        page(notes, f"Note {n}")
        ticket(n, evenings)
        order(f"v{n}@visitor.example", n)


def live():
    order("one@visitor.example", 1, 2)
    order("two@visitor.example", 2, 2)
    page(get("notes"), "Live note", picture=picture("live"))
    page(get("programme"), "Live evening")
    page(get("evening-1"), "Below evening")
    get("note-1").move(get("programme"), "last-child")
    ticket("live", Category.objects.get(name="Evenings").add_child(name="Live"))


def staging():
    for n in range(3):
        order(f"tester{n}@ridge.example", n)
    shown = picture("staging")
    note = page(get("notes"), "Staging note", picture=shown)
    evening = page(get("programme"), "Staging evening", picture=shown, body=embedded(shown, note),
                   stream=stream(shown, note))
    evening.related.add(Related(other=note))
    publish(evening)
    get("evening-1").move(get("notes"), "last-child")
    ticket("staging", Category.objects.get(name="Evenings").add_child(name="Staging"))
    Product.objects.filter(slug="ticket-1").update(description="<p>Warm blankets now.</p>")  # live sells it meanwhile
    Stock.objects.filter(partner_sku="sku-1").update(price=Decimal("12.00"))
    Redirect.add_redirect("/old-evening", redirect_to=evening)


def told():
    """What the system itself says of its pages, its shop and its trees."""
    pages = {}
    for found in NotePage.objects.all():
        draft = found.get_latest_revision_as_object()
        pages[found.title] = [found.get_parent().title, found.url_path, found.picture.title if found.picture else "",
                              [b.value.title for b in found.stream], [r.other.title for r in found.related.all()],
                              draft.pk == found.pk, [b.value.title for b in draft.stream]]
    orders = [[o.number, o.guest_email, [[line.title, line.quantity] for line in o.lines.all()],
               [s.reference for s in o.sources.all()]] for o in Order.objects.order_by("pk")]
    goods = {p.title: [[c.full_name for c in p.categories.all()], [s.partner_sku for s in p.stockrecords.all()]]
             for p in Product.objects.all()}
    stock = {s.partner_sku: [str(s.price), s.num_in_stock, s.num_allocated, s.product.description]
             for s in Stock.objects.all()}
    redirects = {r.old_path: r.redirect_page.specific.title for r in Redirect.objects.all()}
    broken = [model.find_problems() for model in (Page, Category, Collection)]
    print(json.dumps({"pages": pages, "orders": orders, "goods": goods, "stock": stock,
                      "redirects": redirects, "sound": all(not any(b) for b in broken),
                      "pictures": {i.pk: i.title for i in get_image_model().objects.all()},
                      "body": get("staging-evening").body if "Staging evening" in pages else ""}))


if __name__ == "__main__":
    {"seed": seed, "live": live, "staging": staging, "told": told}[sys.argv[1]]()
