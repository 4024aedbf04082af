"""Each workload in virtual time: who comes when, what is due when, what is counted of those who
don't.
"""

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any
from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.dealing import Deal
from dynamikos.core.frozen import DataPile, FrozenRun, every_series
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.frozen.seating import arrivals_of
from dynamikos.core.journeys import Journey, parse_journey
from dynamikos.core.objectives import Objective
from dynamikos.core.personas import Persona
from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_target
from dynamikos.core.plans.workloads import Arrivals, Held, Replayed, UserRounds, Users
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Ledger
from dynamikos.core.statistics import Histogram
from dynamikos.core.verdicts import Outcome, conclude
from dynamikos.core.verdicts.ending import FINISHED
from dynamikos.engine.reporting.health import HealthWatch
from dynamikos.engine.reporting.recorder import Recorder
from dynamikos.engine.runner import Shard, run, user_contexts
from dynamikos.engine.testing import (
    ListSink,
    Scripted,
    ScriptedNetwork,
    VirtualClock,
    answer,
    run_virtual,
)
from dynamikos.engine.users.compiled import CompiledRequest
from tests.engine.support import BASE

Server = Callable[[bytes], Scripted]


def after(seconds: float) -> Server:
    return lambda data: Scripted(answer(b"fine"), seconds)


def journey(key: str, think_s: float = 0, column: str = "") -> Journey:
    query = "?who={{ " + column + " }}" if column else ""
    return parse_journey(
        f"form: 1\njourney: {key}\nname: {key}\nrounds:\n  - step: s\n    name: S\n    think_s: "
        f"{think_s}\n"
        f"    requests:\n      - {{request: r, address: '{{{{ env.base }}}}/{key}{query}',"
        " checks: [{status: 200}]}\n"
    )


def crowd(
    load: Any, *profile: Stretch, rows: tuple[tuple[str, float], ...] = (("a", 1),), **more: Any
) -> Crowd:
    made = tuple(CrowdRow(row=key, journey=key, share=share) for key, share in rows)
    return Crowd(**{"crowd": "c", "load": load, "profile": profile, "rows": made, **more})


def hold(level: float, seconds: float) -> Stretch:
    """At `level` at once, and nobody afterwards."""
    return Stretch(stretch="burst", to=level, seconds=seconds)


def climb(to: float, seconds: float) -> Stretch:
    return Stretch(stretch="climb", to=to, seconds=seconds)


def inputs(
    *crowds: Crowd, journeys: Sequence[Journey] = (), data: tuple[DataPile, ...] = (), **more: Any
) -> FrozenRun:
    plan = Plan(
        form=2, plan="p", name="P", environment="e", crowds=crowds, failed_pause_s=0, **more
    )
    made = {each.journey: each for each in journeys} or {key: journey(key) for key in plan.journeys}
    values = {"env.base": BASE}
    agreed = (parse_target(BASE),)
    whole = Inputs(plan=plan, journeys=made, values=values, agreed=agreed, data=data)
    return freeze(whole, run="r", seed=1, checked=True)


class Ran:
    """A run on so many generators, one after the other in virtual time, and what it came to."""

    def __init__(
        self,
        made: FrozenRun,
        server: Server,
        *,
        shards: int = 1,
        rows: dict[str, list[list[str]]] | None = None,
    ) -> None:
        self.made, self.sinks, self.requests = (
            made,
            [ListSink() for _ in range(shards)],
            list[bytes](),
        )
        self.ended = []
        for number, sink in enumerate(self.sinks):
            network = ScriptedNetwork(server)
            shard = Shard(number=number, count=shards, frozen=made, rows=rows or {}, secrets={})
            self.ended.append(run_virtual(self._run(shard, network, sink)))
            self.requests += network.requests
        self.window, self.whole, self.all = (Ledger(every_series(made)) for _ in range(3))
        self.messages = [message for sink in self.sinks for message in sink.messages]
        for message in self.messages:
            self.whole.add(message, totals=False)
            self.all.add(message)
            self.window.add(message, totals=made.measured[0] <= message.second < made.measured[1])
            self.window.carry(message)

    @staticmethod
    async def _run(shard: Shard, network: ScriptedNetwork, sink: ListSink) -> str:
        clock = VirtualClock()
        return (await run(shard, network, clock, sink, begin=clock.now() + 0.5)).words

    def users(self, second: int) -> int:
        return sum(
            sum(message.users.values()) for message in self.messages if message.second == second
        )

    def outcome(self) -> Outcome:
        flying = sum(sink.messages[-1].in_flight for sink in self.sinks)
        return conclude(
            self.made, self.window, self.whole, ending=FINISHED, in_flight=flying, peak_users=10**6
        )

    def times_ms(self) -> tuple[float, float]:
        """Response times of requests, least and most."""
        total = self.window.all_of("request").passed
        return (total.min_us() or 0) / 1e3, (total.max_us() or 0) / 1e3


class Arriving(TestCase):
    def test_each_planned_instant_is_started_once_whatever_the_generators(self) -> None:
        made = inputs(crowd(Arrivals(ceiling=50), hold(20, 120)))
        for shards in (1, 2, 3):
            ran = Ran(made, after(0.1), shards=shards)
            self.assertEqual(ran.whole.arrivals, [2400, 0, 0])
            planned = Counter(int(each.at_s) for each in arrivals_of(made, 0, 0, 1))
            started = Counter[int]()
            for message in ran.messages:
                started[message.second] += message.arrivals[0]
            self.assertEqual({s: n for s, n in started.items() if n}, planned)
            self.assertEqual((ran.whole.sent, ran.whole.rounds), (2400, [2400, 0]))

    def test_a_slow_server_gets_every_arrival_and_the_wait_is_seen(self) -> None:
        ran = Ran(inputs(crowd(Arrivals(ceiling=500), hold(20, 30)), grace_s=10), after(2.0))
        self.assertEqual(
            (ran.whole.arrivals, ran.whole.sent, ran.whole.answered), ([600, 0, 0], 600, 600)
        )
        self.assertAlmostEqual(ran.times_ms()[0], 2000, delta=1)
        self.assertEqual(ran.users(20), 40)  # Little's law

    def test_at_the_ceiling_arrivals_are_turned_away_and_response_times_not_judged(self) -> None:
        text = {"objective": "o", "measure": "p95", "limit": 5000}
        for allowed, word in ((0.0, "not judged"), (60.0, "met")):
            made = inputs(
                crowd(Arrivals(ceiling=10), hold(20, 60)),
                grace_s=5,
                objectives=(Objective(**text),),
                turned_away_allowed=allowed,  # type: ignore[arg-type]
            )
            ran = Ran(made, after(1.0))
            started, turned_away, not_started = ran.whole.arrivals
            self.assertEqual((started + turned_away, not_started), (1200, 0))
            self.assertAlmostEqual(
                started, 571, delta=5
            )  # a place is free a tick after the arrival that would need it
            outcome = ran.outcome()
            self.assertEqual([each.word for each in outcome.judgements], [word])
            self.assertEqual(
                any("turned away" in doubt for doubt in outcome.doubts), word == "not judged"
            )
            assert outcome.arrivals is not None
            self.assertEqual(outcome.arrivals.planned, 1200)

    def test_opening_and_closing_are_performed_by_each(self) -> None:
        with_parts = parse_journey(
            "form: 1\njourney: a\nname: A\nopening:\n  - step: o\n    name: O\n    requests: "
            "[{request: o, address:"
            " '{{ env.base }}/o'}]\nrounds:\n  - step: s\n    name: S\n    requests: [{request: r, "
            "address:"
            " '{{ env.base }}/s'}]\nclosing:\n  - step: c\n    name: C\n    requests: [{request: "
            "c, address:"
            " '{{ env.base }}/c'}]\n"
        )
        ran = Ran(
            inputs(crowd(Arrivals(ceiling=9), hold(2, 10)), journeys=(with_parts,)), after(0.1)
        )
        asked = Counter(data.split(b" ")[1] for data in ran.requests)
        self.assertEqual(asked, {b"/o": 20, b"/s": 20, b"/c": 20})


class Rounds(TestCase):
    def test_every_row_is_used_exactly_once_and_the_run_ends_then(self) -> None:
        pile = DataPile(
            key="people", columns=("name",), rows=30, deal=Deal(when="round", then="stop")
        )
        one = crowd(UserRounds(users=10, rounds=3, start_s=2), Stretch(stretch="hold", seconds=600))
        made = inputs(one, journeys=(journey("a", 1, "people.name"),), data=(pile,))
        ran = Ran(made, after(0.1), rows={"people": [[f"n{at}"] for at in range(30)]})
        asked = Counter(data.split(b" ")[1] for data in ran.requests)
        self.assertEqual(asked, {f"/a?who=n{at}".encode(): 1 for at in range(30)})
        self.assertEqual((ran.ended, ran.whole.rounds), (["finished"], [30, 0]))
        self.assertLess(ran.messages[-1].second, 10)

    def test_on_two_generators_each_user_performs_its_own(self) -> None:
        made = inputs(crowd(UserRounds(users=5, rounds=4), Stretch(stretch="hold", seconds=60)))
        ran = Ran(made, after(0.1), shards=2)
        self.assertEqual(
            (ran.whole.rounds, [len(sink.messages) < 9 for sink in ran.sinks]),
            ([20, 0], [True, True]),
        )

    def test_a_limit_cuts_it_off_and_what_was_cut_is_no_round(self) -> None:
        made = inputs(
            crowd(UserRounds(users=2, rounds=100), Stretch(stretch="hold", seconds=5)), grace_s=1
        )
        ran = Ran(made, after(1.0))
        self.assertEqual(ran.whole.rounds[1], 0)
        self.assertEqual(
            ran.whole.rounds[0], 12
        )  # the one that was begun at the limit is one step long


class FixedRate(TestCase):
    def test_rounds_begin_at_their_instants_and_are_due_then(self) -> None:
        ran = Ran(inputs(crowd(Held(ceiling=20), hold(10, 30))), after(0.5))
        self.assertEqual((ran.whole.arrivals, ran.whole.rounds), ([300, 0, 0], [300, 0]))
        self.assertEqual(ran.window.late_rounds, 0)
        self.assertLessEqual(
            max(ran.users(second) for second in range(30)), 7
        )  # ten a second of half a second, free first
        self.assertLess(ran.times_ms()[1], 501)

    def test_too_few_users_begin_late_and_their_wait_counts(self) -> None:
        ran = Ran(inputs(crowd(Held(ceiling=2), hold(10, 10)), grace_s=60), after(0.5))
        self.assertGreater(ran.window.late_rounds, 20)
        self.assertGreater(
            ran.times_ms()[1], 3000
        )  # due at the planned instant, not when somebody was free
        self.assertIn("began late", "\n".join(ran.outcome().doubts))

    def test_who_can_not_begin_is_followed_by_another_and_stopping_starts_nobody(self) -> None:
        broken = parse_journey(
            "form: 1\njourney: a\nname: A\nopening:\n  - step: o\n    name: O\n    requests: "
            "[{request: o, address:"
            " '{{ env.base }}/o'}]\nrounds:\n  - step: s\n    name: S\n    requests: [{request: r, "
            "address:"
            " '{{ env.base }}/s'}]\n"
        )
        made = inputs(crowd(Held(ceiling=3), hold(5, 10)), journeys=(broken,), grace_s=0)
        ran = Ran(made, lambda data: Scripted(answer(b"no", "500 No"), 0.1))
        opened = sum(b"/o " in data for data in ran.requests)
        self.assertEqual((ran.whole.rounds, opened == len(ran.requests)), ([0, 0], True))
        self.assertTrue(
            3 < opened < 12, opened
        )  # not for every round that waits: after 1, 2, 4, … seconds
        self.assertLessEqual(ran.messages[-1].second, 11)

    def test_a_slice_belongs_to_a_place_beside_other_crowds(self) -> None:
        pile = DataPile(
            key="people", columns=("name",), rows=10, deal=Deal(whose="slice", when="user")
        )
        others = crowd(Arrivals(ceiling=7), hold(1, 5), crowd="others")
        held = crowd(Held(ceiling=2), hold(10, 5), rows=(("b", 1),), crowd="held")
        made = inputs(
            others,
            held,
            journeys=(journey("a"), journey("b", column="people.name")),
            data=(pile,),
            grace_s=20,
        )
        ran = Ran(made, after(0.5), rows={"people": [[f"n{at}"] for at in range(10)]})
        asked = {data.split(b" ")[1] for data in ran.requests}
        self.assertEqual(asked, {b"/a", b"/b?who=n0", b"/b?who=n5"})

    def test_each_row_has_its_own(self) -> None:
        rows = (("a", 3.0), ("b", 1.0))
        ran = Ran(inputs(crowd(Held(ceiling=20), hold(8, 10), rows=rows)), after(0.2))
        asked = Counter(data.split(b" ")[1] for data in ran.requests)
        self.assertEqual(asked, {b"/a": 60, b"/b": 20})


class Paced(TestCase):
    def test_the_next_round_begins_so_long_after_the_last_one_began(self) -> None:
        ran = Ran(inputs(crowd(Users(pacing_s=(2,)), hold(3, 20))), after(0.5))
        self.assertEqual(ran.whole.rounds, [30, 0])
        self.assertEqual(ran.window.late_rounds, 0)

    def test_one_that_takes_longer_is_late_and_followed_at_once(self) -> None:
        ran = Ran(inputs(crowd(Users(pacing_s=(1,)), hold(3, 20)), grace_s=3), after(2.0))
        self.assertGreaterEqual(ran.whole.rounds[0], 27)
        self.assertGreaterEqual(ran.window.late_rounds, 24)

    def test_a_range_is_drawn_from(self) -> None:
        ran = Ran(inputs(crowd(Users(pacing_s=(1, 3)), hold(10, 100))), after(0.1))
        self.assertAlmostEqual(ran.whole.rounds[0], 10 * 100 / 2, delta=40)


class Leaving(TestCase):
    """Twenty users with rounds of two seconds; at second 10 fifteen of them are taken away."""

    def ran(self, leaving: Any) -> Ran:
        load, still = Users(leaving=leaving), Stretch(stretch="hold", seconds=10)
        return Ran(
            inputs(crowd(load, climb(20, 0), still, climb(5, 0), still), grace_s=5), after(2.0)
        )

    def test_at_once(self) -> None:
        ran = self.ran("now")
        self.assertEqual([ran.users(second) for second in (9, 10, 15)], [20, 5, 5])
        self.assertEqual(ran.whole.abandoned, 15)
        last = ran.messages[-1]
        self.assertEqual(
            ran.whole.sent,
            ran.whole.answered + ran.whole.failed + ran.whole.abandoned + last.in_flight,
        )
        self.assertEqual((ran.whole.failed, last.in_flight), (0, 0))
        # at least as long as they were waited for; and what was open at the end of the measured
        # part
        self.assertEqual(ran.window.all_of("request").cut.n, 15 + 5)
        self.assertEqual(ran.outcome().abandoned, 15)

    def test_after_the_round_and_after_the_step(self) -> None:
        for leaving in ("round", "step"):
            ran = self.ran(leaving)
            self.assertEqual([ran.users(second) for second in (9, 12, 15)], [20, 5, 5])
            self.assertEqual((ran.whole.abandoned, ran.whole.failed), (0, 0))

    def test_after_the_round_means_all_of_its_steps(self) -> None:
        one, other = journey("a", 1).rounds[0], replace(journey("a", 1).rounds[0], step="t")
        two = replace(journey("a"), rounds=(one, other))  # rounds of three seconds
        asked = {}
        for leaving in ("round", "step"):
            load = Users(leaving=leaving)  # type: ignore[arg-type]
            profile = (
                climb(4, 0),
                Stretch(stretch="hold", seconds=9.2),
                climb(0, 0),
                Stretch(stretch="hold", seconds=9),
            )
            ran = Ran(inputs(crowd(load, *profile), journeys=(two,)), after(0.5))
            asked[leaving] = len(ran.requests)
            self.assertEqual((ran.whole.rounds[1], ran.whole.abandoned), (0, 0))
        self.assertEqual(asked, {"round": 4 * 2 * 4, "step": 4 * (2 * 3 + 1)})

    def test_who_waits_for_its_next_round_begins_no_other(self) -> None:
        load = Users(leaving="round", pacing_s=(8,))
        profile = (
            climb(3, 0),
            Stretch(stretch="hold", seconds=5),
            climb(0, 0),
            Stretch(stretch="hold", seconds=15),
        )
        ran = Ran(inputs(crowd(load, *profile), grace_s=5), after(1.0))
        self.assertEqual((ran.whole.rounds, len(ran.requests)), ([3, 0], 3))
        self.assertEqual([ran.users(second) for second in (4, 6)], [3, 0])


class Crowds(TestCase):
    def test_rows_have_their_users_series_and_rows_of_data(self) -> None:
        pile = DataPile(
            key="people", columns=("name",), rows=100, deal=Deal(whose="slice", when="user")
        )
        rows = (("a", 3.0), ("b", 1.0))
        first = crowd(Users(shares="users"), hold(8, 10), rows=rows, crowd="one")
        second = crowd(Arrivals(ceiling=4), hold(1, 6), rows=(("c", 1),), crowd="two", starts_s=2)
        made = inputs(
            first,
            second,
            journeys=(journey("a", 1), journey("b", 1, "people.name"), journey("c")),
            data=(pile,),
        )
        for shards in (1, 2):
            ran = Ran(
                made, after(0.1), shards=shards, rows={"people": [[f"n{at}"] for at in range(100)]}
            )
            asked = Counter(data.split(b" ")[1] for data in ran.requests)
            self.assertEqual(set(asked), {b"/a", b"/b?who=n0", b"/b?who=n50", b"/c"})
            self.assertEqual((asked[b"/a"], asked[b"/c"]), (60, 6))
            by_row = [
                sum(message.by_row.get(row, 0) for message in ran.messages if message.second == 5)
                for row in (0, 1)
            ]
            self.assertEqual(by_row, [6, 2])
            for row, count in (("a", 60), ("b", 20), ("c", 6)):
                self.assertEqual(
                    sum(data.startswith(f"GET /{row}".encode()) for data in ran.requests), count
                )
                self.assertEqual(ran.all.all_of("request", row=row).passed.n, count)
            # The eight users of the one crowd are cut off in their thinking at the end: a round of
            # each is not whole.
            self.assertEqual(
                [ran.all.all_of("round", row=row).passed.n for row in "abc"], [54, 18, 6]
            )
            figures = {each.row: each for each in ran.outcome().crowd}
            self.assertAlmostEqual(figures["a"].share_achieved or 0, 75, delta=1)

    def test_a_row_that_came_otherwise_is_a_doubt(self) -> None:
        made = inputs(
            crowd(Users(shares="visits"), hold(40, 100), rows=(("a", 50), ("b", 50))),
            journeys=(journey("a", 1), journey("b", 1)),
        )
        slow_b: Server = lambda data: Scripted(answer(b"fine"), 3.0 if b"/b" in data else 0.1)  # noqa: E731
        doubts = "\n".join(Ran(made, slow_b).outcome().doubts)
        self.assertIn("The row a was", doubts)
        self.assertIn("not 50 % as planned", doubts)

    def test_an_objective_is_judged_on_its_row_or_journey_and_names_its_own_step(self) -> None:
        rows = (("a", 50.0), ("b", 50.0))
        slow = replace(journey("b"), rounds=(replace(journey("b").rounds[0], name="Slow one"),))

        def about(key: str, **more: str) -> Objective:
            return Objective(objective=key, measure="mean", limit=500, step="s", **more)

        wanted = (about("o", row="b"), about("p", journey="b"), about("q", row="a"))
        made = inputs(
            crowd(Users(shares="users"), hold(20, 30), rows=rows),
            journeys=(journey("a"), slow),
            objectives=wanted,
        )
        ran = Ran(made, lambda data: Scripted(answer(b"fine"), 1.0 if b"/b" in data else 0.1))
        judged = ran.outcome().judgements
        self.assertEqual([each.word for each in judged], ["missed", "missed", "met"])
        self.assertEqual([round(each.value or 0) for each in judged], [1000, 1000, 100])
        self.assertEqual(
            [each.sentence.split(" ≤")[0] for each in judged],
            ["mean of Slow one (b)", "mean of Slow one (b)", "mean of S (a)"],
        )

    def test_only_rows_that_are_drawn_by_lot_may_be_off_by_chance(self) -> None:
        rows = (("a", 50.0), ("b", 50.0))
        for spread, doubted in (("poisson", False), ("even", True)):
            made = inputs(crowd(Arrivals(ceiling=50, spread=spread), hold(2, 10), rows=rows))  # type: ignore[arg-type]
            ran = Ran(made, after(0.1))
            for row, count in (("a", 12), ("b", 8)):  # 60 to 40: ten points off, of 20
                total = ran.window.all_of("round", row=row)
                no = next(
                    each.no
                    for each in ran.window.series
                    if each.level == "round" and each.row == row
                )
                ran.window.totals[no].passed = Histogram.of([1000] * count)
                self.assertGreater(total.passed.n, 0)
            doubts = "\n".join(ran.outcome().doubts)
            self.assertEqual("not 50 % as planned" in doubts, doubted, spread)

    def test_branches_and_logs_are_each_journeys_own(self) -> None:
        def choosing(key: str, branches: str) -> Journey:
            steps = "".join(
                f"      - name: {name}\n        steps:\n          - step: {name}\n            "
                "name: N\n"
                f"            requests: [{{request: r, address: '{{{{ env.base "
                f"}}}}/{key}{name}'}}]\n"
                for name in branches
            )
            return parse_journey(
                f"form: 1\njourney: {key}\nname: J\nrounds:\n  - {{step: tell, name: Tell, log: "
                f"here}}\n"
                f"  - step: which\n    name: W\n    choose: evenly\n    branches:\n{steps}"
            )

        rows = (("a", 1.0), ("b", 1.0))
        made = inputs(
            crowd(UserRounds(users=2, rounds=300), Stretch(stretch="hold", seconds=600), rows=rows),
            journeys=(choosing("a", "xy"), choosing("b", "uvw")),
        )
        ran = Ran(made, after(0.1))
        asked = Counter(data.split(b" ")[1] for data in ran.requests)
        self.assertEqual(ran.whole.rounds, [600, 0])
        self.assertEqual(asked, {b"/ax": 150, b"/ay": 150, b"/bu": 100, b"/bv": 100, b"/bw": 100})
        self.assertEqual(
            sum(kept.item == "log" for kept in ran.sinks[0].kept), 200
        )  # of the generator, not of each

    def test_one_that_fails_by_an_error_of_ours_ends_the_run(self) -> None:
        made = inputs(
            crowd(Users(), hold(2, 5), crowd="one"),
            crowd(Arrivals(ceiling=3), hold(2, 5), rows=(("b", 1),), crowd="two"),
        )

        def broken(data: bytes) -> Scripted:
            raise RuntimeError("thrown by the network")

        ran = Ran(made, broken)
        self.assertIn("RuntimeError", str(ran.whole.leavings))


class OneJourneyTwice(TestCase):
    """Two rows of the same journey, one of them with a client of its own."""

    def made(self, persona: str = "") -> FrozenRun:
        rows = (
            CrowdRow(row="left", journey="a"),
            CrowdRow(row="right", journey="a", persona=persona, share=50),
        )
        who = (
            {persona: Persona(form=1, persona=persona, headers=(("User-Agent", "Spyglass"),))}
            if persona
            else {}
        )
        crowd_of = Crowd(
            crowd="c", load=UserRounds(users=6, rounds=3), profile=(hold(1, 60),), rows=rows
        )
        made = inputs(replace(crowd_of, rows=tuple(replace(row, persona="") for row in rows)))
        return replace(made, crowds=(crowd_of,), personas=who)

    def test_its_requests_are_compiled_once_and_numbered_for_each_row(self) -> None:
        def scripts(made: FrozenRun) -> list[CompiledRequest]:
            shard = Shard(number=0, count=1, frozen=made, rows={}, secrets={})
            clock, sink = VirtualClock(), ListSink()
            recorder, health = Recorder(0, 0.0, 9.0), HealthWatch(sink.unsent)
            context = user_contexts(
                shard, ScriptedNetwork(after(0.1)), clock, recorder, health, sink.keep
            )
            return [each.script.every[0].requests[0] for each in context]

        left, right = scripts(self.made())
        self.assertIs(left.checks, right.checks)
        self.assertNotEqual((left.series, left.first_check), (right.series, right.first_check))
        left, right = scripts(self.made("walker"))
        self.assertIsNot(left.checks, right.checks)

    def test_each_row_has_its_own_figures(self) -> None:
        for persona in ("", "walker"):
            with self.subTest(persona):
                ran = Ran(self.made(persona), after(0.1))
                rounds = {
                    row: ran.all.all_of("round", row=row).passed.n for row in ("left", "right")
                }
                self.assertEqual(rounds, {"left": 12, "right": 6})
                spied = sum(b"Spyglass" in each for each in ran.requests)
                self.assertEqual((len(ran.requests), spied), (18, 6 if persona else 0))
                self.assertEqual(sum(ran.all.judged.values()), 18)


class Replaying(TestCase):
    def test_each_comes_at_its_instant_with_its_row_on_one_generator_or_three(self) -> None:
        times = "".join(
            f"{at},{row}\n" for at, row in ((0.5, "a"), (0.5, "b"), (2.25, "b"), (7.0, "a"))
        )
        made = inputs(
            crowd(Replayed(times=times, ceiling=10), rows=(("a", 1), ("b", 1))),
            measured=(0, 8),
            grace_s=2,
        )
        planned = [(each.at_s, each.row) for each in arrivals_of(made, 0, 0, 1)]
        self.assertEqual(planned, [(0.5, 0), (0.5, 1), (2.25, 1), (7.0, 0)])
        for shards in (1, 3):
            with self.subTest(shards):
                ran = Ran(made, after(0.1), shards=shards)
                self.assertEqual((ran.whole.arrivals, ran.whole.rounds), ([4, 0, 0], [4, 0]))
                started = Counter[int]()
                for message in ran.messages:
                    started[message.second] += message.arrivals[0]
                self.assertEqual(
                    {second: n for second, n in started.items() if n}, {0: 2, 2: 1, 7: 1}
                )
                self.assertEqual(
                    [ran.all.all_of("round", row=row).passed.n for row in ("a", "b")], [2, 2]
                )
                self.assertAlmostEqual(ran.times_ms()[1], 100, delta=0.5)
                self.assertEqual(ran.outcome().doubts, [])

    def test_above_the_ceiling_they_are_turned_away(self) -> None:
        ran = Ran(
            inputs(crowd(Replayed(times="1\n1\n1\n5\n", ceiling=2), rows=(("a", 1),)), grace_s=5),
            after(2.0),
        )
        self.assertEqual(ran.whole.arrivals, [3, 1, 0])
