"""Casebooks: what is pinned is shown with the figures of its page, edited, closed, exported, and
read by a link.
"""

import datetime
import io
import zipfile
import zlib
from base64 import b64encode
from typing import get_args
from unittest import mock
from urllib.parse import urlencode

import msgspec
import pyarrow.parquet as pq
from django.test import Client
from django.urls import reverse
from django.utils import timezone
from msgspec import to_builtins
from msgspec.structs import replace

from dynamikos.core.analysis.capacity import Level, capacity
from dynamikos.core.analysis.evidence import Found
from dynamikos.core.figures import milliseconds
from dynamikos.core.frozen import every_series
from dynamikos.core.reports import SeriesSecond
from dynamikos.core.reports.by_value import ByValue, OfValue, packed
from dynamikos.core.reports.chunk_extras import Beside
from dynamikos.core.reports.chunk_extras import packed as besides_packed
from dynamikos.core.statistics import Histogram
from dynamikos.core.telling import casebook as core
from dynamikos.core.telling.sheets import as_csv
from dynamikos.web.accounts.models import Account
from dynamikos.web.casebook import actions, pins, queries, showing
from dynamikos.web.casebook.models import Casebook, ReadLink
from dynamikos.web.projects.models import Membership
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import comparing
from dynamikos.web.runs import queries as runs
from dynamikos.web.runs.models import Chunk, Kept, Minute, Run
from tests.web.test_comparing import SECONDS, Two

LOADS = (5, 10, 20, 40, 80, 160, 200)


class Books(Two):
    """Run 1 and 2 of the comparison's tests."""

    def at(self, name: str, *more: object) -> str:
        return reverse(name, args=[self.sample.project.pk, *more])

    def pin(self, what: str, **of: object):  # type: ignore[no-untyped-def]
        given = {"run": self.one.pk, **of}
        return self.client.post(
            self.at("pin"), {"what": what, "title": f"a {what}", "of": urlencode(given)}
        )

    def book(self) -> Casebook:
        return Casebook.objects.get()

    def page(self) -> str:
        return self.client.get(self.at("casebook", self.book().pk)).content.decode()

    def edit(self, **typed: object):  # type: ignore[no-untyped-def]
        found = self.book()
        return self.client.post(
            self.at("casebook-blocks", found.pk), {"parent": token(found.head), **typed}
        )

    def keys(self) -> list[str]:
        return [each.key for each in queries.content(self.book()).blocks]

    def row(self, begin: int, end: int):  # type: ignore[no-untyped-def]
        ledger = runs.window(self.one, runs.frozen(self.one), begin, end)
        rows = ledger.rows(end - begin)
        return next(each for each in rows if each.level == "step" and each.step == self.step)


class Pinned(Books):
    def test_each_kind_is_shown_with_the_figures_of_its_page(self) -> None:
        found = Found(
            rule="r", about="target", sentence="It stood still.", means="So.", try_="Look."
        )
        outcome = {
            "ended": "finished",
            "exit_code": 0,
            "from_s": 10.0,
            "to_s": 190.0,
            "judgements": [
                {
                    "objective": "o",
                    "word": "met",
                    "value": 123.0,
                    "limit": 400.0,
                    "sentence": "p95 ≤ 400",
                }
            ],
        }
        figures = to_builtins(comparing.figures(self.one))
        Run.objects.filter(pk=self.one.pk).update(
            findings=[to_builtins(found)], outcome=outcome, figures=figures
        )
        key = next(key for key in comparing.one_run(self.one).lines if key[2] == self.step)
        name = comparing.one_run(self.one).lines[key].name
        place = {"journey": key[1], "step": key[2], "request": ""}
        sides = urlencode({"a": self.one.pk, "b": self.two.pk})
        row = self.row(50, 100)
        for what, of, said in (
            ("lane", {"lane": "users", "from": 10, "to": 60}, "second 10 to 60"),
            ("lane", {"lane": "generators"}, "lateness"),
            ("steps", {"from": 50, "to": 100}, milliseconds(row.p95_ms or 0)),
            ("step", {**place, "from": 50, "to": 100}, milliseconds(row.p95_ms or 0)),
            ("times", {**place, "from": 50, "to": 100}, milliseconds(row.p95_ms or 0)),
            ("heat", {**place, "from": 50, "to": 100}, milliseconds(row.p95_ms or 0)),
            ("load", {**place, "from": 50, "to": 100}, "users</text>"),
            ("spent", {**place, "from": 50, "to": 100}, "part-receive"),
            ("steps", {"outcome": "failed"}, "times of what failed"),
            ("objective", {"objective": "o"}, "123 ms"),
            ("finding", {"sentence": found.sentence}, "about the target"),
            ("comparison", {"query": sides}, "Worse: "),
            ("difference", {"query": sides, **place, "measure": "mean"}, "worse"),
            (
                "difference",
                {"query": sides, **place, "measure": "mean"},
                milliseconds(self.row(10, 190).mean_ms or 0),
            ),
            ("tapes", {"query": sides}, "B, run 2"),
            (
                "spreads",
                {"query": sides, "key": f"{key[1]}/{key[2]}"},
                milliseconds(self.row(10, 190).p95_ms or 0),
            ),
            (
                "trend",
                {"query": urlencode({"run": self.one.pk, "measure": "mean"}), "name": name},
                "over runs",
            ),
        ):
            with self.subTest(what):
                answer = self.pin(what, **of)
                self.assertEqual(answer.status_code, 200, answer.content)
                shown = list(showing.shown(self.book()))[-1]
                self.assertEqual(shown.problem, "")
                self.assertIn(said, shown.html)
        self.assertEqual(len(self.keys()), 17)
        self.assertIn("Worse: ", showing.as_markdown(self.book()))

    def test_capacity_and_what_a_browser_saw_stand_in_the_file_itself(self) -> None:
        levels = [
            Level(n, min(n / 1.25, 90) * (1 + 0.01 * (n % 3)), max(0.25, n / 90 - 1)) for n in LOADS
        ]
        Run.objects.filter(pk=self.one.pk).update(
            capacity=to_builtins(capacity(levels, {"pool": 0.011}))
        )
        shot = self.one.shots.create(
            probe="b",
            page="/sky",
            second=30,
            figures={"largest paint": 812.0, "layout shift": 0.02},
            jpeg=b"\xff\xd8jpeg",
        )
        for what, of in (("capacity", {}), ("shot", {"shot": shot.pk})):
            self.assertEqual(self.pin(what, **of).status_code, 200)
        page = showing.as_html(self.book())
        self.assertIn(
            "First to run full: pool, at 90.9 rounds a second by the utilization law", page
        )
        self.assertEqual(page.count("<circle"), len(LOADS))
        self.assertIn(f"data:image/jpeg;base64,{b64encode(shot.jpeg).decode()}", page)
        self.assertIn("812 ms", page)
        told = showing.as_markdown(self.book())
        self.assertIn("| users | rounds/s | round time without think time, s |", told)
        self.assertNotIn("base64", told)

    def test_a_folder_has_what_is_pinned_of_a_run_that_goes_on_and_changes_as_figures(self) -> None:
        self.pin("steps", **{"from": 50, "to": 100})
        Run.objects.filter(pk=self.one.pk).update(
            state="running", outcome=None
        )  # nothing can be told of it yet
        found = zipfile.ZipFile(io.BytesIO(showing.as_folder(self.book())))
        self.assertEqual(found.namelist(), ["casebook.md", "01-steps.csv", "01-steps.parquet"])
        lines = list(
            as_csv(
                ("a", "b"), [("+12.3 %", "-57.7 points"), ("-1+cmd", "=1"), ("+1e+03 ms", "\t=x")]
            )
        )
        self.assertEqual(
            lines[1:], ["+12.3 %,-57.7 points\n", "'-1+cmd,'=1\n", "+1e+03 ms,'\t=x\n"]
        )

    def test_failures_by_data_value_are_those_of_all_generators(self) -> None:
        inputs = runs.frozen(self.one)
        series = next(each for each in every_series(inputs) if each.request)
        self.assertIn("nothing failed", self.pin("values").json()["problem"])
        told = ByValue(
            values=[
                OfValue(name="terms.term", value="cygnus", dealt=40, failed={series.no: 31}),
                OfValue(name="terms.term", value="=lyra", dealt=60, failed={series.no: 2}),
            ]
        )
        self.one.shards.update(by_value=packed(told))
        page = self.client.get(self.at("run-tables", self.one.pk))
        self.assertContains(page, "Failures by data value")
        self.assertEqual([(each.value, each.failed, each.of) for each in page.context["failing"]],
                         [("cygnus", 31, 33), ("=lyra", 2, 33)])  # fmt: skip
        self.assertEqual(self.pin("values").status_code, 200)
        self.assertIn(
            f"| {series.request} | terms.term | cygnus | 31 | 33 | 40 |",
            showing.as_markdown(self.book()),
        )
        found = zipfile.ZipFile(io.BytesIO(showing.as_folder(self.book())))
        self.assertIn("terms.term,'=lyra,2,33,60", found.read("01-values.csv").decode())

    def test_failures_by_kind_are_those_of_the_step(self) -> None:
        series = next(
            each
            for each in every_series(runs.frozen(self.one))
            if each.step == self.step and each.request
        )
        place = {
            "journey": series.journey,
            "step": series.step,
            "request": series.request,
            "from": 60,
            "to": 120,
        }
        self.assertIn("nothing of it failed", self.pin("failures", **place).json()["problem"])
        for chunk in Chunk.objects.filter(run=self.one, series=series.no, minute=1):
            seconds = msgspec.msgpack.decode(
                zlib.decompress(chunk.seconds), type=list[tuple[int, SeriesSecond]]
            )
            told = [
                (at, replace(part, failed={"status 500": 3} if at == 70 else {}))
                for at, part in seconds
            ]
            chunk.seconds = zlib.compress(msgspec.msgpack.encode(told))
            chunk.save()
        self.assertEqual(self.pin("failures", **place).status_code, 200)
        self.assertRegex(
            showing.as_markdown(self.book()),
            r"How .* failed[^|]*\| kind \| count \|\n.*\n\| status 500 \| 3 \|",
        )

    def test_a_closer_look_counts_what_the_table_counts_at_the_end_of_the_measured_part_too(
        self,
    ) -> None:
        inputs = runs.frozen(self.one)
        series = next(
            each for each in every_series(inputs) if each.step == self.step and each.level == "step"
        )
        late = SeriesSecond(
            no=series.no, n=1, sum_us=9_000_000, hist=Histogram.of([9_000_000]).to_bytes()
        )
        besides = [Beside(second=SECONDS, carried=[late])]
        told = {"besides": besides_packed(besides), "dealt": besides_packed([])}
        Minute.objects.create(run=self.one, minute=SECONDS // 60, **told)
        Run.objects.filter(pk=self.one.pk).update(chunked=SECONDS // 60)
        begin, end = map(int, inputs.measured)
        found = Run.objects.get(pk=self.one.pk)
        row = next(
            each for each in runs.window(found, inputs, begin, end).rows(1) if each.no == series.no
        )
        told = runs.of_one(found, inputs, series, begin, end)
        self.assertEqual((told.passed.n, told.timed.n), (row.count, row.timed))
        self.assertEqual(told.timed.max_us(), 1000 * (row.max_ms or 0))
        self.assertEqual(row.timed, row.count + 1)
        self.assertEqual(runs.of_one(found, inputs, series, begin, end - 1).timed.n, row.count)

    def test_every_kind_of_pin_is_shown_by_something(self) -> None:
        self.assertEqual(set(get_args(core.What)), set(pins.SHOWN))

    def test_what_is_not_there_can_not_be_pinned_and_says_why(self) -> None:
        for what, of, said in (
            ("lane", {"run": "x"}, "the run was deleted"),
            ("lane", {"lane": "none"}, "no such lane"),
            ("step", {"journey": "j"}, "no step or request"),
            ("kept", {"number": "9" * 30}, "does not keep"),
            ("finding", {"sentence": "?"}, "not noticed"),
            ("comparison", {"query": ""}, "deleted"),
            ("objective", {"objective": "?"}, "no such objective"),
            ("odd", {}, "Nothing of this kind"),
            ("lane", {"lane": "users", "from": "500", "to": "600"}, "nothing from second 500"),
        ):
            with self.subTest(what=what, of=of):
                answer = self.pin(what, **of)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(said, answer.json()["problem"])
        self.assertFalse(Casebook.objects.exists())

    def test_of_a_deleted_run_it_says_so_and_the_rest_stands(self) -> None:
        self.pin("lane", lane="users")
        self.edit(do="add", after="lane")
        Run.objects.filter(pk=self.one.pk).update(state="ended")
        self.client.post(f"{self.at('runs-away')}?run={self.one.pk}", {"do": "delete", "sure": "1"})
        self.assertIn("the run was deleted", self.page())
        self.assertIn("be shown: the run was deleted", showing.as_html(self.book()))
        self.assertEqual(len(self.keys()), 2)

    def test_a_pin_goes_into_the_open_one_that_was_changed_last(self) -> None:
        self.pin("lane", lane="users")
        first = self.book()
        other = actions.create(self.sample.member, core.Casebook(title="Another"))
        self.assertEqual(self.pin("lane", lane="rate").json()["name"], "Another")
        actions.close(self.sample.member, other)
        self.assertEqual(self.pin("lane", lane="rate").json()["name"], first.name)


class Edited(Books):
    def setUp(self) -> None:
        super().setUp()
        self.pin("lane", lane="users")
        self.pin("lane", lane="rate")

    def test_moved_taken_out_and_undone(self) -> None:
        self.edit(do="move", key="lane-2", to="0")
        self.assertEqual(self.keys(), ["lane-2", "lane"])
        self.edit(do="remove", key="lane")
        self.assertEqual(self.keys(), ["lane-2"])
        self.client.post(self.at("casebook-undo", self.book().pk))
        self.assertEqual(self.keys(), ["lane-2", "lane"])
        self.assertEqual(self.edit(do="move", key="gone", to="0").status_code, 422)
        self.assertEqual(self.edit(do="dance", key="lane").status_code, 422)

    def test_a_paragraph_is_put_between_and_written_and_two_tabs_are_told(self) -> None:
        answer = self.edit(do="add", after="lane").json()
        self.assertIn('data-block="text"', answer["html"])
        self.assertEqual(self.keys(), ["lane", "text", "lane-2"])
        old, found = token(self.book().head), self.book()
        typed = {"parent": old, "key": "text", "text": "It <b>grew</b>."}
        self.assertEqual(
            self.client.post(self.at("casebook-text", found.pk), typed).status_code, 200
        )
        self.assertIn("It &lt;b&gt;grew&lt;/b&gt;.", showing.as_html(self.book()))
        beside = {"parent": old, "key": "lane", "text": "a note"}
        self.assertEqual(
            self.client.post(self.at("casebook-text", found.pk), beside).status_code, 200
        )
        self.client.force_login(self.sample.accounts["ada"])
        late = self.client.post(self.at("casebook-text", found.pk), {**typed, "text": "mine"})
        self.assertContains(late, "mine", status_code=409)
        title = {"parent": token(self.book().head), "text": " "}
        self.assertContains(
            self.client.post(self.at("casebook-text", found.pk), title), "a title", status_code=422
        )

    def test_a_closed_one_stays_as_it_was_and_opens_again(self) -> None:
        self.client.post(self.at("casebook-close", self.book().pk))
        before = showing.as_html(self.book())
        self.assertIn("second 10 to 190", before)
        self.assertEqual(self.edit(do="remove", key="lane").status_code, 422)
        self.one.delete()
        self.assertEqual(showing.as_html(self.book()), before)
        self.assertIn("<iframe", self.page())
        shown = self.client.get(self.at("casebook-page", self.book().pk))
        self.assertContains(shown, "second 10 to 190")
        self.assertIn("default-src 'none'", shown["Content-Security-Policy"])
        self.client.post(self.at("casebook-open", self.book().pk))
        self.assertIn("the run was deleted", self.page())

    def test_deleted_only_by_its_name(self) -> None:
        address = self.at("casebook-delete", self.book().pk)
        self.assertContains(
            self.client.post(address, {"sure": "x"}), "write its name", status_code=422
        )
        self.client.post(address, {"sure": self.book().name})
        self.assertFalse(Casebook.objects.exists())

    def test_exports(self) -> None:
        for form, kind in (("html", "text/html"), ("md", "text/markdown")):
            answer = self.client.get(self.at("casebook-export", self.book().pk, form))
            self.assertIn(kind, answer["Content-Type"])
            self.assertContains(answer, "Users")
        self.assertEqual(
            self.client.get(self.at("casebook-export", self.book().pk, "exe")).status_code, 404
        )

    def test_its_figures_as_a_folder_are_those_of_the_page_and_stay_when_it_is_closed(self) -> None:
        outcome = {"ended": "finished", "exit_code": 0, "from_s": 10.0, "to_s": 190.0}
        Run.objects.filter(pk=self.one.pk).update(outcome=outcome)
        self.pin("steps", **{"from": 50, "to": 100})

        def folder() -> zipfile.ZipFile:
            answer = self.client.get(self.at("casebook-export", self.book().pk, "zip"))
            self.assertEqual(answer["Content-Type"], "application/zip")
            return zipfile.ZipFile(io.BytesIO(answer.content))

        found = folder()
        pinned = next(
            name for name in found.namelist() if "steps" in name and name.endswith(".csv")
        )
        row = self.row(50, 100)
        self.assertIn(milliseconds(row.p95_ms or 0), found.read(pinned).decode())
        self.assertIn("## Steps", found.read("casebook.md").decode())
        lanes = pq.read_table(io.BytesIO(found.read("run-1/lanes.parquet"))).to_pylist()
        users = {each["second"]: each["value"] for each in lanes if each["lane"] == "Users"}
        self.assertEqual(users, dict.fromkeys(range(SECONDS), 20.0))
        sent = [each["value"] for each in lanes if each["lane"] == "Exchanges"]
        self.assertEqual(
            sum(sent), sum(frame.answered + frame.failed for frame in runs.every_frame(self.one))
        )
        self.client.post(self.at("casebook-close", self.book().pk))
        before = {name: found.read(name) for name in found.namelist()}
        self.one.delete()
        self.assertEqual({name: folder().read(name) for name in folder().namelist()}, before)
        Casebook.objects.update(folder=b"")
        late = self.client.get(self.at("casebook-export", self.book().pk, "zip"))
        self.assertContains(late, "open it again", status_code=late.status_code)
        self.assertGreaterEqual(late.status_code, 400)

    def test_a_report_begins_as_a_draft(self) -> None:
        early = Run.objects.create(
            project=self.sample.project, number=3, name="r", frozen=b"{}", sha256=""
        )
        answer = self.client.post(self.at("run-casebook", early.pk))
        self.assertContains(answer, "nothing to tell yet", status_code=422)
        outcome = {"ended": "finished", "exit_code": 0, "from_s": 10.0, "to_s": 190.0}
        Run.objects.filter(pk=self.two.pk).update(outcome=outcome, findings=[])
        self.client.post(self.at("run-casebook", self.two.pk))
        made = Casebook.objects.order_by("-changed_at")[0]
        report = self.client.get(self.at("run-report", self.two.pk, "html")).content.decode()
        for each in showing.shown(made):
            self.assertEqual(each.problem, "")
            if each.kind == "part" and each.html:
                self.assertIn(each.html, report)


class Read(Books):
    """By a link, without an account."""

    def setUp(self) -> None:
        super().setUp()
        self.pin("lane", lane="users")
        page = self.client.post(self.at("casebook-link", self.book().pk), {"days": "2"})
        self.address = page.context["word"]
        self.stranger = Client()

    def test_it_opens_that_casebook_and_nothing_else_until_its_day(self) -> None:
        found = self.stranger.get(self.address)
        self.assertContains(found, "Users")
        policy = dict(
            each.strip().partition(" ")[::2] for each in found["Content-Security-Policy"].split(";")
        )
        self.assertEqual(
            policy,
            {
                "default-src": "'none'",
                "style-src": "'unsafe-inline'",
                "img-src": "data:",
                "form-action": "'none'",
                "frame-ancestors": "'none'",
                "base-uri": "'none'",
            },
        )
        self.assertEqual(
            (found["Referrer-Policy"], found["Cache-Control"]), ("no-referrer", "private, no-store")
        )
        self.assertNotIn(self.address.rsplit("/", 1)[1], str(ReadLink.objects.values_list()))
        self.assertEqual(self.stranger.get(self.at("casebook", self.book().pk)).status_code, 302)
        ReadLink.objects.update(until=timezone.now() - datetime.timedelta(seconds=1))
        self.assertEqual(self.stranger.get(self.address).status_code, 404)

    def test_taken_back_it_opens_nothing(self) -> None:
        link = ReadLink.objects.get()
        self.client.force_login(self.sample.accounts["cass"])
        self.assertEqual(
            self.client.post(self.at("casebook-revoke", self.book().pk, link.pk)).status_code, 403
        )
        self.client.force_login(self.sample.accounts["bran"])
        self.client.post(self.at("casebook-revoke", self.book().pk, link.pk))
        self.assertEqual(self.stranger.get(self.address).status_code, 404)
        self.assertIn("taken back", self.page())

    def test_it_is_computed_once_a_version_however_many_read_it(self) -> None:
        with mock.patch.object(showing, "as_html", wraps=showing.as_html) as computed:
            pages = {self.stranger.get(self.address).content for _ in range(5)}
            self.assertEqual((len(pages), computed.call_count), (1, 1))
            self.pin("lane", lane="failures")
            self.assertNotIn(self.stranger.get(self.address).content, pages)
            self.assertEqual(computed.call_count, 2)

    def test_it_ends_with_its_makers_right_to_make_it_unless_an_owner_takes_it_over(self) -> None:
        link, accounts = ReadLink.objects.get(), self.sample.accounts
        makes = Membership.objects.get(project=self.sample.project, account=accounts["bran"])
        self.assertEqual(link.by, accounts["bran"])
        self.assertEqual(self.stranger.get(self.address).status_code, 200)
        for change in ({"role": "reader"}, {"role": "engineer", "account__is_active": False}):
            with self.subTest(str(change)):
                Membership.objects.filter(pk=makes.pk).update(role=change["role"])
                Account.objects.filter(pk=makes.account_id).update(
                    is_active=change.get("account__is_active", True)
                )
                self.assertEqual(self.stranger.get(self.address).status_code, 404)
        Account.objects.filter(pk=makes.account_id).update(is_active=True)
        self.assertEqual(self.stranger.get(self.address).status_code, 200)
        makes.delete()
        self.assertEqual(self.stranger.get(self.address).status_code, 404)
        self.client.force_login(accounts["ada"])
        shown = self.client.get(self.sample.address("casebook/links"))
        self.assertContains(shown, "bran may not make links here any more")
        self.assertContains(self.client.get(self.sample.address("settings")), "casebook/links")
        self.client.post(
            self.at("casebook-take-over", self.book().pk, link.pk), {"from": "settings"}
        )
        self.assertEqual(self.stranger.get(self.address).status_code, 200)
        self.assertNotContains(self.client.get(self.sample.address("casebook/links")), "any more")
        self.client.post(self.at("casebook-revoke", self.book().pk, link.pk))
        self.client.post(self.at("casebook-take-over", self.book().pk, link.pk))
        self.assertEqual(
            self.stranger.get(self.address).status_code, 404, "what was taken back stays so"
        )

    def test_guessed_words_and_odd_days(self) -> None:
        for word in ("x", "%00", "a" * 300, "á"):
            self.assertEqual(self.stranger.get(f"/read/{word}").status_code, 404)
        for days in ("", "-1", "0", "9999", "many"):
            answer = self.client.post(self.at("casebook-link", self.book().pk), {"days": days})
            self.assertEqual(answer.status_code, 422)
        self.assertEqual(ReadLink.objects.count(), 1)


class OfUsers(Books):
    def test_a_kept_exchange_is_shown_masked_as_it_was_kept(self) -> None:
        from dynamikos.core.reports import KeptExchange, pack_kept

        kept = KeptExchange(
            second=20,
            series=1,
            step="hold",
            request="post-hold",
            reason="failed",
            user=3,
            round=2,
            method="POST",
            url="http://127.0.0.1:9/hold",
            status=409,
            body="<b>taken</b>",
            variables={"word": "•••"},
            error="status 409",
        )
        row = Kept.objects.create(
            run=self.one,
            shard=0,
            second=20,
            series=1,
            reason="failed",
            user=3,
            round=2,
            body=pack_kept(kept),
        )
        self.assertEqual(self.pin("kept", number=row.pk).status_code, 200)
        shown = next(iter(showing.shown(self.book()))).html
        for said in ("status 409", "&lt;b&gt;taken", "word = •••", "user 3, round 2"):
            self.assertIn(said, shown)
