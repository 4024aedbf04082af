"""./dynamikos shots"""

from collections.abc import Callable
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
    module, shows = WAYS.get(view, ("Journeys", None))
    page.click(f".spine a[data-name={module}]")
    return (shows(page) if shows is not None else None) or ""


def _ladder(page: Any) -> None:
    page.click("tbody a[data-command='Open Evening booking']")


def _request(page: Any) -> None:
    _ladder(page)
    page.click("#ladder a[data-at*='post-hold']")


def _strands(page: Any) -> None:
    page.click("tbody a[data-command='Open Evening, as recorded']")
    page.click("a[data-command='Strands']")
    page.click("button[data-command='Search']")
    page.wait_for_selector("table.strands")


def _recording(page: Any) -> str | None:
    if not page.locator("td:has(.good) a").count():
        return "nothing is being recorded; start a recording under Journeys first"
    page.click("td:has(.good) a")
    return None


def _rehearsal(page: Any) -> None:
    if page.locator("tbody a[href*='rehearsals']").count():
        page.click("tbody a[href*='rehearsals']")
    else:  # a fresh demo: the first one
        _ladder(page)
        page.click("button[data-command='Rehearse']")
        page.wait_for_selector("h1:has-text('replayed')")


def _persona(page: Any) -> None:
    page.click("a[data-command='Personas']")
    page.click("tbody a:has-text('Phone in town')")


def _crowd(page: Any) -> None:
    page.click("tbody a:has-text('Evening, three kinds of visitors')")


def _preflight(page: Any) -> None:
    _crowd(page)
    page.click("button[data-command^='Preflight']")
    page.wait_for_selector("th:has-text('Looked at')")


def _tape(page: Any) -> str | None:
    if not page.locator("tbody a").count():
        return "there is no run yet; start one from a load plan first"
    page.click("tbody a >> nth=0")
    return None


def _noticed(page: Any) -> str | None:
    if none := _tape(page):
        return none
    page.wait_for_selector("#tape[data-ready]")
    page.locator("#findings li:has-text('times as long') button.button").first.click()
    page.wait_for_selector("#tape[data-redrawn]")
    page.locator("#rows button.look:has-text('Look at an object')").first.click()
    page.wait_for_selector("tr.closer")
    page.locator("#findings").scroll_into_view_if_needed()
    return None


def _user(page: Any) -> str | None:
    if none := _tape(page):
        return none
    page.click("a[data-command='All kept exchanges']")
    if not page.locator("#log tr:has-text('followed')").count():
        return "nobody was followed in the last run; follow a user while it runs"
    page.locator("#log tr:has-text('followed') a[href*='/users/']").first.click()
    return None


def _compared(page: Any) -> str | None:
    if page.locator("[name=run]").count() < 2:
        return "there are no two runs yet; start them from a load plan first"
    page.locator("[name=run]").nth(0).check()
    page.locator("[name=run]").nth(1).check()
    page.click("button:has-text('Compare')")
    page.wait_for_selector("table.differences")
    return None


def _trend(page: Any) -> str | None:
    page.click("button[data-key=t]")
    if not page.locator(".trend circle").count():
        return "there is no run with figures yet; start one from a load plan first"
    return None


def _casebook(page: Any) -> str | None:
    if not page.locator("tbody a").count():
        return "there is no casebook yet; pin something of a run first"
    page.click("tbody a >> nth=0")
    page.wait_for_selector("#paper, iframe.closed")
    return None


# the module it is in, and what is done there to see it
WAYS: dict[str, tuple[str, Callable[[Any], str | None] | None]] = {
    "ladder": ("Journeys", _ladder),
    "request": ("Journeys", _request),
    "strands": ("Journeys", _strands),
    "recording": ("Journeys", _recording),
    "rehearsal": ("Journeys", _rehearsal),
    "data": ("Data", lambda page: page.click("tbody a:has-text('observers')")),
    "plan": ("Load", lambda page: page.click("tbody a:has-text('Evening, 20 users')")),
    "crowd": ("Load", _crowd),
    "persona": ("Load", _persona),
    "preflight": ("Load", _preflight),
    "runs": ("Runs", None),
    "tape": ("Runs", _tape),
    "noticed": ("Runs", _noticed),
    "user": ("Runs", _user),
    "compared": ("Runs", _compared),
    "trend": ("Runs", _trend),
    "casebook": ("Casebook", _casebook),
    "settings": ("Settings", None),
}
