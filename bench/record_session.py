"""Records examples/evening-session.har and second-evening.har: two invented observers' evenings in
Chromium on the stand-in.

    ./dynamikos target &   then   PYTHONPATH=src .venv/bin/python bench/record_session.py
A foreign host (a made-up counter of visitors) is added afterwards, as every real session has one.
"""

import json
from pathlib import Path

from playwright.sync_api import sync_playwright

from dynamikos.chromium import unseen
from observatory.people import observer

TARGET = "http://127.0.0.1:8470"
EXAMPLES = Path(__file__).resolve().parents[1] / "examples"


def record(number: int, out: Path, term: str, click: tuple[int, int], slot: int) -> None:
    email, password, _, constellation, night = observer(number)
    with sync_playwright() as play:
        browser = play.chromium.launch(**unseen())
        context = browser.new_context(record_har_path=str(out), record_har_content="embed")
        page = context.new_page()
        page.goto(TARGET + "/")
        page.wait_for_timeout(1200)
        page.goto(TARGET + "/sign-in")
        page.wait_for_timeout(1200)
        page.fill("[name=email]", email)
        page.fill("[name=password]", password)
        page.evaluate(
            "([x, y]) => { document.querySelector('[name=click_x]').value = x;"
            " document.querySelector('[name=click_y]').value = y; }",
            list(click),
        )
        form_key = page.input_value("[name=form_key]")
        page.click("button")
        page.wait_for_timeout(1500)
        page.goto(f"{TARGET}/sky?constellation={constellation}&page=1")
        page.evaluate(
            """async (term) => { await fetch('/api/objects?q=' + term + '&t=' + Date.now(),
            {headers: {'X-Request-Id': crypto.randomUUID(), 'X-Sky-Token': window.sky.skyToken}}); }""",  # noqa: E501
            term,
        )
        page.wait_for_timeout(1300)
        page.click("a.object >> nth=0")
        page.wait_for_timeout(1400)
        page.evaluate(
            """async ([night, slot]) => {
            const sight = atob(document.querySelector('[data-sight]').dataset.sight);
            const pause = (ms) => new Promise((done) => setTimeout(done, ms));
            const asked = await fetch('/api/slots?night=' + night + '&sight=' + encodeURIComponent(sight));
            const found = await asked.json();
            await pause(1300);
            const key = document.cookie.split('; ').find((c) => c.startsWith('desk=')).slice(5);
            const answer = await fetch('/api/holds', {
              method: 'POST',
              headers: {'Content-Type': 'application/json', 'X-Form-Key': key},
              body: JSON.stringify({slot: found.slots[slot].id, hold_token: found.hold_token}),
            });
            window.hold = (await answer.json()).hold.id;
            await pause(1200);
        }""",  # noqa: E501
            [night, slot],
        )
        page.evaluate(
            """(key) => {
            const f = Object.assign(document.createElement('form'), {method: 'post', action: '/bookings'});
            for (const [name, value] of [['hold', window.hold], ['form_key', key]]) {
              f.append(Object.assign(document.createElement('input'), {name, value}));
            }
            document.body.append(f);
            f.submit();
        }""",  # noqa: E501
            form_key,
        )
        page.wait_for_timeout(1500)
        page.evaluate(
            "() => { const f = document.createElement('form'); f.method = 'post'; f.action = "
            "'/sign-out';"
            " document.body.append(f); f.submit(); }"
        )
        page.wait_for_timeout(1000)
        context.close()
        browser.close()

    har = json.loads(out.read_text())
    first = har["log"]["entries"][0]
    counter = json.loads(json.dumps(first))
    counter["request"].update(url="https://counter.visitors.example/hit?page=front", headers=[])
    counter["response"]["content"] = {
        "size": 43,
        "mimeType": "image/gif",
        "text": "",
        "encoding": "base64",
    }
    har["log"]["entries"].insert(9, counter)
    out.write_text(json.dumps(har, indent=1))


if __name__ == "__main__":
    record(4321, EXAMPLES / "evening-session.har", "ring", (212, 318), 0)
    record(1779, EXAMPLES / "second-evening.har", "nebula", (347, 92), 1)
