"""Who comes, by hand on the plan's page: rows, another kind of load, a curve drawn, mistakes and
their mending.
"""

from typing import Any

from dynamikos.core.dealing import Deal
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans.workloads import Arrivals
from dynamikos.core.profiles import Stretch
from dynamikos.core.verdicts.outcome import OUTCOME
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.journeys.actions import create as create_journey
from dynamikos.web.plans import queries
from dynamikos.web.runs.models import Run
from tests.browser.support import BrowserCase
from tests.processes.support import until
from tests.web.support import EXAMPLES

SHEET = (
    "Who\tDoes\tCount\nBrowsers\tSky browsing\t60\nObservers\tEvening "
    "booking\tthirty\nStaff\tNight assistant\t10\n"
)


class Crowds(BrowserCase):
    def test_three_rows_a_crowd_that_arrives_and_a_mistake_that_is_mended(self) -> None:
        sample = self.sample
        self.sign_in("ada")

        def typed(page: Any, name: str, value: str, nth: int = 0) -> None:
            page.fill(f"[name={name}] >> nth={nth}", value)
            page.keyboard.press("Tab")

        def kept(page: Any, selector: str) -> None:
            page.wait_for_selector(selector, state="attached")

        def work(page: Any) -> list[str]:
            page.goto(self.base + sample.address(f"load/{sample.plan.pk}"))
            # two more rows of the same journey: the last row is always a new one
            for row, (name, share) in enumerate((("Others", "30"), ("Few", "10")), 1):
                page.select_option(f"[name=c0-journey] >> nth={row}", sample.journey.key)
                typed(page, "c0-row-name", name, row)
                typed(page, "c0-share", share, row)
                kept(page, f"#plan-who td:has-text('{name}')")
            typed(page, "c0-share", "60")
            kept(page, ".people .kind1 >> nth=29")
            self.assertEqual(
                [page.locator(f".people .kind{ink}").count() for ink in (0, 1, 2)], [60, 30, 10]
            )

            # what can't be is said, stays typed, and goes when it is mended
            # the curve by hand: by arrow keys, and by mouse; an escape leaves it as it was
            before = int(page.input_value("[name=c0-to] >> nth=0"))
            page.focus(".knob[data-stretch='0']")
            for _ in range(3):
                page.keyboard.press("ArrowUp")
            kept(page, f"h1:has-text('{before + 3} users at most')")
            page.wait_for_function("document.activeElement.dataset.stretch === '0'")
            box = page.locator(".knob[data-stretch='0']").bounding_box()
            page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
            page.mouse.down()
            page.mouse.move(box["x"] + 60, box["y"] + 60)
            self.assertLess(int(page.input_value("[name=c0-to] >> nth=0")), before + 3)
            page.keyboard.press("Escape")
            page.mouse.up()
            self.assertEqual(int(page.input_value("[name=c0-to] >> nth=0")), before + 3)

            typed(page, "c0-share", "", 0)
            page.select_option("[name=c0-stretch] >> nth=0", "stairs")
            page.wait_for_selector("[name=c0-steps] >> nth=0")  # the field of stairs is there now
            typed(page, "c0-steps", "1")
            page.wait_for_selector("#plan-says .notification:has-text('is not between')")
            page.reload()
            self.assertEqual(page.input_value("[name=c0-steps] >> nth=0"), "1")
            typed(page, "c0-steps", "4")
            page.wait_for_selector("#plan-says .notification", state="detached")
            typed(page, "c0-share", "60")

            # another crowd, of arrivals along a drawn curve
            page.click("text=Another crowd")
            page.wait_for_selector("[name=c1-name]")
            typed(page, "c1-name", "Alerts")
            page.select_option("[name=c1-workload]", "arrivals")
            page.wait_for_selector("[name=c1-ceiling]")
            self.assertFalse(page.is_visible("[name=c1-leaving]"))
            typed(page, "c1-ceiling", "25")
            page.select_option("[name=c1-stretch] >> nth=0", "drawn")
            page.wait_for_selector("#plan-says .notification:has-text('points')")
            typed(page, "c1-points", "0 2, 30 8")
            page.wait_for_selector("#plan-says .notification", state="detached")
            kept(page, "#plan-who p:has-text('above 25 at once they are turned away')")
            page.reload()
            return [
                str(text) for text in page.locator("#plan-says .notification").all_inner_texts()
            ]

        self.assertEqual(self.do(work), [])
        core = queries.content(queries.plan(sample.member, sample.plan.pk))
        first, second = core.crowds
        self.assertEqual(
            [(row.name, row.share) for row in first.rows], [("", 60), ("Others", 30), ("Few", 10)]
        )
        self.assertEqual((first.profile[0].stretch, first.profile[0].steps), ("stairs", 4))
        self.assertEqual((second.name, second.load), ("Alerts", Arrivals(ceiling=25)))
        self.assertEqual(
            second.profile[0], Stretch(stretch="drawn", seconds=30, points=((0, 2), (30, 8)))
        )

    def test_from_a_sheet_to_a_run_whose_load_is_raised(self) -> None:
        """A sheet with two mistakes, stairs, what follows, preflight, trial, a run whose load is
        raised; then a run of an address alone.
        """
        sample = self.sample
        for name in ("sky-browser", "night-assistant"):
            create_journey(
                sample.member, parse_journey((EXAMPLES / f"journeys/{name}.yaml").read_text()), None
            )
        set_deal(sample.member, sample.data, Deal(when="round", then="stop"))
        self.start_fleet()
        self.sign_in("ada")
        plan = self.base + sample.address(f"load/{sample.plan.pk}")

        def sheet(page: Any) -> None:
            page.goto(plan)
            page.click("summary:has-text('Rows from a sheet')")
            page.fill("textarea[name=sheet]", SHEET)
            page.click("text=Read the sheet")
            page.wait_for_selector("h1:has-text('Which column is what?')")
            page.click("button:has-text('Take the rows')")
            page.wait_for_selector("text=there is no journey “Sky browsing” here")
            page.wait_for_selector("text=“thirty” is no share")
            better = SHEET.replace("Sky browsing", "Sky browser").replace("thirty", "40")
            page.fill("textarea[name=sheet]", better)
            page.click("button:has-text('Take the rows')")
            page.wait_for_selector("#plan-who p:has-text('the shares come to 110, not 100')")
            page.click("button:has-text('Make them 100')")
            page.wait_for_selector("#plan-who td:has-text('54.5 %')")

        def shaped(page: Any) -> None:
            page.select_option("[name=c0-stretch] >> nth=0", "stairs")
            page.fill("[name=c0-to] >> nth=0", "6")
            page.fill("[name=c0-steps] >> nth=0", "3")
            page.fill("[name=c0-seconds] >> nth=0", "30")
            page.fill("[name=think_factor]", "0.2")
            page.keyboard.press("Tab")
            page.wait_for_selector("#plan-follows th:has-text('visits')")
            page.wait_for_selector("h1:has-text('6 users at most')")
            # preflight catches too few rows
            page.click("button:has-text('Preflight')")
            page.wait_for_selector("td:has-text('observers: With this profile rows last')")

        def trial(page: Any) -> None:
            page.click("button:has-text('Trial')")
            page.wait_for_selector("#sentence:has-text('Trial:')", timeout=120_000)

        self.do(sheet)
        self.do(shaped)
        sample.data.refresh_from_db()
        sample.data.rows = 2
        sample.data.save(update_fields=["rows"])

        def too_few(page: Any) -> None:
            page.click("button:has-text('Look again')")
            page.wait_for_selector("tr:has-text('Rows of data') b:has-text('asks')")

        self.do(too_few)
        sample.data.rows = 2000
        sample.data.save(update_fields=["rows"])
        self.do(trial)
        self.assertGreater(OUTCOME.of(Run.objects.get(is_trial=True).outcome).rounds_passed, 0)

        def run(page: Any) -> None:
            page.goto(plan)
            page.click("button:has-text('Start run')")
            page.wait_for_selector("h1:has-text('before it starts')")
            page.click("button:has-text('Start all the same')")
            page.wait_for_selector("#tape[data-ready]")
            page.wait_for_selector("button:has-text('Raise')")
            page.fill("[name=percent]", "50")
            page.click("button:has-text('Raise')")
            page.wait_for_selector("text=the load was raised to 150 %")
            page.click("button:has-text('Stop gently')")

        self.do(run)
        until(lambda: Run.objects.get(number=2).is_over)

        def address(page: Any) -> None:
            page.goto(self.base + sample.address("load/address"))
            page.fill("[name=address]", f"http://127.0.0.1:{self.target_port}/ping")
            page.fill("[name=many]", "2")
            page.fill("[name=seconds]", "3")
            page.keyboard.press("Enter")
            page.wait_for_selector("#tape[data-ready]")

        self.do(address)
        until(lambda: Run.objects.get(number=3).is_over)
        self.assertEqual(OUTCOME.of(Run.objects.get(number=3).outcome).rounds_failed, 0)
        self.assertEqual([line for line in self.trouble if "422" not in line], [])
