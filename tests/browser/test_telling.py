"""Two runs are compared and told: a baseline, pins from three places by keyboard, a casebook that
is edited, exported, opened without a network, and read by a link that is taken back.
"""

import re
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import to_builtins

from dynamikos.core.analysis.evidence import Found
from dynamikos.core.verdicts import Outcome
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.plans.queries import content
from dynamikos.web.runs import comparing, queries
from dynamikos.web.runs.models import Baseline, Run
from tests.browser.support import BrowserCase, flaws
from tests.web.performed import begun, ended, reported
from tests.web.test_runs import generator

SECONDS = 130


class BeforeItsScripts(BrowserCase):
    def test_what_a_page_asks_for_by_itself_is_never_refused_however_late_its_scripts_come(
        self,
    ) -> None:
        generator()
        run, _ = begun(self.sample, SECONDS)
        self.sign_in()
        address = f"{self.base}/p/{self.sample.project.pk}/runs/{run.pk}"

        def work(page: Any) -> None:
            page.goto(address)
            page.route(
                re.compile("/ui/page/page[^/]*[.]js"), lambda route: route.abort()
            )  # on a busy machine they come after the first
            with page.expect_response(lambda answer: answer.request.method == "POST") as told:
                page.goto(address + "/users")  # where `u` leads
            self.assertEqual((told.value.status, told.value.url), (200, address + "/users"))

        self.do(work)


class Telling(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        generator()
        draw = np.random.default_rng(3)
        self.one, self.two = (self.performed(times, draw) for times in (1.0, 1.6))

    def performed(self, times: float, draw: np.random.Generator) -> Run:
        """A run that is over, with its verdict, a finding and its figures."""
        run, frozen = begun(self.sample, SECONDS)
        reported(run, frozen, SECONDS, lambda each, at: times, draw)
        made = ended(run)
        rows = queries.window(made, frozen, 10, SECONDS).rows(SECONDS - 10)
        outcome = Outcome(rows=rows, from_s=10.0, to_s=float(SECONDS), exit_code=0)
        found = Found(
            rule="r", about="target", sentence="It grew by half.", means="So.", try_="Look."
        )
        Run.objects.filter(pk=made.pk).update(
            outcome=OUTCOME.plain(outcome), findings=[to_builtins(found)],
            figures=to_builtins(comparing.figures(made)), state="ended",
        )  # fmt: skip
        return Run.objects.get(pk=made.pk)

    def test_a_baseline_a_comparison_and_a_casebook_by_keyboard(self) -> None:
        self.sign_in()
        folder = Path(tempfile.mkdtemp())

        def pin(page: Any, place: str) -> None:
            before = page.evaluate("window.pinned = (window.pinned || 0) + 1")
            page.focus(place)
            page.keyboard.press("p")
            page.wait_for_function("() => document.querySelector('#pinned a')")
            self.assertIn("Pinned to", page.inner_text("#pinned"), before)
            page.evaluate("document.querySelector('#pinned').replaceChildren()")

        def story(page: Any) -> list[str]:
            wrong = []
            page.goto(f"{self.base}{self.sample.address(f'runs/{self.one.pk}')}")
            page.click("summary:has-text('Accept it as the baseline')")
            page.fill("[name=why]", "release 4.2")
            page.fill("[name=fail]", "1.5")
            page.click("button:has-text('Accept it')")
            page.wait_for_selector("text=release 4.2")
            pin(page, "#tape [aria-label='Pin Response time of steps']")
            pin(page, "#findings .pin")
            page.goto(f"{self.base}{self.sample.address(f'runs/{self.two.pk}')}")
            page.wait_for_selector("#tape canvas")
            page.keyboard.press("b")
            page.wait_for_selector("h1:has-text('Worse')")
            page.wait_for_selector("#over .overlaid")
            wrong += [f"compare: {each}" for each in flaws(page)]
            pin(page, ".differences .pin")
            page.goto(f"{self.base}{self.sample.address('runs')}")
            wrong += [f"log: {each}" for each in flaws(page)]
            for box in page.locator("[name=run]").all():  # chosen by keys, which go on there
                box.focus()
                page.keyboard.press("Space")
            page.keyboard.press("/")
            page.keyboard.type("one set")
            page.keyboard.press("Enter")
            page.wait_for_selector("button:has-text('Make them a set')")
            wrong += [f"set: {each}" for each in flaws(page)]
            page.keyboard.press("s")
            page.wait_for_selector("td:has-text('run 2 of a set of 2')")
            page.keyboard.press("t")
            page.wait_for_selector(".trend circle")
            wrong += [f"trend: {each}" for each in flaws(page)]
            page.goto(f"{self.base}{self.sample.address('settings/told')}")
            wrong += [f"told: {each}" for each in flaws(page)]
            page.goto(f"{self.base}{self.sample.address('casebook')}")
            page.keyboard.press("j")
            page.keyboard.press("Enter")
            page.wait_for_selector("#paper [data-block]")
            keys = (
                "() => [...document.querySelectorAll('[data-block]')].map((each) => "
                "each.dataset.block).join()"
            )
            self.assertEqual(page.evaluate(keys), "lane,finding,difference")
            wrong += [f"casebook: {each}" for each in flaws(page)]
            # moved by keys, by drag; a paragraph between; one taken out, and undone
            page.focus("[data-block=difference]")
            page.keyboard.press("Alt+ArrowUp")
            page.wait_for_function(f"{keys} === 'lane,difference,finding'")
            page.keyboard.press("a")
            page.wait_for_selector("[data-block=text] textarea:focus")
            page.keyboard.type("The index is missing <again>.")
            handle = page.locator("[data-block=text] .handle").bounding_box()
            first = page.locator("[data-block=lane]").bounding_box()
            page.mouse.move(handle["x"] + 5, handle["y"] + 5)
            page.mouse.down()
            page.mouse.move(handle["x"] + 5, first["y"] + 30, steps=4)
            page.mouse.up()
            page.wait_for_function(f"{keys} === 'text,lane,difference,finding'")
            page.click("[data-block=finding] [data-block-do=remove]")
            page.wait_for_function(f"{keys} === 'text,lane,difference'")
            page.keyboard.press("u")
            page.wait_for_selector("[data-block=finding]")
            self.assertEqual(
                page.input_value("[data-block=text] textarea"), "The index is missing <again>."
            )
            with page.expect_download() as download:
                page.keyboard.press("h")
            download.value.save_as(folder / "book.html")
            with page.expect_download(timeout=60_000) as download:
                page.click("a:text-is('PDF')")
            download.value.save_as(folder / "book.pdf")
            return wrong

        self.assertEqual(self.pool.submit(story, self.page).result(300), [])
        self.assertTrue((folder / "book.pdf").read_bytes().startswith(b"%PDF"))
        self.assertEqual([each.why for each in Baseline.objects.all()], ["release 4.2"])
        bounds = [
            each
            for each in content(type(self.sample.plan).objects.get()).objectives
            if "baseline" in each.objective
        ]
        self.assertTrue(bounds)

        def read(page: Any) -> None:
            offline = self.browser.new_context(offline=True)
            alone, asked = offline.new_page(), []
            alone.on("request", lambda request: asked.append(request.url))
            alone.goto((folder / "book.html").as_uri())
            text = alone.inner_text("body")
            for said in (
                "The index is missing <again>.",
                "It grew by half.",
                "Response time of steps",
                "worse",
            ):
                self.assertIn(said, text)
            self.assertEqual([each for each in asked if not each.startswith("file:")], [])
            self.assertGreater(alone.locator("svg path.line").count(), 0)
            offline.close()

        self.pool.submit(read, self.page).result(100)

        def links(page: Any) -> tuple[int, int]:
            page.click("button:has-text('Make a link')")
            address = page.inner_text("#word")
            stranger = self.browser.new_context()
            there = stranger.new_page()
            first = there.goto(address)
            self.assertIn("The index is missing", there.inner_text("body"))
            page.click("button:has-text('Take back')")
            page.wait_for_selector("text=taken back")
            second = there.goto(address)
            stranger.close()
            assert first is not None and second is not None
            return first.status, second.status

        self.assertEqual(self.pool.submit(links, self.page).result(100), (200, 404))

    def test_two_tabs_write_beside_each_other_and_what_came_too_late_is_not_lost(self) -> None:
        self.sign_in()

        def story(page: Any) -> None:
            page.goto(f"{self.base}{self.sample.address('casebook')}")
            page.fill("[name=title]", "Release 4.3")
            page.click("button:has-text('Begin')")
            page.wait_for_selector("#parent", state="attached")
            context = self.browser.new_context(storage_state=page.context.storage_state())
            other = context.new_page()
            other.goto(page.url)
            page.keyboard.press("a")
            page.wait_for_selector("[data-block] textarea:focus")
            other.keyboard.press("a")
            other.wait_for_selector("[data-block] textarea:focus")
            other.keyboard.type("The other's.")
            page.keyboard.type("Mine.")
            both = (
                "() => [...document.querySelectorAll('[data-block] textarea')].map((each) => "
                "each.value).sort().join()"
                ' === "Mine.,The other\'s."'
            )
            for _ in range(5):  # each is kept within a second of the last sign
                page.wait_for_timeout(800)
                other.reload()
                other.wait_for_selector("[data-block] textarea")
                if other.evaluate(both):
                    break
            self.assertTrue(other.evaluate(both))
            # the same paragraph in both: the later one is told, and what was typed is not lost
            page.reload()
            page.wait_for_selector("[data-block] textarea")
            other.locator("textarea").first.fill("Theirs now.")
            other.wait_for_timeout(1500)
            page.locator("textarea").first.fill("My version.")
            page.wait_for_selector("[data-refused]")
            self.assertIn("My version.", page.inner_text("#casebook-says"))
            context.close()

        self.pool.submit(story, self.page).result(200)
