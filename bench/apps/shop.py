"""A shop: a basket, and an order in several steps as a guest, each page with a masked key of its
own.
"""

import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted, python_of

SETTINGS = """
from oscar.defaults import *

SECRET_KEY, DEBUG, ALLOWED_HOSTS, ROOT_URLCONF, SITE_ID = "of no worth", False, ["*"], "urls", 1
STATIC_URL, STATIC_ROOT, MEDIA_URL, MEDIA_ROOT = "/static/", "{folder}/static", "/media/", "{folder}/media"
USE_TZ, DEFAULT_AUTO_FIELD = True, "django.db.models.BigAutoField"
OSCAR_ALLOW_ANON_CHECKOUT, OSCAR_SHOP_NAME, OSCAR_DEFAULT_CURRENCY = True, "Shop", "EUR"
DATABASES = {{"default": {{"ENGINE": "django.db.backends.sqlite3", "NAME": "{folder}/shop.sqlite",
    "OPTIONS": {{"timeout": 30, "transaction_mode": "IMMEDIATE", "init_command": "PRAGMA journal_mode=WAL"}}}}}}
INSTALLED_APPS = ["django.contrib." + name for name in
    ("admin", "auth", "contenttypes", "sessions", "messages", "staticfiles", "sites", "flatpages")]
INSTALLED_APPS += ["oscar.config.Shop"] + ["oscar.apps." + name for name in (
    "analytics.apps.AnalyticsConfig", "checkout.apps.CheckoutConfig", "address.apps.AddressConfig",
    "shipping.apps.ShippingConfig", "catalogue.apps.CatalogueConfig", "catalogue.reviews.apps.CatalogueReviewsConfig",
    "communication.apps.CommunicationConfig", "partner.apps.PartnerConfig", "basket.apps.BasketConfig",
    "payment.apps.PaymentConfig", "offer.apps.OfferConfig", "order.apps.OrderConfig", "customer.apps.CustomerConfig",
    "search.apps.SearchConfig", "voucher.apps.VoucherConfig", "wishlists.apps.WishlistsConfig",
    "dashboard.apps.DashboardConfig", "dashboard.reports.apps.ReportsDashboardConfig",
    "dashboard.users.apps.UsersDashboardConfig", "dashboard.orders.apps.OrdersDashboardConfig",
    "dashboard.catalogue.apps.CatalogueDashboardConfig", "dashboard.offers.apps.OffersDashboardConfig",
    "dashboard.partners.apps.PartnersDashboardConfig", "dashboard.pages.apps.PagesDashboardConfig",
    "dashboard.ranges.apps.RangesDashboardConfig", "dashboard.reviews.apps.ReviewsDashboardConfig",
    "dashboard.vouchers.apps.VouchersDashboardConfig", "dashboard.communications.apps.CommunicationsDashboardConfig",
    "dashboard.shipping.apps.ShippingDashboardConfig")]
INSTALLED_APPS += ["widget_tweaks", "haystack", "treebeard", "django_tables2"]
MIDDLEWARE = ["django.contrib.sessions.middleware.SessionMiddleware", "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware", "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.messages.middleware.MessageMiddleware", "oscar.apps.basket.middleware.BasketMiddleware"]
TEMPLATES = [{{"BACKEND": "django.template.backends.django.DjangoTemplates", "APP_DIRS": True, "OPTIONS": {{
    "context_processors": ["django.template.context_processors.request", "django.contrib.auth.context_processors.auth",
        "django.contrib.messages.context_processors.messages", "django.template.context_processors.static",
        "oscar.apps.search.context_processors.search_form", "oscar.apps.checkout.context_processors.checkout",
        "oscar.apps.communication.notifications.context_processors.notifications",
        "oscar.core.context_processors.metadata"]}}}}]
AUTHENTICATION_BACKENDS = ("oscar.apps.customer.auth_backends.EmailBackend",)
HAYSTACK_CONNECTIONS = {{"default": {{"ENGINE": "haystack.backends.simple_backend.SimpleEngine"}}}}
EMAIL_BACKEND = "django.core.mail.backends.dummy.EmailBackend"
"""  # noqa: E501
URLS = """
from django.apps import apps
from django.urls import include, path

urlpatterns = [
    path("i18n/", include("django.conf.urls.i18n")),
    path("", include(apps.get_app_config("oscar").urls[0])),
]
"""
PREPARE = """
import django

django.setup()
from django.core.management import call_command

call_command("migrate", verbosity=0)
from oscar.apps.address.models import Country
from oscar.apps.catalogue.models import Product, ProductClass
from oscar.apps.partner.models import Partner, StockRecord

Country.objects.create(iso_3166_1_a2="NO", iso_3166_1_a3="NOR", iso_3166_1_numeric="578",
    printable_name="Norway", name="Norway", is_shipping_country=True)
kind = ProductClass.objects.create(name="Things", requires_shipping=True, track_stock=False)
house = Partner.objects.create(name="House")
for number, title in enumerate(("Brass lamp", "Rope of hemp", "Small lens", "Wool hat"), 1):
    made = Product.objects.create(title=title, product_class=kind)
    StockRecord.objects.create(product=made, partner=house, partner_sku=f"s{number}", price=10, price_currency="EUR")
"""  # noqa: E501


def serve(folder: Path, port: int) -> list[str]:
    (folder / "settings.py").write_text(SETTINGS.format(folder=folder))
    (folder / "urls.py").write_text(URLS)
    (folder / "prepare.py").write_text(PREPARE)
    settings = {
        "DJANGO_SETTINGS_MODULE": "settings",
        "PYTHONPATH": str(folder),
        "PATH": "/usr/bin:/bin",
    }
    subprocess.run(
        [str(python_of(folder)), "prepare.py"],
        cwd=folder,
        env=settings,
        check=True,
        capture_output=True,
    )
    where = [
        "--threads",
        "8",
        "-b",
        f"127.0.0.1:{port}",
        "--env",
        "DJANGO_SETTINGS_MODULE=settings",
    ]
    return ["gunicorn", "-w", "1", *where, "django.core.wsgi:get_wsgi_application()"]


def drive(page: Any, base: str, words: Words) -> None:
    def click(selector: str) -> None:
        page.click(selector)
        page.wait_for_load_state()
        page.wait_for_timeout(1100)

    page.goto(base + "/catalogue/small-lens_3/")
    click("#add_to_basket_form button")
    page.goto(base + "/basket/")
    page.wait_for_timeout(1100)
    click("a:has-text('checkout')")
    page.fill("[name=username]", words["mail"])
    page.fill("[name=password]", "x")
    page.check("[name=options][value=anonymous]")
    click("form:has([name=options]) button[type=submit]")
    for name in ("first_name", "last_name", "line1", "line4", "postcode"):
        page.fill(f"[name={name}]", words[name])
    click("form:has([name=line1]) button[type=submit]")
    click("#view_preview")
    click("#place-order")
    page.wait_for_selector("text=Confirmation")


def created(folder: Path, base: str) -> int:
    return counted(folder / "shop.sqlite", "SELECT count(*) FROM order_order")


def round(number: int) -> Words:
    first = ("Ada", "Bran", "Cass", "Dene")[number % 4]
    last = ("Fell", "Moss", "Tarn", "Beck")[number // 4 % 4]
    return {
        "mail": f"{first.lower()}{number}@hedges.example",
        "first_name": first,
        "last_name": last,
        "line1": f"Hill road {number}",
        "line4": ("Brindle", "Larchfield", "Nether Tarn")[number % 3],
        "postcode": str(4000 + number),
    }


SHOP = App(
    name="shop (pages, an order in several steps)",
    packages=["django-oscar==4.2.1", "gunicorn"],
    serve=serve,
    drive=drive,
    round=round,
    created=created,
    issued={"key of each form": r"POST \S+ form csrfmiddlewaretoken"},
)
