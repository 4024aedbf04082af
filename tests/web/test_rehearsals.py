"""What a rehearsal's page says of it: the headline follows the state, doubts stand before
praise.
"""

from unittest import mock

from django.utils import timezone

from dynamikos.core.dealing import Deal
from dynamikos.core.errors import DynamikosError
from dynamikos.core.reports import KeptExchange, pack_kept
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.places.models import Generator
from dynamikos.web.rehearsals import actions
from dynamikos.web.rehearsals.history import dealt_before
from dynamikos.web.rehearsals.models import Rehearsal, RehearsedExchange
from dynamikos.web.rehearsals.queries import frozen, replayed, sentence
from tests.web.support import PageCase
from tests.web.test_runs import generator


class Headline(PageCase):
    CASES = (
        ("asked", 0, None, 0, "Waiting for the generator"),
        ("running", 0, None, 0, "Rehearsing: 3 exchanges so far"),
        (
            "passed",
            0,
            0,
            0,
            "Every check passed, 3 exchanges replayed, none looks different from the recording",
        ),
        ("passed", 0, None, 0, "Every check passed, 3 exchanges replayed"),
        (
            "passed",
            0,
            2,
            0,
            "Every check passed, 3 exchanges replayed; 2 differ from the recording",
        ),
        (
            "passed",
            0,
            1,
            1,
            "Every check passed, but 1 doubt remains, 3 exchanges replayed; 1 differs from the "
            "recording",
        ),
        ("failed", 2, 0, 0, "2 requests failed, 3 exchanges replayed"),
        ("failed", 0, 0, 0, "The rehearsal did not come to its end, 3 exchanges replayed"),
        ("lost", 0, 0, 0, "The rehearsal was lost: gone"),
    )

    def test_it_follows_the_state(self) -> None:
        for state, bad, differing, doubts, words in self.CASES:
            with self.subTest(state, bad=bad, doubts=doubts):
                said = sentence(Rehearsal(state=state, reason="gone"), 3, bad, differing, doubts)
                self.assertEqual(said.alarm + said.rest, words)
                self.assertEqual(
                    bool(said.alarm),
                    ("passed" not in words and state in ("failed", "lost")) or bool(doubts),
                )

    def made(self, state: str, **more: object) -> str:
        journey = self.sample.journey
        found = Rehearsal.objects.create(
            journey=journey,
            number=1,
            revision=journey.head,
            state=state,
            frozen=self.frozen(),
            rows=b"\x80",
            ended_at=timezone.now(),
            **more,
        )
        kept = KeptExchange(
            second=0,
            series=1,
            step="a",
            request="b",
            reason="passed",
            user=1,
            round=1,
            method="GET",
            url="http://x/",
            status=200,
        )
        RehearsedExchange.objects.create(rehearsal=found, number=0, body=pack_kept(kept))
        self.client.force_login(self.sample.accounts["bran"])
        return self.client.get(self.sample.address(f"rehearsals/{found.pk}")).content.decode()

    def frozen(self) -> bytes:
        from dynamikos.core.frozen import canonical
        from dynamikos.core.plans import Plan
        from dynamikos.core.profiles import Stretch
        from dynamikos.engine.testing import frozen_of_one
        from dynamikos.web.journeys.queries import content

        core = content(self.sample.journey)
        plan = Plan(
            form=2, plan="r", name="R", journey=core.journey, environment="e",
            profile=(Stretch(stretch="hold", seconds=1),),
        )  # fmt: skip
        return canonical(frozen_of_one(plan, core, run="x"))

    def test_one_that_crashed_never_says_that_every_check_passed(self) -> None:
        page = self.made("failed", reason="the worker ended")
        self.assertIn("did not come to its end", page)
        self.assertIn("the worker ended", page)
        self.assertNotIn("Every check passed", page)

    def test_a_resource_that_failed_is_named_with_the_page_that_embeds_it(self) -> None:
        self.made("failed")
        found = Rehearsal.objects.get()
        step = next(
            each
            for _, each in frozen(found).journey.steps()
            if each.requests and each.requests[0].embedded
        )
        page = step.requests[0]
        for number, (url, resource) in enumerate(
            (("http://x/", False), ("http://x/lost.css", True)), 1
        ):
            kept = KeptExchange(
                second=0,
                series=1,
                step=step.step,
                request=page.request,
                user=1,
                round=1,
                method="GET",
                url=url,
                reason="failed: status-404" if resource else "kept",
                status=404 if resource else 200,
                resource=resource,
            )
            RehearsedExchange.objects.create(rehearsal=found, number=number, body=pack_kept(kept))
        address = self.sample.address(f"rehearsals/{found.pk}?at={step.step}/{page.request}")
        shown = self.client.get(address)
        self.assertContains(shown, "1 request failed")
        self.assertContains(shown, "· 1 failed</tspan>")
        self.assertContains(shown, f"Resource that {page.request} embeds")
        self.assertContains(shown, "http://x/lost.css")

    def test_what_could_not_be_looked_for_is_said(self) -> None:
        with mock.patch("dynamikos.workers.call", side_effect=DynamikosError("it took too long")):
            page = self.made("passed")
        self.assertIn("did the thing could not be found out: it took too long", page)

    def test_two_rounds_are_said(self) -> None:
        self.assertIn(
            "Every check passed in 2 rounds, 1 exchange replayed", self.made("passed", rounds=2)
        )


class Choosing(PageCase):
    def test_a_generator_that_carries_a_run_gets_no_rehearsal(self) -> None:
        first, second = generator("first"), generator("second")
        Generator.objects.filter(pk=first.pk).update(busy=True)
        self.assertEqual(actions.ask(self.sample.member, self.sample.journey).generator, second)
        Generator.objects.update(busy=True)
        place = self.sample.address(f"journeys/{self.sample.journey.pk}/rehearse")
        self.assertContains(
            self.client.post(place), "Every generator carries a run", status_code=422
        )
        self.assertEqual(Rehearsal.objects.count(), 1)


class Dealt(PageCase):
    """Rows of data: others each time; back to the start only when that is asked for."""

    def setUp(self) -> None:
        super().setUp()
        generator(self.sample)
        self.data = DataSet.objects.get(project=self.sample.project, key="observers")

    def asked(self, **more: str) -> Rehearsal:
        answer = self.client.post(self.address("rehearse"), more)
        self.assertEqual(answer.status_code, 302, answer.content[:2000])
        return Rehearsal.objects.latest("asked_at")

    def test_two_rounds_get_rows_that_were_not_dealt_before(self) -> None:
        set_deal(self.sample.member, self.data, Deal(when="round", then="leave"))
        DataSet.objects.filter(pk=self.data.pk).update(rehearsed=self.data.rows - 5)
        seen = set[int]()
        for _ in range(2):
            first, count = self.asked(rounds="2").dealt["observers"]
            rows = set(range(first, first + count))
            self.assertFalse(rows & seen)
            seen |= rows
        self.assertEqual(seen, {1, 2, 3, 4})
        answer = self.client.post(self.address("rehearse"), {"rounds": "2"})
        self.assertEqual(answer.status_code, 422)
        self.assertContains(answer, "No row is left for a rehearsal", status_code=422)
        made = self.asked(rounds="2", again="1")
        self.assertEqual(made.dealt["observers"], [self.data.rows - 2, 2])
        page = self.client.get(self.sample.address(f"rehearsals/{made.pk}"))
        self.assertContains(page, f"rows {self.data.rows - 1:,}–{self.data.rows:,} of observers")

    def test_rows_that_are_never_used_up_come_again_by_themselves(self) -> None:
        set_deal(self.sample.member, self.data, Deal(when="round"))
        DataSet.objects.filter(pk=self.data.pk).update(rehearsed=self.data.rows - 1)
        rows = [self.asked().dealt["observers"][0] for _ in range(2)]
        self.assertEqual(rows, [0, self.data.rows - 1])

    def test_a_failure_that_reads_as_used_names_the_rehearsal_before(self) -> None:
        set_deal(self.sample.member, self.data, Deal(when="round", then="leave"))
        self.asked(row="1")
        second = self.asked(row="1")

        def told(body: str, status: int) -> str:
            kept = KeptExchange(
                second=0, series=1, step="a", request="b", reason="failed: check", user=1, round=1,
                method="POST", url="http://x/", status=status, body=body,
            )  # fmt: skip
            RehearsedExchange.objects.filter(rehearsal=second).delete()
            RehearsedExchange.objects.create(rehearsal=second, number=0, body=pack_kept(kept))
            return dealt_before(second, replayed(second))

        self.assertIn("Row 1 of observers was dealt before, to rehearsal 1 of", told("", 409))
        self.assertEqual(told("not found", 404), "")
        other = self.asked(row="2")
        second.dealt = other.dealt
        Rehearsal.objects.filter(pk=other.pk).delete()
        self.assertEqual(told("already there", 400), "")  # nobody had row 2 before
