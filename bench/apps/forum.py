"""A forum: the framework's default cookie names, a form key, topics with a number and a slug in
their address.
"""

import os
import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted, python_of

SETTINGS = """
from .dev import *
DEBUG = False
ALLOWED_HOSTS = ["*"]
INSTALLED_APPS = [each for each in INSTALLED_APPS if "debug_toolbar" not in each]
MIDDLEWARE = [each for each in MIDDLEWARE if "debug_toolbar" not in each]
PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
STORAGES["staticfiles"]["BACKEND"] = "django.contrib.staticfiles.storage.StaticFilesStorage"
ST_RATELIMIT_ENABLE = False
DATABASES["default"]["OPTIONS"] = {
    "timeout": 20, "transaction_mode": "IMMEDIATE", "init_command": "PRAGMA journal_mode=WAL"
}
"""
SEED = """
from django.contrib.auth import get_user_model
from spirit.category.models import Category
Category.objects.create(title="Paths", slug="paths")
for number in [*range(1, 9), *range(1000, 1400)]:
    user = get_user_model().objects.create_user(f"linnet{number}", f"linnet{number}@hedges.example", f"nest-{number}-z")
    user.st.is_verified = True
    user.st.save()
"""  # noqa: E501


def serve(folder: Path, port: int) -> list[str]:
    python = python_of(folder)
    made = {
        **os.environ,
        "PATH": f"{python.parent}:{os.environ['PATH']}",
        "DJANGO_SETTINGS_MODULE": "",
    }
    made.pop("DJANGO_SETTINGS_MODULE")
    made.pop("PYTHONPATH", None)
    subprocess.run(
        [str(python.parent / "spirit"), "startproject", "board"],
        cwd=folder,
        check=True,
        env=made,
        capture_output=True,
    )
    site = folder / "board"
    (site / "board" / "settings" / "bench.py").write_text(SETTINGS)
    made["DJANGO_SETTINGS_MODULE"] = "board.settings.bench"
    for command in (["migrate", "-v0"], ["createcachetable"], ["shell", "-c", SEED]):
        subprocess.run(
            [str(python), "manage.py", *command],
            cwd=site,
            check=True,
            env=made,
            capture_output=True,
        )
    where = [
        "--bind",
        f"127.0.0.1:{port}",
        "--workers",
        "1",
        "--threads",
        "8",
        "--timeout",
        "60",
        "--chdir",
        str(site),
    ]
    return [
        "python",
        "-m",
        "gunicorn",
        *where,
        "--env",
        "DJANGO_SETTINGS_MODULE=board.settings.bench",
        "board.wsgi",
    ]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/user/login/")
    page.fill("[name=username]", words["person"])
    page.fill("[name=password]", words["password"])
    page.click("form:has([name=password]) [type=submit]")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.goto(base + "/topic/publish/")
    page.fill("[name=title]", words["title"])
    page.select_option("[name=category]", label="Paths")
    page.fill("[name=comment]", words["first"])
    page.click("form:has([name=title]) [type=submit]")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.fill("[name=comment]", words["second"])
    page.click("form.js-reply [type=submit]")
    page.wait_for_load_state()


def created(folder: Path, base: str) -> int:
    return counted(
        folder / "board" / "db.sqlite3",
        "SELECT count(*) FROM spirit_comment_comment WHERE comment LIKE 'And more%'",
    )


def user(number: int) -> Words:
    return {"person": f"linnet{number}", "password": f"nest-{number}-z"}


def round(number: int) -> Words:
    title = ("Wren", "Robin", "Finch", "Heron")[number % 4]
    return {
        "title": f"{title} on path {number}",
        "first": f"It sang on path {number} at dawn.",
        "second": f"And more of path {number} tomorrow.",
    }


FORUM = App(
    name="forum (default cookie names)",
    packages=["django-spirit==0.14.3", "gunicorn"],
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    issued={
        "key of each form": r"POST \S+ form csrfmiddlewaretoken",
        "number of the topic": r"(GET|POST) /comment/\S+ path 2",
    },
    rounds_from="/topic/publish/",
)
