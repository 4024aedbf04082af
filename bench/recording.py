"""One visit to an application, recorded by each of the product's ways: a HAR file, the doorway, the
proxy.
"""

import asyncio
import contextlib
import tempfile
import threading
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from bench.apps import App
from bench.apps.base import Served
from dynamikos.chromium import unseen
from dynamikos.core.exchanges import Exchange, Recording, read_har, write_har
from dynamikos.core.plans import parse_target
from dynamikos.engine.recorder.certificates import Authority
from dynamikos.engine.recorder.doorway import Doorway
from dynamikos.engine.recorder.proxy import Proxy

WAYS = ("HAR", "doorway", "proxy")


def recorded(app: App, served: Served, number: int, folder: Path, way: str) -> Recording:
    """The n-th visit; what was recorded stays in `folder` as a HAR file."""
    path = folder / f"{number}.har"
    if way == "HAR":
        visit(app, served.base, number, record_har_path=str(path), record_har_content="embed")
        return read_har(path.read_bytes())
    with listening(way, served.base) as (kept, address):
        if way == "doorway":
            visit(app, address, number)
        else:
            visit(app, served.base, number, proxy={"server": address})
    exchanges = sorted(kept, key=lambda each: each.started_us)
    found = tuple(replace(each, entry=place) for place, each in enumerate(exchanges))
    path.write_bytes(write_har(found, {}))
    return Recording(exchanges=found, pages={})


def visit(app: App, base: str, number: int, **context: Any) -> None:
    """One person's visit in a fresh browser."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(**unseen())
        place = browser.new_context(**context)
        place.route(
            lambda url: not url.startswith(base), lambda route: route.abort()
        )  # nothing beyond this machine
        try:
            page = place.new_page()
            page.set_default_timeout(60_000)
            app.drive(page, base, app.words(number))
        finally:
            place.close()
            browser.close()


@contextlib.contextmanager
def listening(way: str, target: str) -> Iterator[tuple[list[Exchange], str]]:
    """A doorway to, or a proxy for, `target` in a thread of its own: (what it records, its
    address).
    """
    kept: list[Exchange] = []
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()

    async def begin(folder: Path) -> tuple[Doorway | Proxy, str]:
        if way == "doorway":
            door: Doorway | Proxy = Doorway([target], "visit.localhost", kept.append)
            return door, f"http://visit.localhost:{await door.listen()}"
        door = Proxy((parse_target(target),), Authority(folder, datetime.now(UTC)), kept.append)
        return door, f"http://127.0.0.1:{await door.listen()}"

    with tempfile.TemporaryDirectory() as name:
        door, address = asyncio.run_coroutine_threadsafe(begin(Path(name)), loop).result(20)
        try:
            yield kept, address
        finally:
            asyncio.run_coroutine_threadsafe(door.aclose(), loop).result(20)
            loop.call_soon_threadsafe(loop.stop)
            thread.join(5)
