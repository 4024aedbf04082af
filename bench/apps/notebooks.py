"""A notebook server: a password, a key from a cookie in a header, folders whose first name the
server gives.
"""

import json
import subprocess
from pathlib import Path
from typing import Any

from bench.apps.base import App, Words, python_of

HASH = "from jupyter_server.auth import passwd; print(passwd('heather-and-gorse', 'sha1'))"


def serve(folder: Path, port: int) -> list[str]:
    python = python_of(folder)
    made = subprocess.run(
        [str(python), "-c", HASH], check=True, capture_output=True, text=True
    ).stdout.strip()
    (folder / "shelf").mkdir()
    settings = {
        "ServerApp": {
            "ip": "127.0.0.1",
            "port": port,
            "open_browser": False,
            "allow_root": True,
            "port_retries": 0,
            "root_dir": str(folder / "shelf"),
            "password": made,
            "token": "",
        },
        "PasswordIdentityProvider": {"hashed_password": made},
        "IdentityProvider": {"token": ""},
    }
    (folder / "settings.json").write_text(json.dumps(settings))
    return ["python", "-m", "nbclassic", "--config", str(folder / "settings.json")]


def drive(page: Any, base: str, words: Words) -> None:
    page.goto(base + "/login?next=%2Ftree")
    page.fill("[name=password]", "heather-and-gorse")
    page.click("[type=submit]")
    page.wait_for_selector("#new-buttons, #new-dropdown-button")
    page.wait_for_timeout(1200)
    for _ in range(2):  # one stays as it is, so that the next one is called otherwise
        page.click("#new-dropdown-button")
        page.click("#new-folder a")
        page.wait_for_timeout(1500)
    last = page.locator(".list_item:has-text('Untitled Folder') input[type=checkbox]").last
    last.check()
    page.click(".rename-button")
    page.fill(".modal-dialog input[type=text]", words["name"])
    page.click(".modal-dialog .btn-primary")
    page.wait_for_timeout(1500)


def created(folder: Path, base: str) -> int:
    return sum(1 for each in (folder / "shelf").iterdir() if each.name.startswith("Survey"))


def round(number: int) -> Words:
    return {"name": f"Survey {number} of the moor"}


NOTEBOOKS = App(
    name="notebooks (key in a header)",
    packages=["nbclassic==1.3.3", "jupyter_server"],
    serve=serve,
    drive=drive,
    round=round,
    created=created,
    environment=lambda folder: {"JUPYTER_CONFIG_DIR": str(folder), "HOME": str(folder)},
    issued={
        "key of the sign-in": r"POST /login \S*form _xsrf",
        "key of the cookie": r"(POST|PATCH) \S+ header X-Xsrftoken",
        "name that the server gave": r"PATCH /api/contents/\S+",
    },
    rounds_from="POST .*/api/contents",
)
