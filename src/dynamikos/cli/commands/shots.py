"""./dynamikos shots"""

from pathlib import Path
from typing import Any

import click

from dynamikos.chromium import unseen
from dynamikos.cli.state import ROOT, State

VIEWS = (
    "journeys",
    "ladder",
    "request",
    "rehearsal",
    "strands",
    "recording",
    "data",
    "plan",
    "crowd",
    "persona",
    "preflight",
    "runs",
    "tape",
    "noticed",
    "user",
    "compared",
    "trend",
    "casebook",
    "settings",
)


@click.command()
@click.argument("views", nargs=-1)
@click.option("--theme", type=click.Choice(["paper", "night"]), default="paper")
@click.option("--width", type=int, default=1280, show_default=True)
@click.option("--keep", is_flag=True, help="Renew the pictures in docs/screenshots/.")
def command(views: tuple[str, ...], theme: str, width: int, keep: bool) -> None:
    """Take pictures of the main VIEWS (all if none is named) of the running demo, 800 high."""
    from playwright.sync_api import sync_playwright

    unknown = [view for view in views if view not in VIEWS]
    if unknown:
        raise click.BadParameter(f"there is no view {unknown[0]}; choose from {', '.join(VIEWS)}")
    state = State.open()
    if "web" not in state.living():
        raise SystemExit("dynamikos: start ./dynamikos demo first; pictures are taken of its pages")
    port = state._read("ports.json")["web"]
    folder = ROOT / "docs/screenshots" if keep else state.folder / "shots"
    folder.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as play:
        browser = play.chromium.launch(**unseen())
        page = browser.new_page(viewport={"width": width, "height": 800})
        page.context.add_cookies(
            [{"name": "dynamikos-theme", "value": theme, "url": f"http://127.0.0.1:{port}"}]
        )
        for view in views or VIEWS:
            _take(page, f"http://127.0.0.1:{port}", view, state.secret("demo-password", 9), folder)
        browser.close()


def _take(page: Any, base: str, view: str, password: str, folder: Path) -> None:
    page.goto(base + "/")
    if page.locator("#id_username").count():
        page.fill("#id_username", "ada")
        page.fill("#id_password", password)
        page.click("text=Sign in")
    page.click("text=Brindle Fell Observatory")
    why = _open(page, view)
    if why:
        click.echo(f"{view}: {why}")
        return
    page.wait_for_load_state("networkidle") if view != "tape" else page.wait_for_selector(
        "#tape[data-ready]"
    )
    page.wait_for_timeout(400)
    path = folder / f"{view}.png"
    page.screenshot(path=str(path))
    click.echo(str(path))


def _open(page: Any, view: str) -> str:
    """Goes to a view; why there is none to take a picture of yet, else nothing."""
    place = {
        "data": "Data",
        "plan": "Load",
        "crowd": "Load",
        "persona": "Load",
        "preflight": "Load",
        "runs": "Runs",
        "tape": "Runs",
        "noticed": "Runs",
        "user": "Runs",
        "compared": "Runs",
        "trend": "Runs",
        "casebook": "Casebook",
        "settings": "Settings",
    }.get(view, "Journeys")
    page.click(f".spine a[data-name={place}]")
    if view in ("ladder", "request"):
        page.click("tbody a[data-command='Open Evening booking']")
        if view == "request":
            page.click("#ladder a[data-at*='post-hold']")
    elif view == "strands":
        page.click("tbody a[data-command='Open Evening, as recorded']")
        page.click("a[data-command='Strands']")
        page.click("button[data-command='Search']")
        page.wait_for_selector("table.strands")
    elif view == "recording":
        if not page.locator("td:has(.good) a").count():
            return "nothing is being recorded; start a recording under Journeys first"
        page.click("td:has(.good) a")
    elif view == "rehearsal":
        if page.locator("tbody a[href*='rehearsals']").count():
            page.click("tbody a[href*='rehearsals']")
        else:  # a fresh demo: the first one
            page.click("tbody a[data-command='Open Evening booking']")
            page.click("button[data-command='Rehearse']")
            page.wait_for_selector("h1:has-text('replayed')")
    elif view == "data":
        page.click("tbody a:has-text('observers')")
    elif view == "plan":
        page.click("tbody a:has-text('Evening, 20 users')")
    elif view == "persona":
        page.click("a[data-command='Personas']")
        page.click("tbody a:has-text('Phone in town')")
    elif view == "preflight":
        page.click("tbody a:has-text('Evening, three kinds of visitors')")
        page.click("button[data-command^='Preflight']")
        page.wait_for_selector("th:has-text('Looked at')")
    elif view == "crowd":
        page.click("tbody a:has-text('Evening, three kinds of visitors')")
    elif view == "user":
        if not page.locator("tbody a").count():
            return "there is no run yet; start one from a load plan first"
        page.click("tbody a >> nth=0")
        page.click("a[data-command='All kept exchanges']")
        if not page.locator("#log tr:has-text('followed')").count():
            return "nobody was followed in the last run; follow a user while it runs"
        page.locator("#log tr:has-text('followed') a[href*='/users/']").first.click()
    elif view == "compared":
        if page.locator("[name=run]").count() < 2:
            return "there are no two runs yet; start them from a load plan first"
        page.locator("[name=run]").nth(0).check()
        page.locator("[name=run]").nth(1).check()
        page.click("button:has-text('Compare')")
        page.wait_for_selector("table.differences")
    elif view == "trend":
        page.click("button[data-key=t]")
        if not page.locator(".trend circle").count():
            return "there is no run with figures yet; start one from a load plan first"
    elif view == "casebook":
        if not page.locator("tbody a").count():
            return "there is no casebook yet; pin something of a run first"
        page.click("tbody a >> nth=0")
        page.wait_for_selector("#paper, iframe.closed")
    elif view in ("tape", "noticed"):
        if not page.locator("tbody a").count():
            return "there is no run yet; start one from a load plan first"
        page.click("tbody a >> nth=0")
        if view == "noticed":
            page.wait_for_selector("#tape[data-ready]")
            page.locator("#findings li:has-text('times as long') button.button").first.click()
            page.wait_for_selector("#tape[data-redrawn]")
            page.locator("#rows button.look:has-text('Look at an object')").first.click()
            page.wait_for_selector("tr.closer")
            page.locator("#findings").scroll_into_view_if_needed()
    return ""
