"""A content management: accounts, an upload, a page that is kept while it is written, sessions of
editing.
"""

import io
import os
import struct
import subprocess
import zlib
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted, python_of

SETTINGS = """
from .base import *
SECRET_KEY = "made-for-a-benchmark-of-an-almanac"
ALLOWED_HOSTS = ["*"]
DEBUG = True
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
DATABASES = {"default": {"ENGINE": "django.db.backends.sqlite3", "NAME": BASE_DIR / "almanac.db",
  "OPTIONS": {"timeout": 30, "init_command": "PRAGMA journal_mode=WAL;",
              "transaction_mode": "IMMEDIATE"}}}
WAGTAILADMIN_BASE_URL = "http://127.0.0.1"
WAGTAIL_ENABLE_UPDATE_CHECK = False
WAGTAIL_ENABLE_WHATS_NEW_BANNER = False
WAGTAIL_GRAVATAR_PROVIDER_URL = None
"""
KEEPERS = """
from django.contrib.auth import get_user_model
from django.contrib.auth.hashers import make_password
model = get_user_model()
made = make_password("lantern-and-oil")
model.objects.bulk_create(model(username=f"keeper{n}", email=f"k{n}@almanac.example",
    password=made, is_staff=True, is_superuser=True, is_active=True)
    for n in [*range(1, 20), *range(1000, 1400)])
"""


def serve(folder: Path, port: int) -> list[str]:
    python = str(python_of(folder))

    def run(*words: str) -> None:
        given = {**os.environ, "DJANGO_SETTINGS_MODULE": "almanac.settings.quiet"}
        subprocess.run(words, cwd=folder, check=True, capture_output=True, env=given)

    run(str(Path(python).parent / "wagtail"), "start", "almanac", str(folder))
    (folder / "almanac/settings/quiet.py").write_text(SETTINGS)
    run(python, "manage.py", "migrate")
    run(python, "manage.py", "shell", "-c", KEEPERS)
    where = ["--bind", f"127.0.0.1:{port}", "--workers", "1", "--threads", "8", "--timeout", "60"]
    return ["python", "-m", "gunicorn", *where, "almanac.wsgi:application"]


def picture(number: int) -> bytes:
    """A small PNG of one colour, another for each number."""
    row = b"\0" + bytes([number % 256, 90, number // 256 % 256]) * 40

    def chunk(kind: bytes, data: bytes) -> bytes:
        return (
            struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
        )

    out = io.BytesIO(b"\x89PNG\r\n\x1a\n")
    out.seek(0, 2)
    out.write(chunk(b"IHDR", struct.pack(">IIBBBBB", 40, 40, 8, 2, 0, 0, 0)))
    out.write(chunk(b"IDAT", zlib.compress(row * 40)))
    out.write(chunk(b"IEND", b""))
    return out.getvalue()


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/admin/login/")
    page.fill("[name=username]", words["keeper"])
    page.fill("[name=password]", "lantern-and-oil")
    page.click("[type=submit]")
    page.wait_for_selector("nav a[href='/admin/images/'], a[href='/admin/images/']")
    page.wait_for_timeout(1200)
    page.goto(base + "/admin/images/multiple/add/")
    number = int(words["keeper"].removeprefix("keeper"))
    page.set_input_files(
        "input[type=file][name='files[]'], #fileupload",
        {"name": "view.png", "mimeType": "image/png", "buffer": picture(number)},
    )
    title = page.locator("#upload-list input[name$=title]").first
    title.wait_for()
    title.fill(words["view"])
    page.locator("#upload-list button[type=submit], #upload-list [type=submit]").first.click()
    page.wait_for_timeout(1500)
    page.goto(base + "/admin/pages/add/home/homepage/3/")
    for title in (words["title"].partition(",")[0], words["title"]):
        page.fill("[name=title]", title)
        page.press("[name=title]", "Tab")  # the page makes the address's name of it
        page.wait_for_timeout(4000)  # kept by itself
    page.locator(".footer [data-controller~=w-dropdown] button[aria-expanded]").first.click()
    page.locator("[name=action-publish]").click()
    page.wait_for_selector(f".messages :text('{words['title']}')")
    page.wait_for_timeout(1500)


def created(folder: Path, base: str) -> int:
    return counted(
        folder / "almanac.db",
        "select count(*) from wagtailcore_page where live and title like 'Tide of%'",
    )


def user(number: int) -> Words:
    return {"keeper": f"keeper{number}"}


def round(number: int) -> Words:
    return {"view": f"From the lantern {number}", "title": f"Tide of the {number}. day, revised"}


ALMANAC = App(
    name="almanac (upload, autosave)",
    packages=["wagtail==8.0.1", "gunicorn", "whitenoise"],
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    environment=lambda folder: {"DJANGO_SETTINGS_MODULE": "almanac.settings.quiet"},
    issued={
        "key of each form": r"POST \S+ (form|field) csrfmiddlewaretoken",
        "key in a header": r"POST \S+ header X-Csrftoken",
        "picture's number": r"POST \S+/images/\S+ path",
        "page's number": r"(GET|POST) /admin/(pages|editing-sessions)/\S+ path [367]\Z",
        "number of the revision": r"field revision_id",
        "when the revision was made": r"field revision_created_at",
    },
    rounds_from="/admin/images/multiple/add/",
    ways=("doorway", "HAR", "proxy"),  # HAR files lose a picture's bytes, which the journey says
)
