"""Who is there in a run: asked for while somebody looks, one user and its log, what was kept as it
is chosen.
"""

import datetime
from typing import Any

import msgspec
from django.urls import reverse
from django.utils import timezone

from dynamikos.core.frozen import every_series
from dynamikos.core.reports import KeptExchange, pack_kept
from dynamikos.core.reports.present import Present, UserNow
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Kept, Run, Seen, Shard, Watch
from tests.web.support import PageCase, Sample
from tests.web.test_runs import generator


class People(PageCase):
    @classmethod
    def setUpTestData(cls) -> None:
        cls.sample = Sample()
        generator()
        run = actions.start(cls.sample.member, cls.sample.plan)
        run.state, run.begins_at = "running", timezone.now()
        run.save()
        cls.run_pk = run.pk
        cls.shards = [
            Shard.objects.create(
                run=run, number=number, generator_name=f"g{number}", state="running"
            )
            for number in range(2)
        ]
        inputs = queries.frozen(run)
        requests = [each for each in every_series(inputs) if each.level == "request"]
        cls.steps = [requests[0], requests[1]]
        for at in range(30):
            of = cls.steps[at % 2]
            kept = KeptExchange(
                second=at,
                series=of.no,
                step=of.step,
                request=of.request,
                reason="failed: status-500" if at % 5 == 0 else "followed",
                user=1 + at % 3,
                round=at // 6,
                method="GET",
                url=f"http://127.0.0.1:9/{of.request}",
                status=500 if at % 5 == 0 else 200,
                duration_us=250_000,
                ended_us=1_000_000 * at + 500_000,
                parts_us={"wait": 200_000, "receive": 20_000},
                variables={"term": f"m{at}"},
            )
            Kept.objects.create(
                run=run,
                shard=0,
                sequence=at,
                second=at,
                series=of.no,
                reason=kept.reason,
                user=kept.user,
                round=kept.round,
                body=pack_kept(kept),
            )

    def at(self, name: str, *more: Any, **query: Any) -> str:
        found = reverse(name, args=[self.sample.project.pk, self.run_pk, *more])
        return found + (
            "?" + "&".join(f"{key}={value}" for key, value in query.items()) if query else ""
        )

    def show(self, shard: int, *users: UserNow, failing: int = 0, ago_s: float = 0) -> None:
        body = msgspec.json.encode(Present(second=7, users=50, failing=failing, shown=list(users)))
        at = timezone.now() - datetime.timedelta(seconds=ago_s)
        Seen.objects.update_or_create(shard=self.shards[shard], defaults={"body": body, "at": at})

    def test_generators_are_asked_only_while_somebody_looks(self) -> None:
        self.assertContains(self.client.get(self.at("run-users")), "Who is there in run")
        self.assertFalse(Watch.objects.exists(), "reading asks for nothing")
        page = self.client.post(self.at("run-users"))
        self.assertContains(page, "Asking g0, g1 who is there")
        self.client.post(self.at("run-user", 17))
        self.assertEqual(set(Watch.objects.values_list("user", flat=True)), {0, 17})
        self.assertTrue(all(each.until > timezone.now() for each in Watch.objects.all()))

    def test_those_that_fail_most_come_first_whatever_generator_they_are_on(self) -> None:
        step = self.steps[0].step
        self.show(0, UserNow(number=4, row=0, state="thinking", step=step, round=3), failing=1)
        worst = UserNow(
            number=9,
            row=0,
            state="in a round",
            failures=7,
            failure="status-500",
            ago_s=2.0,
            waits_s=4.5,
        )
        self.show(1, worst, failing=1)
        page = self.client.post(self.at("run-users"))
        text = page.content.decode()
        self.assertContains(page, '<b class="figure load">100</b> users')
        self.assertContains(page, '<b class="figure bad">2</b> of them had failures')
        self.assertLess(text.index('id="user-9"'), text.index('id="user-4"'))
        self.assertContains(page, "status-500, 2 s ago")
        self.show(1, ago_s=60)
        self.assertContains(self.client.post(self.at("run-users")), "Asking g1")

    def test_one_user_its_values_and_its_log_as_it_grows(self) -> None:
        self.assertContains(self.client.post(self.at("run-user", 2)), "Asking g0, g1")
        self.show(0)
        self.show(
            1,
            UserNow(
                number=2, row=0, state="thinking", values={"term": "<m31>"}, rows={"observers": 12}
            ),
        )
        now = self.client.post(self.at("run-user", 2))
        self.assertContains(now, "&lt;m31&gt;")
        self.assertContains(now, "observers")
        self.assertContains(self.client.post(self.at("run-user", 3)), "User 3 is not there now")
        page = self.client.get(self.at("run-user", 2))
        lines = list(Kept.objects.filter(user=2).order_by("pk"))
        self.assertEqual(page.content.decode().count('data-opens="k'), len(lines))
        self.assertContains(page, '<figure class="fall">')
        newer = self.client.get(self.at("run-user", 2, after=lines[-3].pk), HTTP_HX_REQUEST="true")
        self.assertEqual(newer.content.decode().count('data-opens="k'), 2)
        self.assertContains(newer, f"after={lines[-1].pk}")
        nothing = self.client.get(
            self.at("run-user", 2, after=lines[-1].pk), HTTP_HX_REQUEST="true"
        )
        self.assertContains(nothing, f"after={lines[-1].pk}")

    def test_kept_exchanges_by_user_step_reason_and_value(self) -> None:
        of = self.steps[1]
        for query, count in (
            ({}, 30),
            ({"user": 2}, 10),
            ({"step": f"{of.journey}/{of.step}"}, 15 if of.step != self.steps[0].step else 30),
            ({"why": "failed"}, 6),
            ({"why": "failed", "user": 1}, 2),
            ({"value": "m1"}, 11),  # m1, m10 to m19
            ({"value": "m31"}, 0),
            ({"user": "²"}, 30),
        ):
            with self.subTest(query=query):
                page = self.client.get(self.at("run-log", **query))
                self.assertEqual(page.content.decode().count('data-opens="k'), count)

    def test_what_a_step_was_made_of_stands_beside_one_exchange(self) -> None:
        one = Kept.objects.filter(user=1, round=0).first()
        page = self.client.get(self.at("run-kept", one.pk))
        self.assertContains(page, self.at("run-user", 1))

    def keep(self, at: int, reason: str, of: Any, user: int, **more: Any) -> Kept:
        kept = KeptExchange(
            second=at,
            series=of.no,
            step=of.step,
            request=of.request,
            reason=reason,
            user=user,
            round=1,
            **{"method": "GET", "url": "http://127.0.0.1:9/x", "status": 500} | more,
        )
        return Kept.objects.create(
            run_id=self.run_pk,
            shard=0,
            sequence=1000 + Kept.objects.count(),
            second=at,
            series=of.no,
            reason=reason,
            user=user,
            round=1,
            body=pack_kept(kept),
        )

    def test_no_kind_of_failure_and_nobody_who_is_followed_pushes_out_another_kind(self) -> None:
        for _ in range(300):
            self.keep(40, "failed: status-500", self.steps[0], 1)
        for _ in range(700):
            self.keep(41, "followed", self.steps[0], 2, item="set", method="", url="", status=0)
        late = [
            self.keep(50, f"failed: {kind}", self.steps[1], 3)
            for kind in ("timeout", "status-404", "check")
        ]
        passed = self.keep(
            51, "among the slowest", self.steps[1], 4, status=200, duration_us=9_000_000
        )
        shown = dict(queries.kept(Run.objects.get(pk=self.run_pk), 0, 100))
        self.assertLessEqual({each.pk for each in (*late, passed)}, shown.keys())
        self.assertEqual(sum(each.reason == "failed: status-500" for each in shown.values()), 57)
        page = self.client.get(self.at("run-log")).content.decode()
        self.assertEqual(
            page.count('data-opens="k'), 100 + 25
        )  # as many failed ones as go, and all the others
        self.assertTrue(all(f'data-opens="k{each.pk}"' in page for each in (*late, passed)))
        chosen = self.client.get(self.at("run-log", user=2)).content.decode()
        self.assertGreater(chosen.count('data-opens="k'), 150)  # with what it did besides

    def test_who_was_followed_stays_to_be_read(self) -> None:
        self.show(0)
        self.show(
            1,
            UserNow(
                number=2, row=0, state="thinking", values={"term": "m31"}, rows={"observers": 12}
            ),
        )
        self.client.post(self.at("run-user", 2))
        self.show(1)
        page = self.client.post(self.at("run-user", 2))
        self.assertContains(page, "It is not there now")
        self.assertContains(page, "m31")
        self.assertContains(self.client.post(self.at("run-user", 5)), "User 5 is not there now")
        Run.objects.filter(pk=self.run_pk).update(state="ended", ending={"cause": "finished"})
        page = self.client.get(self.at("run-user", 2))
        self.assertContains(page, "As it was last seen while somebody followed it, at ")
        self.assertContains(page, 'row <b class="figure">12</b> of observers')
        self.assertContains(self.client.get(self.at("run-users")), self.at("run-user", 2))
        self.assertNotContains(self.client.get(self.at("run-user", 1)), "last seen")

    def test_a_failed_one_stands_beside_its_recording_with_the_difference_marked(self) -> None:
        inputs = queries.frozen(Run.objects.get(pk=self.run_pk))
        of = next(
            (series, request)
            for series in every_series(inputs)
            if series.level == "request"
            for request in inputs.journeys[series.journey].find_step(series.step).requests
            if request.request == series.request
            and request.method == "GET"
            and request.recorded is not None
        )
        one = self.keep(
            5,
            "failed: status-500",
            of[0],
            3,
            recorded=of[1].recorded,
            body="<h1>Out of plates</h1>",
            size_bytes=22,
            headers=[("Content-Type", "text/html"), ("X-Dome", "shut")],
        )
        page = self.client.get(self.at("run-kept", one.pk))
        self.assertContains(page, "Beside its recording")
        self.assertContains(
            page, "Looks different from the recording: answered 500; the recording got 200"
        )
        self.assertContains(
            page, '<details open><summary class="small">Body, − recorded, + in this run'
        )
        self.assertContains(page, "<ins>+ &lt;h1&gt;Out of plates&lt;/h1&gt;</ins>")
        self.assertContains(page, '<tr class="bad"> <td class="mono small">x-dome')
        alone = self.keep(5, "failed: status-500", of[0], 3)
        self.assertNotContains(
            self.client.get(self.at("run-kept", alone.pk)), "Beside its recording"
        )

    def test_when_it_is_over_and_wrong_turns(self) -> None:
        answer = self.client.get(self.at("run-users", number=17))
        self.assertEqual(answer["Location"], self.at("run-user", 17))
        self.assertContains(
            self.client.get(self.at("run-users", number="many")), "not a number", status_code=422
        )
        Run.objects.filter(pk=self.run_pk).update(state="ended", ending={"cause": "finished"})
        self.assertContains(self.client.get(self.at("run-users")), "The run is over")
        page = self.client.get(self.at("run-user", 99))
        self.assertContains(page, "Nothing was kept of this user")
        self.assertNotContains(page, 'hx-trigger="every')
