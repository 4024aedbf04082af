"""Orders for work that is to be done: a single page whose every call is GraphQL over one
address.
"""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, counted

WORK = """
import dagster

class Greeting(dagster.Config):
    words: str = "hello"

@dagster.op
def greet(config: Greeting):
    pass

@dagster.job
def greeting():
    greet()

work = dagster.Definitions(jobs=[greeting])
"""
# orders wait for a process that is never started: what is measured is the interface
SETTINGS = """
telemetry: {enabled: false}
nux: {enabled: false}
run_coordinator: {module: dagster.core.run_coordinator, class: QueuedRunCoordinator}
"""


def serve(folder: Path, port: int) -> list[str]:
    (folder / "work.py").write_text(WORK)
    (folder / "dagster.yaml").write_text(SETTINGS)
    return ["dagster-webserver", "-f", "work.py", "-h", "127.0.0.1", "-p", str(port)]


def environment(folder: Path) -> Mapping[str, str]:
    return {
        "DAGSTER_HOME": str(folder),
        "HTTPS_PROXY": "http://127.0.0.1:9",
        "HTTP_PROXY": "http://127.0.0.1:9",
    }


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/locations/work.py/jobs/greeting/")
    page.click("a:has-text('Launchpad')")
    page.wait_for_selector("button:has-text('Launch Run')")
    page.wait_for_timeout(2500)
    page.click(".CodeMirror")
    page.keyboard.press("Control+A")
    page.keyboard.insert_text(words["order"])
    page.wait_for_timeout(2000)
    page.click("button:has-text('Launch Run')")
    page.wait_for_url("**/runs/*")
    page.wait_for_timeout(2500)
    page.click("button:has-text('Terminate')")
    page.click("button:has-text('Terminate 1 run')")
    page.wait_for_timeout(3000)


def created(folder: Path, base: str) -> int:
    """Orders that were given and taken back."""
    place = folder / "history" / "runs.db"
    return (
        counted(place, "SELECT count(*) FROM runs WHERE status = 'CANCELED'")
        if place.exists()
        else 0
    )


def round(number: int) -> Words:
    words = ("good evening", "clear skies", "mind the step", "lens cap off")[number % 4]
    return {"order": f"ops: {{greet: {{config: {{words: {words} {number}}}}}}}"}


ORDERS = App(
    name="orders (single page, GraphQL)",
    packages=["dagster==1.13.28", "dagster-webserver==1.13.28"],
    serve=serve,
    environment=environment,
    drive=drive,
    round=round,
    created=created,
    issued={
        "number of the order": r"POST /graphql json \$.variables.(runId|runIds|filter\.runIds)"
    },
    rounds_from="/jobs/greeting/",
)
