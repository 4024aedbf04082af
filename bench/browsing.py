"""A browser that is signed in to the application, both in this process, for benches of screens."""

import os
import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any


@contextmanager
def signed_in() -> Iterator[tuple[Any, str]]:
    """A page of 1280×800 of ada's, and the address that all pages begin with. Inside
    `own_database`.
    """
    import uvicorn
    from django.contrib.staticfiles.handlers import ASGIStaticFilesHandler
    from playwright.sync_api import sync_playwright

    from dynamikos.chromium import unseen
    from dynamikos.web.asgi import application

    bound = socket.socket()
    bound.bind(("127.0.0.1", 0))
    base = f"http://127.0.0.1:{bound.getsockname()[1]}"
    config = uvicorn.Config(ASGIStaticFilesHandler(application), log_level="error", lifespan="off")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, kwargs={"sockets": [bound]}, daemon=True)
    thread.start()
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"
    try:
        with sync_playwright() as play:
            browser = play.chromium.launch(**unseen())
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(base + "/")
            page.fill("#id_username", "ada")
            page.fill("#id_password", "pw-ada")
            page.click("button:has-text('Sign in')")
            yield page, base
            browser.close()
    finally:
        server.should_exit = True
        thread.join(5)
