"""What is typed is kept within a second, in every field of every page that keeps itself; a page
that is left sends what it has.
"""

import contextlib
from typing import Any

from msgspec.structs import replace
from playwright.sync_api import Error

from dynamikos.web.journeys.queries import content
from dynamikos.web.plans.queries import content as plan_of
from tests.browser.support import BrowserCase
from tests.processes.support import until

# every field somebody can type into, and how it is found again after a reload
FIELDS = """() => [...document.querySelectorAll('form[data-saves] :is(input, textarea), [form], form [name]')]
  .filter((el, at, all) => all.indexOf(el) === at && el.form && el.matches('input, textarea'))
  .filter((el) => !el.disabled && !el.readOnly && !el.form.matches('[role=search], [autocomplete=off]'))
  .filter((el) => !el.matches('[type=hidden], [type=file], [type=checkbox], [type=radio], [type=password]'))
  .filter((el) => {
    const all = []; // those that belong to another choice than the one made can't be typed into
    for (let up = el; up; up = up.parentElement) all.push(getComputedStyle(up));
    return all[0].visibility === 'visible' && all.every((style) => style.display !== 'none');
  })
  .map((el) => { for (let up = el.closest('details'); up; up = up.parentElement.closest('details')) up.open = true;
    el.dataset.field = [el.form.getAttribute('hx-post') || el.form.getAttribute('action') || '',
      (el.form.querySelector('[name=what]') || {}).value || '',
      el.name, [...el.form.elements].filter((e) => e.name === el.name).indexOf(el)].join(' ');
    return [el.dataset.field, el.type, el.value, el.name, el.form.matches('[data-saves]')]; })"""  # noqa: E501


def said(page: Any) -> list[str]:
    """The problems that the page shows."""
    return list(page.locator(".notification.is-danger").all_inner_texts())


class Fields(BrowserCase):
    def kept(self, tail: str, wanted: int) -> None:
        """Types into every field of a page; a second later the server has it; after a reload the
        page shows it.
        """

        def work(page: Any) -> list[str]:
            address = self.base + self.sample.address(tail)
            page.goto(address)
            lost, fields = [], [field for field in page.evaluate(FIELDS) if field[3] not in NAMED]
            self.assertGreaterEqual(len(fields), wanted, (tail, fields))

            def type_into(key: str, kind: str, name: str) -> str:
                field = page.locator(f'[data-field="{key}"]')
                field.focus()
                page.keyboard.press("Control+End")
                if name in TYPED:
                    field.fill("")
                page.keyboard.type("7" if kind == "number" else TYPED.get(name, "x7"))
                return str(field.input_value())

            def compare(key: str, kind: str, shown: str) -> None:
                now = ""
                # a starved machine may keep it while the page is made, which then loads itself once
                # more
                for _ in range(30):
                    with contextlib.suppress(Error):
                        page.evaluate(FIELDS)
                        now = page.locator(f'[data-field="{key}"]').input_value(timeout=1000)
                        if now.strip() == shown.strip() or (
                            kind == "number" and same_number(now, shown)
                        ):
                            return
                    page.wait_for_timeout(100)
                lost.append(f"{key}: typed {shown!r}, found {now!r}: {said(page)}")

            # what is typed into is what stands alone; the others are typed into together with what
            # they belong to
            alone = [field for field in fields if field[2] or not field[3].endswith(PAIRED)]
            # of rows of one kind, one
            alone = list({field[0].rpartition(" ")[0]: field for field in reversed(alone)}.values())
            waiting = [
                (key, kind, type_into(key, kind, name))
                for key, kind, _, name, saves in alone
                if not saves
            ]
            if waiting:  # for their buttons
                page.reload()
                page.evaluate(FIELDS)
                for each in waiting:
                    compare(*each)
                page.evaluate("sessionStorage.clear()")
            typed = []
            for key, kind, _, name, saves in sorted(alone, key=lambda field: field[3] in REFUSED):
                if saves:
                    page.evaluate(FIELDS)  # an answer may have made its part of the page anew
                    typed.append((key, kind, type_into(key, kind, name)))
                    if name in REFUSED:
                        page.wait_for_timeout(500)  # until it was sent
                        # said, and there after a reload all the same
                        page.wait_for_selector(".notification.is-danger")
                    # the page is still open: leaving it keeps nothing yet
                    elif not self.there(page, key, typed[-1][2]):
                        lost.append(f"{key}: not kept: {said(page)}")
            page.reload()
            page.evaluate(FIELDS)
            for each in typed:
                compare(*each)
            return lost

        self.assertEqual(self.pool.submit(work, self.page).result(600), [])

    def there(self, page: Any, key: str, shown: str) -> bool:
        """Whether the server has it within a second, asked apart from the page; a starved machine
        gets two more.
        """
        for _ in range(30):
            if any(
                now == shown.strip() or (now and same_number(now, shown))
                for now in page.evaluate(KEPT, key)
            ):
                return True
            page.wait_for_timeout(100)
        return False

    def test_load_plan_and_settings(self) -> None:
        self.sign_in("ada")
        self.kept(f"load/{self.sample.plan.pk}", 14)
        self.kept("settings", 4)
        self.assertEqual([line for line in self.trouble if "422" not in line], [])

    def test_journey(self) -> None:
        self.sign_in("ada")
        tail = f"journeys/{self.sample.journey.pk}"
        core = content(self.sample.journey)
        step = next(each for each in core.rounds if each.requests)
        post = next(
            (s, r)
            for _, s in core.steps()
            for r in s.requests
            if r.body is not None and r.captures + r.checks
        )
        self.kept(tail, 4)
        self.kept(f"{tail}?at={step.step}", 4)
        self.kept(f"{tail}?at={post[0].step}/{post[1].request}", 8)
        self.assertEqual([line for line in self.trouble if "422" not in line], [])

    def test_a_button_clicked_while_something_is_unsaved_does_its_work_after_it(self) -> None:
        """The save makes the headline anew, and with it the very button that was clicked."""
        self.sign_in("bran")

        def work(page: Any) -> None:
            page.goto(self.base + self.sample.address(f"load/{self.sample.plan.pk}"))
            page.fill("[name=think_factor]", "0.7")
            page.click("text=Start run")  # at once
            page.wait_for_selector("h1:has-text('before it starts'), h1:has-text('in the way')")

        self.start_fleet()
        self.do(work)
        self.sample.plan.refresh_from_db()
        self.assertEqual(plan_of(self.sample.plan).think_factor, 0.7)

    def test_what_came_too_late_can_be_read_after_a_reload(self) -> None:
        self.sign_in("bran")
        step = content(self.sample.journey).rounds[0].step

        def work(page: Any) -> list[int]:
            page.goto(
                self.base + self.sample.address(f"journeys/{self.sample.journey.pk}?at={step}")
            )
            again = page.context.browser.new_context(storage_state=page.context.storage_state())
            other = again.new_page()  # the same account elsewhere
            other.goto(page.url)
            for tab, text in ((other, "First"), (page, "Came too late")):
                tab.focus("#panel textarea[name=note]")
                tab.keyboard.type(text)
                tab.wait_for_selector("#headline:has-text('revision 2'), [data-refused]")
            again.close()
            page.wait_for_selector("[data-refused]:has-text('Came too late')")
            page.reload()
            counts = [page.locator(".notification.is-danger:has-text('Came too late')").count()]
            page.click("text=I don't need it any more")
            page.reload()
            return [*counts, page.locator("text=Came too late").count()]

        self.assertEqual(self.do(work), [1, 0])
        self.sample.journey.refresh_from_db()
        self.assertIn("First", content(self.sample.journey).rounds[0].note)
        self.assertEqual([line for line in self.trouble if "409" not in line], [])

    def test_what_is_typed_beside_a_refused_field_is_not_lost_by_leaving(self) -> None:
        self.sign_in("ada")

        def work(page: Any) -> list[str]:
            page.goto(self.base + self.sample.address("settings"))
            page.evaluate(FIELDS)
            fields = [page.locator(f"[name={name}]").first for name in REFUSED]
            fields[0].fill("none yet")
            page.wait_for_selector(".notification.is-danger")
            # leaving before the answer to what is typed next
            page.route("**/way", lambda route: route.abort())
            fields[1].fill("none either")
            page.reload()
            seen = [field.is_visible() for field in fields]  # not in a part that is closed again
            return [field.input_value() for field in fields] if all(seen) else []

        self.assertEqual(self.do(work), ["none yet", "none either"])

    def test_leaving_at_once_keeps_what_was_typed(self) -> None:
        self.sign_in("bran")
        core = content(self.sample.journey)
        step = core.rounds[0].step
        address = self.base + self.sample.address(f"journeys/{self.sample.journey.pk}?at={step}")

        def type_and_reload(page: Any) -> str:
            page.goto(address)
            page.focus("#panel textarea[name=note]")
            page.keyboard.press("Control+A")
            page.keyboard.type("Ask about the roof")
            page.reload()
            for _ in range(1000):
                if page.locator("#panel textarea[name=note]").input_value() == "Ask about the roof":
                    break
                page.wait_for_timeout(50)
            self.assertEqual(
                page.locator("#panel textarea[name=note]").input_value(), "Ask about the roof"
            )
            page.wait_for_timeout(
                1000
            )  # a page that came too early has loaded itself once more by now
            page.focus("#panel textarea[name=note]")
            page.keyboard.press("Control+End")
            page.keyboard.type(" and the moon")
            page.goto("about:blank")  # as if it were closed
            page.wait_for_timeout(300)
            return ""

        self.do(type_and_reload)

        def there() -> bool:
            self.sample.journey.refresh_from_db()
            found = content(self.sample.journey).find_step(step)
            return found is not None and found.note == "Ask about the roof and the moon"

        until(there)  # the server may take its time with what a page sent while it was left
        found = content(self.sample.journey).find_step(step)
        assert found is not None
        self.assertEqual(replace(found, note=""), replace(core.rounds[0], note=""))


class Pasting(BrowserCase):
    def test_raw_form_data_is_shown_and_then_becomes_rows(self) -> None:
        self.sign_in("bran")
        core = content(self.sample.journey)
        step, request = next(
            (s, r)
            for _, s in core.steps()
            for r in s.requests
            if r.body is not None and r.body.form
        )
        paste = """text => { const d = new DataTransfer(); d.setData('text', text);
          const more = { clipboardData: d, bubbles: true, cancelable: true };
          document.activeElement.dispatchEvent(new ClipboardEvent('paste', more)); }"""

        def work(page: Any) -> None:
            page.goto(
                self.base
                + self.sample.address(
                    f"journeys/{self.sample.journey.pk}?at={step.step}/{request.request}"
                )
            )
            before = page.locator("[name=form-name]").count()
            page.locator("[name=form-name]").first.focus()
            page.evaluate(paste, "a=1&b=x+y%26z")
            self.assertIn("x y&z", page.inner_text(".pasted"))
            self.assertEqual(
                page.locator("[name=form-name]").count(), before
            )  # nothing is changed yet
            page.click(".pasted button:has-text('Replace')")
            page.wait_for_selector("#headline:has-text('revision 2')")
            page.locator("[name=form-name]").first.focus()
            page.evaluate(paste, "c: 3\nd: four five")
            page.click(".pasted button:has-text('Add them')")

        self.do(work)

        def kept() -> bool:
            self.sample.journey.refresh_from_db()
            every = [r for _, s in content(self.sample.journey).steps() for r in s.requests]
            body = next(each.body for each in every if each.request == request.request)
            return body is not None and body.form == (
                ("a", "1"),
                ("b", "x y&z"),
                ("c", "3"),
                ("d", "four five"),
            )

        until(kept)
        self.assertEqual(self.trouble, [])


def same_number(one: str, other: str) -> bool:
    try:
        return float(one) == float(other)
    except ValueError:
        return False


# the values that a newly made page has in the fields of one name of one form
KEPT = """async (key) => { const name = key.split(' ').slice(-2)[0];
  const page = new DOMParser().parseFromString(await (await fetch(location.href)).text(), 'text/html');
  return [...page.querySelectorAll(`[name="${name}"]`)]
    .map((el) => (el.tagName === 'TEXTAREA' ? el.textContent : el.getAttribute('value') || '').trim()); }"""  # noqa: E501
REFUSED = ("certificate", "authorities")  # what is typed here is none
NAMED = ("filter",)
PAIRED = ("-value", "-name", "-more", "-pick", "-otherwise", "-what", "to", "seconds", "limit")
TYPED = {
    "probe-headers": "X-Seven: x7",
    "fuse_percent": "7",
    "method": "PUT",
    "address": "/sky",
    "target": "https://a.example",
    "proxy": "http://proxy.example:3128",
    "check-what": "201",
    "capture-name": "hold2",
    "capture-pick": "2",
}
