"""A wiki: pages in a git repository, accounts of its own, a form key, a page's name typed into its
address.
"""

import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words


def environment(folder: Path) -> dict[str, str]:
    return {
        "REPOSITORY": str(folder / "pages"),
        "SQLALCHEMY_DATABASE_URI": f"sqlite:///{folder}/wiki.db",
        "SECRET_KEY": "made-for-a-benchmark-of-a-wiki",
        "EMAIL_NEEDS_CONFIRMATION": "False",
        "READ_ACCESS": "REGISTERED",
        "WRITE_ACCESS": "REGISTERED",
        "WTF_CSRF_ENABLED": "True",
        "GIT_AUTHOR_NAME": "wiki",
    }


def serve(folder: Path, port: int) -> list[str]:
    (folder / "pages").mkdir()
    subprocess.run(["git", "init", "-q", str(folder / "pages")], check=True)
    where = ["--bind", f"127.0.0.1:{port}", "--workers", "1", "--threads", "8", "--timeout", "60"]
    return ["python", "-m", "gunicorn", *where, "otterwiki.server:app"]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/-/register")
    page.fill("[name=email]", words["mail"])
    page.fill("[name=name]", words["person"])
    page.fill("[name=password1]", words["password"])
    page.fill("[name=password2]", words["password"])
    page.click("form:has([name=password2]) [type=submit]")
    page.wait_for_url("**/-/login")
    page.fill("[name=email]", words["mail"])
    page.fill("[name=password]", words["password"])
    page.click("form:has([name=password]) [type=submit]")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.goto(base + "/-/create")
    page.fill("[name=pagename]", words["page"])
    page.click("form:has([name=pagename]) [type=submit] >> nth=-1")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.click(".cm-content")
    page.keyboard.type(words["text"])
    page.click("#save-page-btn")
    page.fill("#commit-message", words["why"])
    page.click("#saveform [type=submit]")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.goto(base + "/-/logout")


def created(folder: Path, base: str) -> int:
    return sum(1 for each in (folder / "pages").rglob("*.md") if "stove" in each.read_text())


def user(number: int) -> Words:
    return {
        "mail": f"marram{number}@dunes.example",
        "person": "Marram Dune",
        "password": f"shoreline-{number}-y",
    }


def round(number: int) -> Words:
    what = ("Kettle", "Boots", "Window", "Door")[number % 4]
    return {
        "page": f"{what} {number}",
        "text": f"How the stove of hut {number} is lit.",
        "why": f"Hut {number}",
    }


WIKI = App(
    name="wiki (git, accounts)",
    packages=["otterwiki==2.26.1", "gunicorn"],
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    environment=environment,
    issued={"key of each form": r"POST \S+ (form|field) csrf_token"},
    rounds_from="/-/create",
)
