"""Who comes, by hand on the plan's page: rows, another kind of load, a curve drawn, mistakes and their mending."""

from typing import Any

from dynamikos.core.profiles import Arrivals, Stretch
from dynamikos.web.plans import queries
from tests.browser.support import BrowserCase


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
            self.assertEqual([page.locator(f".people .kind{ink}").count() for ink in (0, 1, 2)], [60, 30, 10])

            # what can't be is said, stays typed, and goes when it is mended
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
            return [str(text) for text in page.locator("#plan-says .notification").all_inner_texts()]

        self.assertEqual(self.do(work), [])
        core = queries.content(queries.plan(sample.member, sample.plan.pk))
        first, second = core.crowds
        self.assertEqual([(row.name, row.share) for row in first.rows], [("", 60), ("Others", 30), ("Few", 10)])
        self.assertEqual((first.profile[0].stretch, first.profile[0].steps), ("stairs", 4))
        self.assertEqual((second.name, second.load), ("Alerts", Arrivals(ceiling=25)))
        self.assertEqual(second.profile[0], Stretch(stretch="drawn", seconds=30, points=((0, 2), (30, 8))))
