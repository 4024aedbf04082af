"""A forum: the framework's default cookie names, a form key, accounts, topics with numbers and slugs."""

import sqlite3
import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, python_of

MORE = """
ALLOWED_HOSTS = ["*"]
DEBUG = False
EMAIL_BACKEND = "django.core.mail.backends.dummy.EmailBackend"
ST_RATELIMIT_ENABLE = False
ST_TASK_MANAGER = None
STATICFILES_STORAGE = "django.contrib.staticfiles.storage.StaticFilesStorage"
STORAGES = {"default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
            "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}}
"""
CATEGORY = "from spirit.category.models import Category; Category.objects.create(title='Paths', slug='paths')"
ACTIVE = (
    "from django.db.models.signals import post_save; from django.contrib.auth import get_user_model; "
    "from spirit.user.models import UserProfile"
)


def serve(folder: Path, port: int) -> list[str]:
    python = str(python_of(folder))
    subprocess.run([python, "-m", "django", "--version"], check=True, capture_output=True)
    subprocess.run([str(Path(python).parent / "spirit"), "startproject", "board"], cwd=folder, check=True)
    site = folder / "board"
    settings = site / "board" / "settings" / "prod.py"
    settings.write_text(settings.read_text() + MORE)
    manage = [python, "manage.py"]
    for command in (["migrate", "-v0"], ["createcachetable"], ["collectstatic", "--noinput", "-v0"]):
        subprocess.run([*manage, *command], cwd=site, check=True, capture_output=True)
    subprocess.run([*manage, "shell", "-c", CATEGORY], cwd=site, check=True, capture_output=True)
    where = ["--bind", f"127.0.0.1:{port}", "--workers", "1", "--threads", "8", "--timeout", "60", "--chdir", str(site)]
    return ["python", "-m", "gunicorn", *where, "board.wsgi:application"]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/user/register/")


def created(folder: Path, base: str) -> int:
    with sqlite3.connect(folder / "board" / "db.sqlite3") as link:
        return int(link.execute("SELECT count(*) FROM spirit_comment_comment").fetchone()[0])


FORUM = App(
    name="forum (default cookie names)",
    packages=["django-spirit==0.14.3", "gunicorn"],
    serve=serve,
    drive=drive,
    created=created,
)
