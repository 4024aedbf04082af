"""One visit to an application, recorded by each of the product's ways: a HAR file, the doorway, the
proxy.
"""

import asyncio
import contextlib
import tempfile
import threading
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from bench.apps import App
from bench.apps.base import Served
from dynamikos.chromium import unseen
from dynamikos.core.exchanges import Exchange, Recording, read_har, write_har
from dynamikos.core.plans import Way, parse_target
from dynamikos.engine.recorder.certificates import Authority
from dynamikos.engine.recorder.doorway import Doorway
from dynamikos.engine.recorder.proxy import Proxy


def recorded(app: App, served: Served, number: int, folder: Path, way: str) -> Recording:
    """The n-th visit; what was recorded stays in `folder` as a HAR file."""
    path = folder / f"{number}.har"
    if way == "HAR":
        har = {"record_har_path": str(path), "record_har_content": "embed"}
        visit(app, served.origins, number, **har)
        return read_har(path.read_bytes())
    with listening(way, served.origins) as (kept, addresses):
        if way == "doorway":
            visit(app, addresses, number)
        else:
            visit(app, served.origins, number, proxy={"server": addresses[0]})
    exchanges = sorted(kept, key=lambda each: each.started_us)
    found = tuple(replace(each, entry=place) for place, each in enumerate(exchanges))
    path.write_bytes(write_har(found, {}))
    return Recording(exchanges=found, pages={})


def visit(app: App, origins: Sequence[str], number: int, **context: Any) -> None:
    """One person's visit in a fresh browser; `origins` are the application's, its own first."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(**unseen())
        place = browser.new_context(ignore_https_errors=True, **context)
        place.route(
            lambda url: not url.startswith(tuple(origins)), lambda route: route.abort()
        )  # nothing beyond this machine
        try:
            page = place.new_page()
            page.set_default_timeout(60_000)
            app.drive(page, origins[0], app.words(number))
        finally:
            place.close()
            browser.close()


@contextlib.contextmanager
def listening(way: str, targets: Sequence[str]) -> Iterator[tuple[list[Exchange], list[str]]]:
    """A doorway to, or a proxy for, `targets` in a thread of its own: (what it records, its
    addresses: the doorway has one for each target).
    """
    kept: list[Exchange] = []
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()

    async def begin(folder: Path) -> tuple[Doorway | Proxy, list[str]]:
        if way == "doorway":
            door = Doorway(list(targets), "visit.localhost", kept.append, way=Way(trust="anything"))
            await door.listen()
            return door, [door.address(number) for number in range(len(targets))]
        agreed = tuple(map(parse_target, targets))
        authority = Authority(folder, datetime.now(UTC))
        proxy = Proxy(agreed, authority, kept.append, way=Way(trust="anything"))
        return proxy, [f"http://127.0.0.1:{await proxy.listen()}"]

    with tempfile.TemporaryDirectory() as name:
        door, addresses = asyncio.run_coroutine_threadsafe(begin(Path(name)), loop).result(20)
        try:
            yield kept, addresses
        finally:
            asyncio.run_coroutine_threadsafe(door.aclose(), loop).result(20)
            loop.call_soon_threadsafe(loop.stop)
            thread.join(5)
