"""An ASGI live server in a thread, and Playwright confined to a thread of its own."""

import socket
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, TypeVar

import axe_playwright_python
import uvicorn
from django.contrib.staticfiles.handlers import ASGIStaticFilesHandler
from django.core.asgi import get_asgi_application
from playwright.sync_api import sync_playwright

from dynamikos.chromium import CHROMIUM, unseen
from dynamikos.core.forms.ready import make_ready
from tests.processes.support import ProcessCase

T = TypeVar("T")
# the same Chromium without what draws its windows: it takes half the processor; the whole one where
# it is not there
LIGHT = "/usr/bin/chromium-headless-shell"
AXE = (Path(axe_playwright_python.__file__).parent / "axe.min.js").read_text()
LOOK = """async (only) => (await axe.run({ resultTypes: ['violations'],
  ...(only ? { runOnly: { type: 'rule', values: only } } : {}) })).violations"""
UNREACHABLE = """() => [...document.querySelectorAll('a[href], button, input, select, textarea, summary')]
  .filter((e) => e.tabIndex < 0 && e.type !== 'hidden').map((e) => e.outerHTML.slice(0, 80))"""  # noqa: E501


def flaws(page: Any, *, only_colors: bool = False) -> list[str]:
    """Serious violations of the page that is shown (colours are all that a theme changes), and
    controls that can't be reached by keyboard.
    """
    page.evaluate(AXE)
    bad = [
        f"{each['id']}: {each['nodes'][0]['html'][:160]}"
        for each in page.evaluate(LOOK, ["color-contrast"] if only_colors else None)
        if each["impact"] in ("serious", "critical")
    ]
    return bad + [f"not by keyboard: {each}" for each in page.evaluate(UNREACHABLE)]


class BrowserCase(ProcessCase):
    """`self.do(lambda page: …)` runs in Playwright's thread.

    Console errors and violations of the policy fail the test. The browser is that of all tests of a
    class; each has a profile of its own.
    """

    pool: ThreadPoolExecutor
    playwright: Any
    browser: Any

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.pool = ThreadPoolExecutor(1)
        cls.addClassCleanup(cls.pool.shutdown)

        def launch() -> None:
            cls.playwright = sync_playwright().start()
            path = LIGHT if Path(LIGHT).exists() else CHROMIUM
            cls.browser = cls.playwright.chromium.launch(**unseen(path=path))

        cls.pool.submit(launch).result()
        cls.addClassCleanup(lambda: cls.pool.submit(cls.playwright.stop).result())
        cls.addClassCleanup(lambda: cls.pool.submit(cls.browser.close).result())

    def setUp(self) -> None:
        super().setUp()
        make_ready()  # as the web process does at its start
        bound = socket.socket()
        bound.bind(("127.0.0.1", 0))
        self.base = f"http://127.0.0.1:{bound.getsockname()[1]}"
        config = uvicorn.Config(
            ASGIStaticFilesHandler(get_asgi_application()),
            log_level="error",
            lifespan="off",
            timeout_graceful_shutdown=1,
        )
        self.server = uvicorn.Server(config)
        self.thread = threading.Thread(
            target=self.server.run, kwargs={"sockets": [bound]}, daemon=True
        )
        self.thread.start()
        self.trouble: list[str] = []
        self.pool.submit(self._open).result()

    def tearDown(self) -> None:
        self.pool.submit(lambda: [each.close() for each in self.browser.contexts]).result()
        self.server.should_exit = True
        self.thread.join(5)
        super().tearDown()

    def do(self, work: Callable[[Any], T]) -> T:
        return self.pool.submit(work, self.page).result(300)

    def sign_in(self, name: str = "ada") -> None:
        def work(page: Any) -> None:
            page.goto(self.base + "/")
            page.fill("#id_username", name)
            page.fill("#id_password", "pw-" + name)
            page.click("button:has-text('Sign in')")
            page.wait_for_selector("h1")

        self.do(work)

    def _open(self) -> None:
        self.page = self.browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        self.page.set_default_timeout(90_000)
        self.page.on("pageerror", lambda error: self.trouble.append(str(error)))
        self.page.on(
            "console",
            lambda message: self.trouble.append(message.text) if message.type == "error" else None,
        )
