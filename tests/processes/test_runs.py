"""Whole runs with real processes: counted id by id, killed, stopped."""

import time

from msgspec.structs import replace

from dynamikos.core.errors import DynamikosError
from dynamikos.core.profiles import Stretch
from dynamikos.web.journeys.models import Journey
from dynamikos.web.journeys.queries import content
from dynamikos.web.plans import queries as plans
from dynamikos.web.runs import actions, queries
from dynamikos.web.runs.models import Run, Shard
from tests.processes.support import ENDS, PATIENCE_S, Machine, ProcessCase, until


class Runs(ProcessCase):
    def start(self, users: int = 5, seconds: float = 4) -> Run:
        profile = (
            Stretch(stretch="climb", to=users, seconds=1),
            Stretch(stretch="hold", seconds=seconds),
        )
        core = replace(
            plans.content(self.sample.plan), profile=profile, think_factor=0.2, grace_s=5
        )
        return actions.start(self.sample.member, self.sample.plan, core)

    def over(self, run: Run, seconds: float = PATIENCE_S) -> Run:
        until(lambda: Run.objects.get(pk=run.pk).is_over, seconds)
        return Run.objects.get(pk=run.pk)

    def counted(self) -> int:
        return sum(1 for record in self.target("/truth/log") if record["id"])

    def test_counts_agree_with_the_target_id_by_id(self) -> None:
        self.start_fleet()
        run = self.start(seconds=60)
        until(
            lambda: len(self.target("/truth/log")) > 100
        )  # as many as there are to compare, however slow the machine
        actions.stop(self.sample.member, run, now=False)
        run = self.over(run)
        outcome = run.outcome
        self.assertEqual(run.ended, "stopped gently")
        self.assertGreater(outcome["sent"], 100)
        self.assertEqual(outcome["sent"], sum(outcome[each] for each in ENDS))
        logged = [record["id"] for record in self.target("/truth/log") if record["id"]]
        self.assertEqual(len(logged), len(set(logged)))
        self.assertEqual(
            {int(each, 16) for each in logged},
            {(1 << 40) + number for number in range(1, outcome["sent"] + 1)},
        )
        failed = sum(row["failures"] for row in outcome["rows"])
        self.assertEqual(failed, 0, queries.kinds(queries.window(run, queries.frozen(run), 0, 300)))
        self.assertTrue(0 < Shard.objects.get().offset_error_us < 500_000)
        # the step's times contain the stand-in's own
        by_kind: dict[str, list[float]] = {}
        for record in self.target("/truth/log"):
            by_kind.setdefault(record["kind"], []).append(
                record["departure_s"] - record["arrival_s"]
            )
        held = next(
            row
            for row in queries.window(run, queries.frozen(run), 0, 300).rows(1)
            if row.request == "post-hold"
        )
        self.assertEqual(held.count, len(by_kind["hold"]))
        own_ms = 1000 * sum(by_kind["hold"]) / held.count
        # how close they are is measured in bench/truth.py, on a quiet machine
        self.assertGreater(held.mean_ms, own_ms - 2)
        if outcome["late_share"] == 0:
            self.assertAlmostEqual(held.mean_ms, own_ms, delta=5)

    def test_a_killed_generator_is_noticed_within_five_seconds(self) -> None:
        self.start_fleet()
        run = self.start(seconds=60)
        until(lambda: Run.objects.get(pk=run.pk).watermark >= 2)
        self.children["generator"].kill()
        begun, machine = time.monotonic(), Machine()
        run = self.over(run)
        took = time.monotonic() - begun
        self.assertLess(took, 5 if machine.was_ours() else 14)
        # a starved machine may be slower than the objectives
        missed = any(each["word"] == "missed" for each in run.outcome["judgements"])
        self.assertEqual(run.outcome["exit_code"], 1 if missed else 3)
        self.assertIn("was lost", run.outcome["doubts"][0])
        self.assertGreaterEqual(run.watermark, 2)
        self.assertGreater(run.outcome["sent"], 0)

    def test_stop_now_and_gently(self) -> None:
        self.start_fleet()
        for now, word in ((False, "stopped gently"), (True, "stopped now")):
            before = self.counted()
            run = self.start(seconds=60)
            until(lambda run=run: Run.objects.get(pk=run.pk).watermark >= 1)
            actions.stop(self.sample.member, run, now=now)
            run = self.over(run)
            self.assertEqual((run.ended, run.outcome["exit_code"]), (word, 4))
            outcome = run.outcome
            self.assertEqual(outcome["sent"], sum(outcome[each] for each in ENDS))
            self.assertLessEqual(outcome["sent"] - outcome["in_flight"], self.counted() - before)
            self.assertLessEqual(self.counted() - before, outcome["sent"])


class Rehearsals(ProcessCase):
    def test_first_exchange_within_a_second_and_all_as_recorded(self) -> None:
        from dynamikos.web.rehearsals import actions as rehearsals
        from dynamikos.web.rehearsals import queries as read
        from dynamikos.web.rehearsals.models import Rehearsal

        self.start_fleet()
        time.sleep(1)  # the generator's worker is listening
        begun, machine = time.monotonic(), Machine()
        made = rehearsals.ask(self.sample.member, self.sample.journey)
        until(made.exchanges.exists, every=0.01)
        took = time.monotonic() - begun
        self.assertLess(took, 1.0 if machine.was_ours() else 10.0)
        until(lambda: Rehearsal.objects.get(pk=made.pk).over)
        found = Rehearsal.objects.get(pk=made.pk)
        rows = read.replayed(found)
        self.assertEqual(found.state, "passed", [row.kept.reason for row in rows if row.is_bad])
        # a third of the visitors wander over two of them
        pages = sum(row.kept.request == "get-sky-page" for row in rows)
        looks = sum(row.kept.request == "get-postbox" for row in rows)
        items = [row.kept.item for row in rows if row.kept.item]
        self.assertIn(pages, (0, 2))
        self.assertGreaterEqual(looks, 1)
        self.assertEqual(items[:1] + items[-3:], ["choose", "set", "repeat", "keep"])
        self.assertEqual(
            len(rows) - len(items), 14 + pages + looks
        )  # twelve requests asked once, two redirects
        self.assertEqual([row.differences for row in rows if row.differences], [])
        self.assertTrue(
            all(
                row.recorded
                for row in rows
                if row.kept.reason != "kept" or row.kept.recorded is not None
            )
        )
        self.assertEqual(
            next(row for row in rows if row.kept.request == "get-slots").kept.captured.keys(),
            {"slot", "hold_token"},
        )
        self.assertNotIn("fell-", repr([row.kept for row in rows]))  # passwords are masked
        sky = next(row for row in rows if row.kept.request == "get-sky")
        self.assertIn("visit", {name for way, name, _ in read.cookies(sky) if way == "sent"})
        signed = next(row for row in rows if row.kept.request == "post-sign-in")
        self.assertIn(("set", "desk"), {(way, name) for way, name, _ in read.cookies(signed)})
        self.assertIn("waited for the first byte", [words for words, _, _ in read.timings(sky)])
        self.assertEqual(
            {
                name: mark
                for name, _, _, mark in read.values_of(
                    rows, [row for row in rows if row.kept.request == "post-sign-in"][-1]
                )
                if name in ("form_key", "desk_key")
            },
            {"desk_key": "+", "form_key": ""},
        )
        slots = next(row for row in rows if row.kept.request == "get-slots")
        offered = dict(read.suggestions(found, rows, slots, content(self.sample.journey)))
        rehearsals.take_check(
            self.sample.member, found, "find-slot", "get-slots", offered["$.slots is a list"]
        )
        core = content(Journey.objects.get(pk=self.sample.journey.pk))
        self.assertEqual(core.find_step("find-slot").requests[1].checks[-1].json.type, "list")  # type: ignore[union-attr]
        self.assertNotIn("$.slots is a list", dict(read.suggestions(found, rows, slots, core)))
        with self.assertRaisesRegex(DynamikosError, "This is no check"):
            rehearsals.take_check(
                self.sample.member, found, "find-slot", "get-slots", '{"status": 99}'
            )
        other = rehearsals.ask(self.sample.member, self.sample.journey, user=7)
        until(lambda: Rehearsal.objects.get(pk=other.pk).over)
        self.assertEqual(
            {
                row.kept.variables["user.number"]
                for row in read.replayed(Rehearsal.objects.get(pk=other.pk))
            },
            {"7"},
        )

    def test_a_rehearsal_whose_generator_is_gone_is_said_to_be_lost(self) -> None:
        from dynamikos.web.rehearsals import actions as rehearsals
        from dynamikos.web.rehearsals.models import Rehearsal

        self.start_fleet()
        self.children["generator"].kill()
        made = rehearsals.ask(self.sample.member, self.sample.journey)
        until(lambda: Rehearsal.objects.get(pk=made.pk).over)
        self.assertEqual(Rehearsal.objects.get(pk=made.pk).state, "lost")

    def test_a_rehearsal_can_be_stopped_and_begin_and_halt_where_asked(self) -> None:
        import socket

        from dynamikos.core.errors import DynamikosError
        from dynamikos.core.journeys import parse_journey
        from dynamikos.web.environments import actions as environments
        from dynamikos.web.journeys.actions import create
        from dynamikos.web.rehearsals import actions as rehearsals
        from dynamikos.web.rehearsals import queries as read
        from dynamikos.web.rehearsals.models import Rehearsal

        self.start_fleet()
        deaf = socket.create_server(("127.0.0.1", 0))  # takes connections and never answers
        self.addCleanup(deaf.close)
        address = f"http://127.0.0.1:{deaf.getsockname()[1]}"
        environments.agree(self.sample.member, self.sample.environment, address)
        base = f"http://127.0.0.1:{self.target_port}"
        journey = create(
            self.sample.member,
            parse_journey(
                f"form: 1\njourney: slow\nname: Slow\nrounds:\n  - {{step: first, name: F, "
                "requests: ["
                f'{{request: a, address: "{base}/"}}]}}\n'
                f"  - {{step: second, name: S, requests: ["
                f'{{request: b, address: "{base}/sky?page=1"}}, {{request: c, address: '
                f'"{address}/never"}}]}}\n'
            ),
        )
        made = rehearsals.ask(self.sample.member, journey)
        until(lambda: made.exchanges.count() == 2)
        begun = time.monotonic()
        rehearsals.stop(self.sample.member, Rehearsal.objects.get(pk=made.pk))
        until(lambda: Rehearsal.objects.get(pk=made.pk).over)
        self.assertLess(time.monotonic() - begun, 5)
        found = Rehearsal.objects.get(pk=made.pk)
        self.assertEqual(
            (found.state, found.exchanges.count()), ("failed", 2)
        )  # what was exchanged stays
        self.assertIn("Stopped by hand", found.reason)
        part = rehearsals.ask(self.sample.member, journey, start="second", until="second/c")
        until(lambda: Rehearsal.objects.get(pk=part.pk).over)
        self.assertEqual(
            [
                (row.kept.request, row.kept.status)
                for row in read.replayed(Rehearsal.objects.get(pk=part.pk))
            ],
            [("b", 200)],
        )
        with self.assertRaisesRegex(DynamikosError, "nothing to rehearse"):
            rehearsals.ask(self.sample.member, journey, start="second", until="first")
        with self.assertRaisesRegex(DynamikosError, "no row 9,999"):
            rehearsals.ask(self.sample.member, self.sample.journey, row=9999)

    def test_what_a_rehearsal_left_behind_is_cleaned_up_when_asked(self) -> None:
        from dynamikos.core.errors import DynamikosError
        from dynamikos.web.rehearsals import actions as rehearsals
        from dynamikos.web.rehearsals import queries as read
        from dynamikos.web.rehearsals.models import Rehearsal

        self.start_fleet()
        made = rehearsals.ask(self.sample.member, self.sample.journey, row=7)
        until(lambda: Rehearsal.objects.get(pk=made.pk).over)
        found = Rehearsal.objects.get(pk=made.pk)
        # nothing is cleaned up unasked
        self.assertEqual(
            (found.state, read.replayed(found)[-1].kept.request), ("passed", "post-sign-out")
        )

        def minutes(of: Rehearsal) -> int:
            rows = read.replayed(Rehearsal.objects.get(pk=of.pk))
            return int(
                next(
                    row.kept.captured["minutes_before"]
                    for row in rows
                    if row.kept.request == "get-account"
                )
            )

        # the same observer again has a quarter-hour less
        again = rehearsals.ask(self.sample.member, self.sample.journey, row=7)
        until(lambda: Rehearsal.objects.get(pk=again.pk).over)
        self.assertEqual(minutes(again), minutes(made) - 15)

        rehearsals.clean_up(self.sample.member, found)
        until(lambda: Rehearsal.objects.get(pk=made.pk).cleanup == "done")
        last = read.replayed(Rehearsal.objects.get(pk=made.pk))[-1].kept
        self.assertEqual((last.request, last.status), ("post-cancel", 200))
        self.assertRegex(
            last.url, r"/bookings/BF-\d+/cancel$"
        )  # with the value captured in the rehearsal
        with self.assertRaisesRegex(DynamikosError, "cleaned up already"):
            rehearsals.clean_up(self.sample.member, Rehearsal.objects.get(pk=made.pk))
        third = rehearsals.ask(self.sample.member, self.sample.journey, row=7)
        until(lambda: Rehearsal.objects.get(pk=third.pk).over)
        self.assertEqual(Rehearsal.objects.get(pk=third.pk).state, "passed")
        self.assertEqual(minutes(third), minutes(again))  # one was booked since, one given back

        # the generator forgets with its process
        self.children["generator"].kill()
        self.children["generator"].wait()
        rehearsals.clean_up(
            self.sample.member, Rehearsal.objects.get(pk=third.pk)
        )  # nobody has noticed yet
        until(lambda: Rehearsal.objects.get(pk=third.pk).cleanup == "gone")
        with self.assertRaisesRegex(DynamikosError, "is gone"):
            rehearsals.clean_up(self.sample.member, Rehearsal.objects.get(pk=third.pk))
