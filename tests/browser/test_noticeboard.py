"""An application that the product knows nothing of: recorded twice by the doorway, scripted with no
capture typed.
"""

import json
import urllib.request
from typing import Any

from dynamikos.cli.state import wait_for_port
from dynamikos.web.environments import actions as environments
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from tests.browser.support import BrowserCase
from tests.processes.support import PATIENCE_S, free_port

VISITS = (
    (
        "Lost: a small lens",
        ("It fell near the north door.", "It fell near the north door, in the evening."),
        b"glass",
    ),
    ("Found: one glove", ("Grey, left hand.",), b"wool, grey"),
)


class Noticeboard(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        self.port = free_port()
        self.board = f"http://127.0.0.1:{self.port}"
        self.spawn(
            "noticeboard", "tests.browser.noticeboard", str(self.port), DJANGO_SETTINGS_MODULE=""
        )
        self.assertTrue(wait_for_port(self.port, PATIENCE_S))
        self.spawn("recorder", "dynamikos.cli", "recorder")
        self.start_fleet()
        environments.agree(self.sample.member, self.sample.environment, self.board)

    def everything(self) -> dict[str, Any]:
        with urllib.request.urlopen(self.board + "/all", timeout=5) as answer:
            return json.loads(answer.read())  # type: ignore[no-any-return]

    def visit(
        self, tab: Any, name: Any, title: str, texts: tuple[str, ...], picture: bytes
    ) -> None:
        """What a person does there: `name` names the stretch that begins."""
        name("Arrive", "opening")
        tab.reload()
        tab.fill("[name=who]", "ada")
        tab.fill("[name=password]", "a word of ada's")
        tab.click("text=Enter the board")
        tab.wait_for_selector("h1:has-text('All notices')")
        name("Pin a notice", "rounds")
        tab.click("text=All notices")
        tab.click("text=Write a notice")
        for number, text in enumerate(texts, 1):  # saved by the page as it is written
            tab.fill("[name=title]", title)
            tab.fill("[name=text]", text)
            tab.locator("[name=text]").blur()
            tab.wait_for_selector(f"output:has-text('kept {number + 1}')")
        file = {"name": "picture.txt", "mimeType": "text/plain", "buffer": picture}
        tab.set_input_files("[name=picture]", file)
        tab.click("text=Pin it")
        tab.wait_for_selector(f"h1:has-text('{title}')")
        name("Leave", "closing")
        tab.click("text=Leave the board")
        tab.wait_for_selector("h1:has-text('Who is there?')")

    def test_a_button_stays_under_the_finger_while_more_is_recorded(self) -> None:
        """The headline is made anew with every exchange; a press that began before goes on."""
        self.sign_in()

        def script(page: Any) -> str:
            page.goto(self.base + self.sample.address("journeys"))
            page.fill("[name=targets]", self.board)
            page.click("button:text-is('Record')")
            page.wait_for_selector("#door")
            place = self.browser.new_context()
            tab = place.new_page()
            tab.goto(str(page.get_attribute("#door", "href")))
            page.wait_for_selector("#headline h1:has-text('exchange')")
            box = page.locator("button:has-text('Pause')").bounding_box()
            before = page.inner_text("#headline h1")
            page.mouse.move(box["x"] + 20, box["y"] + 10)
            page.mouse.down()
            tab.reload()
            page.wait_for_function(
                "was => document.querySelector('#headline h1').innerText !== was", arg=before
            )
            page.mouse.up()
            page.wait_for_selector("#headline h1:has-text('paused')")
            place.close()
            return str(page.inner_text("#headline h1"))

        self.assertIn("paused", self.pool.submit(script, self.page).result(300))

    def test_recorded_twice_by_the_doorway_and_green_in_two_rounds(self) -> None:
        self.sign_in()

        def record(page: Any, number: int) -> None:
            page.goto(self.base + self.sample.address("journeys"))
            page.fill("[name=targets]", self.board)
            page.locator("form:has([name=targets]) [name=name]").fill(f"Notices {number + 1}")
            page.click("button:text-is('Record')")
            page.wait_for_selector("#door")
            place = self.browser.new_context()
            tab = place.new_page()
            tab.goto(str(page.get_attribute("#door", "href")))

            def name(text: str, part: str) -> None:
                page.fill("#naming [name=name]", text)
                page.select_option("#naming [name=part]", part)
                page.click("text=Name it")
                page.wait_for_selector(f".stretch:has-text('{text}'), h1:has-text('{text}')")

            self.visit(tab, name, *VISITS[number])
            page.click("text=Stop, make a journey")
            page.wait_for_selector("h1:has-text('which belong to the application')")
            place.close()

        def script(page: Any) -> str:
            record(page, 0)
            page.click("text=Make journey")
            page.wait_for_selector("#ladder")
            record(page, 1)
            page.click("text=Take it as evidence")
            page.wait_for_selector("h1:has-text('Strands')")
            page.keyboard.press("s")
            page.wait_for_selector("h1:has-text('to take'), table.strands")
            page.keyboard.press("a")
            page.wait_for_selector(".notification.is-info:has-text('Taken into the journey')")
            return str(page.inner_text(".notification.is-info"))

        said = self.pool.submit(script, self.page).result(500)
        self.assertIn("the closing opens", said)

        def rehearse(page: Any) -> str:
            page.keyboard.press("r")
            page.wait_for_selector("h1:has-text('replayed')")
            page.select_option("[name=rounds]", "2")
            page.click("button:has-text('Rehearse')")
            page.wait_for_selector("h1:has-text('in 2 rounds'), h1:has-text('failed')")
            return str(page.inner_text("h1"))

        before = self.everything()
        self.assertEqual(before["refused"], 0)
        self.assertEqual(len(before["notices"]), 2)
        self.assertIn("Every check passed in 2 rounds", self.do(rehearse))
        after = self.everything()
        self.assertEqual(after["refused"], 0)  # no key was sent that had turned
        self.assertEqual([each["pinned"] for each in after["notices"].values()], [True] * 5)
        self.assertEqual(
            {each["picture"] for each in list(after["notices"].values())[2:]}, {"glass"}
        )
        core = content(Journey.objects.get(name="Notices 1"))
        leaving = core.closing[0].requests
        self.assertEqual(
            [each.method for each in leaving], ["GET", "POST"]
        )  # it opens a page of its own first
        self.assertEqual([line for line in self.trouble if "favicon" not in line], [])
