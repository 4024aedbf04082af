"""Data, items and checks by hand in the browser."""

from typing import Any

from dynamikos.core.journeys.kinds import Repeating
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import LARGE, all_rows
from dynamikos.web.datasets.uploads import import_csv
from dynamikos.web.functions.models import Module
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from tests.browser.support import BrowserCase


class ByHand(BrowserCase):
    def go(self, tail: str) -> None:
        self.do(lambda page: page.goto(self.base + self.sample.address(tail)))

    def test_import_edit_a_cell_and_leave_at_once_and_the_drawing_follows_the_deal(self) -> None:
        self.sign_in("bran")
        self.go("data")
        text = 'term;pages\nring;2\n"moon; full";3\nnebula;4\n'

        def take_in(page: Any) -> None:
            page.set_input_files(
                "input[type=file]",
                {"name": "terms.csv", "mimeType": "text/csv", "buffer": text.encode()},
            )
            page.click("text=Read file")
            page.wait_for_selector("td:has-text('moon; full')")
            # a wrong turn: it is read again at once, and says what is wrong
            page.select_option("select[name=delimiter]", ",")
            page.wait_for_selector(".notification.is-danger:has-text('column name')")
            page.select_option("select[name=delimiter]", ";")
            page.wait_for_selector("td:has-text('moon; full')")
            page.click("text=Take in as terms")
            page.wait_for_selector("h1:has-text('terms: 3 rows')")

        self.do(take_in)

        def edit_and_leave(page: Any) -> None:
            page.click("[data-row='2'] [data-column='pages']")
            page.keyboard.press("Control+A")
            page.keyboard.type("17")
            page.click(".spine a[data-name=Runs]")  # at once
            page.wait_for_selector("h1:has-text('run')")

        self.do(edit_and_leave)
        terms = DataSet.objects.get(key="terms")
        self.assertEqual(list(all_rows(terms))[1], ["moon; full", "17"])
        self.go(f"data/{terms.pk}")

        def deal(page: Any) -> list[str]:
            seen = []
            for name, value in (
                ("when", "user"),
                ("whose", "slice"),
                ("then", "leave"),
                ("when", "round"),
            ):
                with page.expect_response(lambda answer: "/deal" in answer.url):
                    page.select_option(f"select[name={name}]", value)
                page.wait_for_timeout(600)
                seen.append(
                    page.evaluate(
                        "[...document.querySelectorAll('.dealt g title')].slice(0, 3).map((t) =>"
                        " t.textContent).join('; ')"
                    )
                )
            return seen

        seen = self.do(deal)
        self.assertEqual(
            seen[0], "user 1, round 1: row 1; user 1, round 2: row 1; user 1, round 3: row 1"
        )
        self.assertIn("no row left", seen[3])  # ten users, three rows: slices of none or one
        self.do(lambda page: (page.reload(), page.wait_for_selector("select[name=whose]")))
        self.assertEqual(self.do(lambda page: page.input_value("select[name=whose]")), "slice")
        self.assertEqual([each for each in self.trouble if "422" not in each], [])

    def test_a_column_for_a_recorded_value_and_a_repeat_until_on_the_ladder(self) -> None:
        self.sign_in("bran")
        self.go("data")

        def column(page: Any) -> None:
            page.fill("form:has(textarea) input[name=name]", "terms")
            page.fill("textarea[name=text]", "term\nmoon\nring\n")
            page.click("text=Read rows")
            page.click("text=Take in as terms")
            page.wait_for_selector("h1:has-text('terms: 2 rows')")
            page.goto(self.base + self.sample.address(f"journeys/{self.sample.journey.pk}"))
            page.click("text=Columns for recorded values")
            page.wait_for_selector("h2:has-text('ring')")
            page.click("form:has(h2:has-text('ring')) button")
            page.wait_for_selector("h2:has-text('ring')", state="detached")
            page.goto(
                self.base
                + self.sample.address(f"journeys/{self.sample.journey.pk}?at=sign-in/post-sign-in")
            )  # any value, from its field
            page.focus("#panel input[name=form-value][value='212']")
            page.click(".by-column a:has-text('Put a column there')")
            page.select_option("select[name=name]", "terms.term")
            page.click("button:has-text('Put the column there')")
            page.wait_for_selector("#panel input[name=form-value][value='{{ terms.term }}']")

        self.do(column)
        core = content(Journey.objects.get(pk=self.sample.journey.pk))
        self.assertIn(("q", "{{ terms.term }}"), core.find_step("browse-sky").requests[1].query)  # type: ignore[union-attr]
        self.assertIn(
            ("click_x", "{{ terms.term }}"), core.find_step("sign-in").requests[1].body.form
        )  # type: ignore[union-attr]

        def repeat(page: Any) -> str:
            page.goto(
                self.base
                + self.sample.address(f"journeys/{self.sample.journey.pk}?at=look-at-object")
            )
            page.select_option("select[aria-label='What to put it inside of']", "repeat")
            page.click("button:has-text('Put inside')")
            page.wait_for_selector("#panel select[name=how]")
            page.select_option("#panel select[name=how]", "until")
            page.wait_for_selector("#headline:has-text('revision 5')")
            page.fill("#panel input[name=text]", "{{ round.number > }}")
            page.wait_for_selector('.comes-to.bad:has-text("can\'t be read")')
            page.fill("#panel input[name=text]", "{{ round.number >= 1 }}")
            page.wait_for_selector(".comes-to:has-text('= holds')")
            page.fill("#panel input[name=every_s]", "0.5")
            page.keyboard.press("Tab")
            page.wait_for_selector(
                "#ladder .says:has-text('until {{ round.number >= 1 }}, every 0.5 s')"
            )
            return str(page.inner_text("h1"))

        self.assertNotIn("problem", self.do(repeat))
        step = content(Journey.objects.get(pk=self.sample.journey.pk)).find_step("repeat")
        assert isinstance(step, Repeating)
        self.assertEqual(
            (step.repeat.until, step.repeat.every_s, [each.step for each in step.steps]),
            ("{{ round.number >= 1 }}", 0.5, ["look-at-object"]),
        )
        self.assertEqual(self.trouble, [])

    def test_a_suggested_check_is_taken_and_expected_stands_beside_actual(self) -> None:
        self.start_fleet()
        self.sign_in("bran")
        self.go(f"journeys/{self.sample.journey.pk}")

        def rehearse(page: Any) -> str:
            page.keyboard.press("r")
            page.wait_for_selector("h1:has-text('replayed')", timeout=60_000)
            return str(page.inner_text("h1"))

        self.assertIn("Every check passed", self.do(rehearse))

        def take(page: Any) -> str:
            page.click("#ladder a[data-at='find-slot/get-account']")
            page.wait_for_selector("aside h2:has-text('get-account')")
            said = page.inner_text("aside button:has-text('Check that') >> nth=0")
            page.click("aside button:has-text('Check that') >> nth=0")
            page.wait_for_selector(f'aside button:text-is("{said}")', state="detached")
            values = page.inner_text(
                "aside details:has(summary:has-text('Values before and after')) >> nth=0"
            )
            return str(values)

        before = len(
            content(Journey.objects.get(pk=self.sample.journey.pk))
            .find_step("find-slot")
            .requests[0]
            .checks
        )  # type: ignore[union-attr]
        self.do(take)
        checks = (
            content(Journey.objects.get(pk=self.sample.journey.pk))
            .find_step("find-slot")
            .requests[0]
            .checks
        )  # type: ignore[union-attr]
        self.assertEqual(len(checks), before + 1)
        self.go(f"journeys/{self.sample.journey.pk}?at=find-slot/get-slots")

        def expect_wrongly(page: Any) -> str:
            page.fill("input[name=check-more] >> nth=0", "{{ night }}9")
            page.keyboard.press("Tab")
            page.wait_for_selector("#headline:has-text('revision 3')")
            page.keyboard.press("Escape")
            page.click("#headline button:has-text('Rehearse')")
            page.wait_for_selector("h1:has-text('replayed')", timeout=60_000)
            page.wait_for_selector("aside .notification.is-danger:has-text('Expected')")
            return str(page.inner_html("aside .notification.is-danger"))

        said = self.do(expect_wrongly)
        self.assertRegex(said, r"Expected: <b>\$\.night = \d\d\.\d\d\.\d{4}9</b>")
        self.assertRegex(said, r"Actual: \d\d\.\d\d\.\d{4}<del>9</del>")
        self.assertEqual(self.trouble, [])

    def test_what_is_typed_is_kept_without_a_button_and_a_large_column_shows_its_way(self) -> None:
        self.sign_in("ada")
        self.go("settings")

        def values(page: Any) -> None:
            page.fill("input[aria-label='New name']", "1st")
            page.fill("input[aria-label='New value']", "x")
            page.keyboard.press("Tab")
            page.wait_for_selector(".notification.is-danger:has-text('Not kept yet')")
            page.fill("input[aria-label='New name']", "second")  # what was typed stands there still
            page.keyboard.press("Tab")
            page.wait_for_selector("[id^=values-says]:has-text('Kept.')")

        self.do(values)
        self.sample.environment.refresh_from_db()
        self.assertEqual(self.sample.environment.values["second"], "x")
        self.go("functions")

        def functions(page: Any) -> str:
            page.click("text=Put in the starter")
            page.wait_for_selector(".editor")
            page.click(".editor")
            page.keyboard.press("Control+Home")
            page.keyboard.insert_text("def twice(word)\n    return word * 2\n\n\n")
            page.wait_for_selector("#editor-says:has-text('line 1')")
            page.keyboard.press("Control+Home")
            page.keyboard.press("End")
            page.keyboard.type(":")
            page.wait_for_selector("h1:has-text('3 functions in 1 module')")
            page.select_option("[data-try] select", "starter.twice")
            return str(page.input_value("[data-arguments] input[name=arg-name]"))

        self.assertEqual(self.do(functions), "word")
        self.assertIn("def twice(word):", Module.objects.get().source)
        self.assertEqual([each for each in self.trouble if "422" not in each], [])
        rows = b"".join(b"%d\n" % at for at in range(LARGE + 1))
        large = import_csv(self.sample.member, b"n\n" + rows, "large.csv")
        self.go(f"data/{large.pk}")

        def column(page: Any) -> None:
            page.fill("form[x-data=dependent] input[name=column]", "1 wrong")
            page.click("text=Make column")
            page.wait_for_selector("#work .notification.is-danger:has-text('column name')")
            page.fill("form[x-data=dependent] input[name=column]", "mark")
            page.select_option("form[x-data=dependent] select[name=make]", "pattern")
            page.fill("form[x-data=dependent] input[name=pattern]", "A-{n}")
            page.click("text=Make column")
            page.wait_for_selector("th:has-text('mark')")

        self.do(column)
        self.assertEqual(
            list(all_rows(DataSet.objects.get(pk=large.pk)))[-1], [str(LARGE), f"A-{LARGE + 1}"]
        )
