"""A page whose answers come as a stream of events, over TLS and HTTP/2: the name of the session is
the page's own.
"""

import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted

SERVER = """
import sqlite3, time
import gradio, gradio.routes
from fastapi import FastAPI

def store():
    link = sqlite3.connect("weather.db", timeout=30)
    link.execute("create table if not exists asked (place text, days integer)")
    return link

def forecast(place, days):
    for day in range(int(days)):
        time.sleep(0.1)
        yield f"{place}, day {day + 1}: wind {len(place) + day} knots"
    with store() as link:
        link.execute("insert into asked values (?, ?)", (place, int(days)))

store().close()
page = gradio.Interface(forecast, [gradio.Textbox(label="Place"), gradio.Number(3, label="Days")],
                        gradio.Textbox(label="Forecast"), analytics_enabled=False)
page.queue(default_concurrency_limit=8)
app = gradio.mount_gradio_app(FastAPI(), page, path="/")
"""


def serve(folder: Path, port: int) -> list[str]:
    (folder / "weather.py").write_text(SERVER)
    asked = [*"openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj".split(), "/CN=127.0.0.1"]
    asked += ["-addext", "subjectAltName=IP:127.0.0.1", "-keyout", "own.key", "-out", "own.pem"]
    subprocess.run(asked, cwd=folder, check=True, capture_output=True)
    return [
        *("python", "-m", "hypercorn", "--certfile", "own.pem", "--keyfile", "own.key"),
        *("--bind", f"127.0.0.1:{port}", "weather:app"),
    ]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/")
    page.get_by_label("Place").fill(words["place"])
    page.wait_for_timeout(1200)
    page.get_by_role("button", name="Submit").click()
    page.wait_for_function(
        "text => [...document.querySelectorAll('textarea')].some(e => e.value.includes(text))",
        arg=f"{words['place']}, day 3",
    )
    page.wait_for_timeout(1200)


def created(folder: Path, base: str) -> int:
    return counted(folder / "weather.db", "select count(*) from asked")


def round(number: int) -> Words:
    return {"place": f"Skerry {number}"}


WEATHER = App(
    name="weather (stream over HTTP/2)",
    packages=["gradio==6.31.0", "hypercorn[h2]"],
    serve=serve,
    drive=drive,
    round=round,
    created=created,
    scheme="https",
    environment=lambda folder: {"GRADIO_ANALYTICS_ENABLED": "False"},
)
