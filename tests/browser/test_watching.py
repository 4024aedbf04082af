"""Watching a run while something goes wrong on the server, and reading afterwards what it was."""

import urllib.request
from typing import Any

from django.urls import reverse
from msgspec.structs import replace

from dynamikos.core.objectives import Objective
from dynamikos.core.profiles import Stretch
from dynamikos.web.plans import queries
from dynamikos.web.plans.actions import change
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs.actions import stop
from dynamikos.web.runs.models import Remark, Run
from tests.browser.support import BrowserCase, flaws
from tests.processes.support import until

SLOW = Objective(objective="slow", measure="p95", limit=30_000)


class Watching(BrowserCase):
    def weather(self, path: str) -> None:
        asked = urllib.request.Request(
            f"http://127.0.0.1:{self.target_port}/weather/{path}", method="POST"
        )
        urllib.request.urlopen(asked, timeout=5).close()

    def test_a_gust_is_seen_remarked_and_explained(self) -> None:
        sample = self.sample
        self.start_fleet()
        self.spawn("prober", "dynamikos.cli", "prober")
        core = queries.content(sample.plan)
        crowd = core.everybody()[0]
        crowd = replace(crowd, profile=(Stretch(stretch="burst", to=20, seconds=90),))
        with_rows = replace(core, think_factor=0.3, measured=None, objectives=(SLOW,)).with_crowds(
            (crowd,)
        )
        change(
            sample.member,
            sample.plan,
            token(sample.plan.head),
            **{
                name: getattr(with_rows, name)
                for name in (
                    "journey",
                    "profile",
                    "crowds",
                    "think_factor",
                    "measured",
                    "objectives",
                )
            },
        )
        self.sign_in("ada")

        def typed(page: Any, name: str, value: str, nth: int) -> None:
            page.fill(f"[name={name}] >> nth={nth}", value)
            page.keyboard.press("Tab")

        def kept(end: str) -> None:
            """What was typed is saved by itself."""

            def there() -> bool:
                probes = queries.content(LoadPlan.objects.get(pk=sample.plan.pk)).probes
                return bool(
                    probes
                ) and f"{probes[0].name} {probes[0].openmetrics} {probes[0].measures}".endswith(end)

            until(there, 60)

        def tried(page: Any, shows: str) -> None:
            page.reload()
            page.click("button:has-text('Try')")
            for _ in range(6):  # the prober may be on its way
                page.wait_for_selector(f"{shows}, h1:has-text('nobody read it in time')")
                if page.locator(shows).count():
                    break
                page.click("button:has-text('Try again')")
            page.click(".actions a:has-text('Plan')")

        def wrong(page: Any) -> None:
            page.goto(self.base + sample.address(f"load/{sample.plan.pk}"))
            typed(page, "probe-address", "{{ env.observatory }}/nothing-here", 0)
            page.locator("tr:has([name=probe-name]) summary").first.click()
            typed(page, "probe-name", "Observatory", 0)
            page.wait_for_selector("[name=probe-address] >> nth=1")

        def mended(page: Any) -> None:
            typed(page, "probe-address", "{{ env.observatory }}/metrics", 0)
            page.locator("tr:has([name=probe-name]) summary").first.click()
            typed(page, "probe-measures", "*disk*, *pool*, *queue*, *heap*", 0)

        def eyes(page: Any) -> None:
            page.goto(self.base + sample.address(f"load/{sample.plan.pk}"))
            page.select_option("[name=probe-kind] >> nth=1", "browser")
            typed(page, "probe-address", "{{ env.observatory }}/", 1)
            page.wait_for_selector("[name=probe-address] >> nth=2")
            typed(page, "probe-every", "15", 1)

        def started(page: Any) -> None:
            page.click("button:has-text('Start run')")
            page.click("button:has-text('Start all the same')")
            page.wait_for_selector("#tape[data-ready]")

        # one that does not answer as it should is said, and mended
        self.do(wrong)
        kept("Observatory {{ env.observatory }}/nothing-here ()")
        self.do(lambda page: tried(page, "h1:has-text('it answered with status 404')"))
        self.do(mended)
        kept("'*heap*')")
        self.do(lambda page: tried(page, "td:has-text('observatory_disk_flushing')"))
        self.do(eyes)
        until(
            lambda: (
                [
                    each.every_s
                    for each in queries.content(LoadPlan.objects.get(pk=sample.plan.pk)).probes
                ][1:]
                == [15.0]
            ),
            60,
        )
        self.do(started)
        run = until(lambda: Run.objects.filter(watermark__gte=2).first(), 60)
        self.weather(f"gust?at={18 - (run.watermark + 1)}&for=5")

        def watch(page: Any) -> None:
            # lanes of the servers come while it runs, a remark goes on the tape at once
            page.wait_for_selector("[data-measure] .server:has-text('disk')")
            page.fill("#remark-text", "the night job begins")
            page.click("button:has-text('Write it on the tape')")
            page.wait_for_selector("#remarks li:has-text('the night job begins')")
            # down to one user, whose log grows
            run_page = page.url
            page.keyboard.press("Escape")
            page.click("a[data-command='Who is there']")
            page.locator("#users tbody a").first.focus()
            page.keyboard.press("Enter")
            page.wait_for_selector("#values li:has-text('user.number')")
            page.wait_for_selector("#log td:has-text('followed') >> nth=1")
            page.locator("#log tr:has-text('followed') a[data-opens]").first.click()
            page.wait_for_selector("#log tr.closer h2")
            page.click("#log tr.closer button:has-text('Close')")
            page.wait_for_selector("#log tr.closer", state="detached")
            page.goto(run_page)
            page.wait_for_selector("#tape[data-ready]")

        self.do(watch)
        # where the processors are others' the first look of a browser takes long
        pictured = run.shots.exclude(jpeg=b"")
        until(lambda: pictured.exists() and Run.objects.get(pk=run.pk).watermark >= 42, 120)
        stop(sample.member, run, now=False)
        until(lambda: Run.objects.filter(pk=run.pk, findings__isnull=False).exists(), 120)

        def read(page: Any) -> tuple[str, str]:
            page.wait_for_selector("#findings li:has-text('times as long as usual')")
            page.wait_for_selector("#tape[data-ready]")
            # what a browser saw of a page, as a picture: the whole run has one, a window may have
            # none
            page.wait_for_selector(".film img", state="attached")
            self.assertTrue(
                page.evaluate("""async () => { const img = document.querySelector('.film img');
              img.loading = 'eager'; await img.decode(); return img.naturalWidth > 600; }""")
            )
            found = page.locator("#findings li", has_text="times as long as usual")
            sentence = found.locator("b").inner_text()
            found.locator("button.button").click()
            page.wait_for_selector("#tape[data-redrawn]")
            name = sentence.split("“")[1].split("”")[0]
            page.locator("#rows tr.lead", has_text=name).locator("button.look").first.focus()
            page.keyboard.press("Enter")
            page.wait_for_selector("tr.closer .heat .shade >> nth=0", state="attached")
            first = page.locator("tr.closer table:has(svg.over) td").first.inner_text()
            named = page.locator("tr.closer [data-shows-lane]").first
            lane = named.get_attribute("data-shows-lane")
            named.click()
            page.wait_for_selector(f"[data-measure='{lane}']")
            page.fill("tr.closer [name=z]", "99")
            page.keyboard.press("Enter")
            page.wait_for_selector("tr.closer svg.over", state="detached")  # none has such a score
            self.assertEqual(
                page.evaluate("document.activeElement.name"), "z"
            )  # whoever types types on
            page.fill("tr.closer [name=apdex]", "700")
            page.keyboard.press("Enter")
            page.wait_for_selector("tr.closer [name=apdex][value='700']")
            self.assertEqual(page.evaluate("document.activeElement.name"), "apdex")
            page.click("tr.closer button:has-text('Close')")
            page.wait_for_selector("tr.closer", state="detached")
            # the window by dragging and by keys
            box = page.locator("[data-lane=users] .u-over").bounding_box()
            page.mouse.move(box["x"] + 0.2 * box["width"], box["y"] + 20)
            page.mouse.down()
            page.mouse.move(box["x"] + 0.6 * box["width"], box["y"] + 20, steps=4)
            page.mouse.up()
            page.wait_for_selector("h2:has-text('In the window')")
            dragged = page.locator("#tables h2").first.inner_text()
            page.focus("#tape")
            page.keyboard.press("Shift+ArrowRight")
            page.wait_for_function(
                "was => document.querySelector('#tables h2').innerText !== was", arg=dragged
            )
            # a lane is taken away and comes back
            lanes = page.locator("[data-measure]").count()
            page.locator("[data-measure] .hide").first.click()
            self.assertEqual(page.locator("[data-measure]").count(), lanes - 1)
            page.select_option("#more-lanes", index=1)
            page.wait_for_selector(f"[data-measure] >> nth={lanes - 2}", state="attached")
            # a kept exchange opens where the eye is; what was judged is judged anew beside it
            # the tables come anew while it is pressed: the press goes on
            page.wait_for_selector("#tables:not([aria-busy])")
            link = page.locator("a[data-opens^=k]").first
            link.scroll_into_view_if_needed()
            box = link.bounding_box()
            page.mouse.move(box["x"] + 8, box["y"] + 8)
            page.mouse.down()
            with page.expect_response(lambda answer: "/tables" in answer.url) as tables:
                page.evaluate(
                    "document.querySelector('#tape').dispatchEvent(new KeyboardEvent('keydown', "
                    "{ key: 'ArrowRight', shiftKey: true, bubbles: true }))"
                )
            tables.value.finished()
            page.wait_for_timeout(
                200
            )  # that the page would have drawn them in, if it did not wait for the press
            page.mouse.up()
            page.wait_for_selector("tr.closer .kept h2")
            page.click("tr.closer button:has-text('Close')")
            page.click("button:has-text('Judge anew')")
            page.wait_for_selector("h2:has-text('Judged anew')")
            return sentence, first

        sentence, first = self.do(read)
        user = reverse("run-user", args=[sample.project.pk, run.pk, 1])
        for name in ("run", "run-log", "run-sides", "run-inputs", "run-users"):
            for theme in ("paper", "night"):

                def look(page: Any, name: str = name, theme: str = theme) -> list[str]:
                    page.context.add_cookies(
                        [{"name": "dynamikos-theme", "value": theme, "url": self.base}]
                    )
                    page.goto(self.base + reverse(name, args=[sample.project.pk, run.pk]))
                    if name == "run":
                        page.wait_for_selector("#tape[data-ready]")
                        page.locator("button.look").nth(2).click()
                        page.wait_for_selector("tr.closer")
                    return flaws(page, only_colors=theme == "night")

                with self.subTest(name, theme=theme):
                    self.assertEqual(self.do(look), [])
        self.assertEqual(self.do(lambda page: [page.goto(self.base + user), flaws(page)][1]), [])
        self.assertIn("Look at an object", sentence)
        self.assertRegex(first, "disk")
        self.assertEqual(Remark.objects.filter(run=run, by__isnull=False).count(), 1)
        second = int(sentence.split("second ")[1].split(" ")[0])
        self.assertLessEqual(abs(second - 18), 3)
