"""A shared budget: server-rendered pages, a session cookie, a form key on every page, numbers as
ids.
"""

from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted

SETTINGS = """
SQLALCHEMY_DATABASE_URI = "sqlite:///{folder}/budget.db"
SECRET_KEY = "made-for-a-benchmark"
SESSION_COOKIE_SECURE = False
MAIL_SUPPRESS_SEND = True
"""


def serve(folder: Path, port: int) -> list[str]:
    (folder / "settings.py").write_text(SETTINGS.format(folder=folder))
    where = ["--bind", f"127.0.0.1:{port}", "--workers", "1", "--threads", "8", "--timeout", "60"]
    return ["python", "-m", "gunicorn", *where, "ihatemoney.wsgi:create_app()"]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/")
    page.goto(base + "/create")
    page.fill("[name=name]", words["title"])
    if page.locator("[name=id]").count():
        page.fill("[name=id]", words["project"])
    page.fill("[name=password]", words["password"])
    page.fill("[name=contact_email]", words["mail"])
    page.click("form:has([name=contact_email]) [type=submit]")
    page.wait_for_load_state()
    page.fill("[name=name]", words["member"])
    page.click("form:has([name=name]) button:has-text('Add')")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.goto(f"{base}/{words['project']}/add")
    page.fill("[name=what]", words["what"])
    page.select_option("[name=payer]", label=words["member"])
    page.fill("[name=amount]", words["amount"])
    page.click("form:has([name=amount]) [type=submit] >> nth=0")
    page.wait_for_load_state()
    page.wait_for_timeout(1200)
    page.click(".bill-actions a[href*='/edit/'] >> nth=0")
    page.wait_for_load_state()
    page.fill("[name=what]", words["what"] + " again")
    page.click("form:has([name=amount]) [type=submit] >> nth=0")
    page.wait_for_load_state()


def created(folder: Path, base: str) -> int:
    return counted(folder / "budget.db", "SELECT count(*) FROM bill WHERE what LIKE '% again'")


def user(number: int) -> Words:
    return {
        "title": f"Trip {number} to the fells",
        "project": f"trip{number}fell",
        "password": f"lantern-{number}-x",
        "mail": f"rowan{number}@fells.example",
        "member": ("Rowan", "Bracken", "Juniper", "Sorrel")[number % 4],
    }


def round(number: int) -> Words:
    return {
        "what": f"{('Rope', 'Bread', 'Oil', 'Tent')[number % 4]} number {number}",
        "amount": str(20 + number % 900),
    }


BUDGET = App(
    name="budget (pages, sessions)",
    packages=["ihatemoney==7.2.1", "gunicorn"],
    serve=serve,
    drive=drive,
    user=user,
    round=round,
    created=created,
    environment=lambda folder: {"IHATEMONEY_SETTINGS_FILE_PATH": str(folder / "settings.py")},
    issued={
        "key of each form": r"POST \S+ form csrf_token",
        "number of the payer": r"POST \S+ form (payer|payed_for)",
        "number of the bill": r"(GET|POST) /\w+/edit/\S+ path 3",
    },
    rounds_from=r"GET .*/add\Z",  # a project is made once
)
