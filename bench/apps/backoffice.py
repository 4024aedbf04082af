"""A back office of tables: a single page in front of a JSON interface, a cookie whose value goes
back in a header.
"""

from pathlib import Path
from typing import Any

from playwright.sync_api import TimeoutError as TimeOver

from bench.apps.base import App, Words, counted

START = """
import uvicorn
from piccolo.engine.sqlite import SQLiteEngine
from piccolo_admin.example import tables
from piccolo_admin.example.app import APP

base = SQLiteEngine(path="{folder}/office.sqlite", timeout=30)
for table in tables.TABLE_CLASSES:
    table._meta._db = base
tables.create_schema()
tables.populate_data()
uvicorn.run(APP, host="127.0.0.1", port={port}, log_level="warning")
"""


def serve(folder: Path, port: int) -> list[str]:
    (folder / "start.py").write_text(START.format(folder=folder, port=port))
    return ["python", "start.py"]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/")
    page.fill("[name=username]", "piccolo")
    page.fill("[name=password]", "piccolo123")
    page.keyboard.press("Enter")
    page.wait_for_selector("a[href*='studio']")
    page.wait_for_timeout(1200)
    page.click("a[href='#/studio/']")
    page.wait_for_timeout(1200)
    page.click("a.button:has-text('Add row')")
    page.wait_for_selector("[name=name]")
    page.fill("[name=name]", words["name"])
    page.click("[data-uitest=create_button]")
    page.wait_for_selector("text=Successfully added row")
    page.wait_for_timeout(1200)
    page.click("a:has-text('Back')")
    page.wait_for_timeout(1200)
    row = page.locator(f"tr:has-text('{words['name']}') a[href*='#/studio/'] >> nth=0")
    try:
        row.wait_for(timeout=10_000)
    except TimeOver:  # its list may be one that was asked for before the row was there
        page.reload()
    row.click()
    page.wait_for_selector("[name=name]")
    page.wait_for_timeout(1200)
    page.fill("[name=name]", words["renamed"])
    page.click("form:has([name=name]) button >> nth=-1")
    page.wait_for_timeout(1500)


def created(folder: Path, base: str) -> int:
    return counted(
        folder / "office.sqlite", "SELECT count(*) FROM studio WHERE name LIKE '% house'"
    )


def round(number: int) -> Words:
    name = f"{('Larch', 'Alder', 'Hazel', 'Aspen')[number % 4]} {number}"
    return {"name": f"{name} studio", "renamed": f"{name} house"}


OFFICE = App(
    name="office (single page, JSON)",
    packages=["piccolo_admin==1.14.0", "piccolo[sqlite]", "uvicorn"],
    serve=serve,
    drive=drive,
    round=round,
    created=created,
    issued={
        "key of the cookie": r"POST \S+ header X-Csrftoken",
        "number of the row": r"(GET|PUT) /api/tables/studio/\S+ path 4",
    },
    rounds_from="/api/tables/studio/schema",
)
