"""Who comes: shares, planned users and arrivals, and what is wrong with a plan of them."""

import math
from itertools import islice
from typing import Any
from unittest import TestCase

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from dynamikos.core.dealing import Deal, used_up_s
from dynamikos.core.errors import TextError
from dynamikos.core.frozen import FrozenRun, every_check, every_series
from dynamikos.core.frozen.freeze import Inputs, freeze
from dynamikos.core.frozen.seating import (
    arrivals_of,
    numbers_before,
    planned_by,
    seats_of,
    slices_of,
)
from dynamikos.core.journeys import Journey, parse_journey
from dynamikos.core.plans import Crowd, CrowdRow, Plan, parse_plan, plan_problems, write_plan
from dynamikos.core.plans.crowds import crowd_problems
from dynamikos.core.plans.follows import follows, rows_needed
from dynamikos.core.plans.workloads import Arrivals, Held, UserRounds, Users
from dynamikos.core.profiles import Stretch, Turns, segments, users_at
from dynamikos.core.profiles.instants import evenly, expected, instants_s


def stretch(kind: str, seconds: float, **more: Any) -> Stretch:
    return Stretch(stretch=kind, seconds=seconds, **more)  # type: ignore[arg-type]


def journey(key: str, think_s: float = 1) -> Journey:
    return parse_journey(
        f"form: 1\njourney: {key}\nname: {key}\nrounds:\n  - step: s\n    name: S\n    think_s: "
        f"{think_s}\n"
        "    requests:\n      - {request: r, address: '{{ env.base }}/', checks: [{status: 200}]}\n"
    )


def run_of(*crowds: Crowd, seed: int = 1, journeys: tuple[Journey, ...] = ()) -> FrozenRun:
    plan = Plan(form=2, plan="p", name="P", environment="e", crowds=crowds)
    made = {each.journey: each for each in journeys} or {key: journey(key) for key in plan.journeys}
    return freeze(Inputs(plan=plan, journeys=made), run="r", seed=seed, checked=True)


def crowd(
    load: Any, *profile: Stretch, rows: tuple[tuple[str, float], ...] = (("a", 1),), **more: Any
) -> Crowd:
    made = tuple(CrowdRow(row=key, journey=key, share=share) for key, share in rows)
    return Crowd(**{"crowd": "c", "load": load, "profile": profile, "rows": made, **more})


class Sharing(TestCase):
    def test_the_published_sequences(self) -> None:
        for shares, wanted in (
            ([50, 30, 20], "1213121321"),
            ([8, 12, 7, 23, 19, 31], "64562465164356246546"),
            ([1], "1111"),
            ([0, 5, 0, 5], "2424"),
        ):
            turns = Turns(shares)
            self.assertEqual("".join(str(turns[k] + 1) for k in range(len(wanted))), wanted)

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.one_of(st.integers(0, 40), st.decimals(0, 9, places=2).map(float)),
            min_size=1,
            max_size=7,
        )
    )
    def test_every_prefix_is_within_the_bound(self, shares: list[float]) -> None:
        if not sum(shares):
            with self.assertRaises(ValueError):
                Turns(shares)
            return
        turns, whole, rows = Turns(shares), sum(shares), [share for share in shares if share]
        given_out = [0] * len(shares)
        bound = 1 - 1 / (2 * len(rows) - 2) if len(rows) > 1 else 0
        for k in range(300):
            given_out[turns[k]] += 1
            for share, count in zip(shares, given_out, strict=True):
                self.assertLessEqual(abs(count - (k + 1) * share / whole), bound + 1e-9)

    def test_rows_and_generators_are_not_confounded(self) -> None:
        made = run_of(
            crowd(Users(shares="users"), stretch("climb", 0, to=240), rows=(("a", 50), ("b", 50)))
        )
        cells = {
            (row, shard): sum(seat.row == row for seat in seats_of(made, shard, 2))
            for row in (0, 1)
            for shard in (0, 1)
        }
        self.assertEqual(set(cells.values()), {60})

    def test_shares_of_visits_give_more_users_to_those_who_take_longer(self) -> None:
        profile = stretch("climb", 0, to=70)
        for load, wanted in (
            (Users(), [10, 60]),
            (Users(shares="users"), [28, 42]),
            (Users(pacing_s=(8,)), [28, 42]),
        ):
            journeys = (journey("a", 1), journey("b", 4))
            made = run_of(crowd(load, profile, rows=(("a", 40), ("b", 60))), journeys=journeys)
            counts = [sum(seat.row == row for seat in seats_of(made, 0, 1)) for row in (0, 1)]
            self.assertEqual(counts, wanted, load)


KINDS = ("climb", "hold", "burst", "stairs")


class Curves(TestCase):
    def test_each_kind_of_stretch(self) -> None:
        for made, wanted in (
            (
                (stretch("climb", 10, to=10), stretch("burst", 5, to=40), stretch("hold", 5)),
                {5: 5, 12.5: 40, 17: 10},
            ),
            ((stretch("stairs", 30, to=30, steps=3),), {5: 10, 9.9: 10, 10: 20, 15: 20, 25: 30}),
            ((stretch("climb", 0, to=30), stretch("stairs", 20, to=10, steps=2)), {5: 20, 15: 10}),
            (
                (stretch("drawn", 10, points=((0, 4), (10, 24))), stretch("hold", 10)),
                {0: 4, 5: 14, 15: 24},
            ),
            ((stretch("drawn", 20, points=((5, 10), (10, 10))),), {2.5: 5, 7: 10, 15: 10}),
        ):
            with self.subTest(made):
                self.assertEqual({at: users_at(made, at) for at in wanted}, wanted)

    def test_arrivals_of_a_climb(self) -> None:
        curve = segments((stretch("climb", 10, to=20), stretch("hold", 20)))
        found = list(instants_s(curve, 1, evenly()))
        self.assertEqual(len(found), 500)
        for number, at in ((1, 0.707), (100, 9.975), (101, 10.025)):
            self.assertAlmostEqual(found[number - 1], at, 3)
        self.assertEqual(len(list(instants_s(curve, 60, evenly()))), 8)
        self.assertEqual(list(instants_s(segments((stretch("hold", 20),)), 1, evenly())), [])

    @settings(max_examples=60, deadline=None)
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(("climb", "hold", "burst", "stairs")),
                st.integers(1, 30),
                st.integers(0, 50),
            )
        )
    )
    def test_arrivals_agree_with_the_area(self, parts: list[tuple[str, int, int]]) -> None:
        made = [
            stretch(kind, s, to=to, **({"steps": 3} if kind == "stairs" else {}))
            for kind, s, to in parts
        ]
        curve = segments(made)
        found = list(instants_s(curve, 1, evenly()))
        self.assertEqual(found, sorted(found))
        self.assertAlmostEqual(len(found), expected(curve, 1), delta=0.500001)

    def test_poisson_ones_are_a_poisson_process(self) -> None:
        """Kolmogorov and Smirnov at α = 0.001: given their number they are uniform."""
        made = run_of(
            crowd(
                Arrivals(spread="poisson", ceiling=9),
                stretch("burst", 100, to=10),
                rows=(("a", 7), ("b", 3)),
            )
        )
        for seed in range(20):
            every = list(arrivals_of(replace(made, seed=seed), 0, 0, 1))
            for at in (
                [each.at_s for each in every],
                [each.at_s for each in every if each.row == 1],
            ):
                n = len(at)
                self.assertAlmostEqual(n, 1000 if len(at) == len(every) else 300, delta=150)
                gaps = [b - a for a, b in zip([0.0, *at], at, strict=False)]
                self.assertAlmostEqual(
                    sum(g * g for g in gaps) / n / (sum(gaps) / n) ** 2, 2.0, delta=0.8
                )
                distance = max(
                    max(abs(i / n - each / 100), abs((i + 1) / n - each / 100))
                    for i, each in enumerate(at)
                )
                self.assertLess(distance, 1.95 / math.sqrt(n), (seed, n))


class Seating(TestCase):
    CROWDS = (
        crowd(
            Users(),
            stretch("climb", 5, to=12),
            stretch("climb", 5, to=3),
            stretch("climb", 5, to=9),
            rows=(("a", 2), ("b", 1)),
            crowd="one",
        ),
        crowd(
            Arrivals(per="minute", ceiling=7),
            stretch("burst", 60, to=90),
            rows=(("c", 1),),
            crowd="two",
            starts_s=5,
        ),
        crowd(
            UserRounds(users=8, rounds=3, start_s=4),
            stretch("hold", 30),
            rows=(("d", 1), ("e", 1)),
            crowd="three",
        ),
    )

    def test_generators_share_what_one_alone_has(self) -> None:
        made = run_of(*self.CROWDS)
        alone = seats_of(made, 0, 1)
        for shards in (2, 3, 5):
            together = [seat for shard in range(shards) for seat in seats_of(made, shard, shards)]
            self.assertEqual(
                sorted(together, key=lambda s: s.number), sorted(alone, key=lambda s: s.number)
            )
            arriving = [
                each for shard in range(shards) for each in arrivals_of(made, 1, shard, shards)
            ]
            self.assertEqual(
                sorted(arriving, key=lambda a: a.number), list(arrivals_of(made, 1, 0, 1))
            )
            there = [planned_by(seats_of(made, shard, shards)) for shard in range(shards)]
            for second in range(40):
                self.assertEqual(
                    sum(each(second + 0.995) for each in there), made.planned_at(second + 0.995)
                )

    def test_numbers_are_unique_and_seats_are_taken_again(self) -> None:
        made = run_of(*self.CROWDS)
        seats = seats_of(made, 0, 1)
        numbers = [seat.number for seat in seats] + [
            each.number for each in arrivals_of(made, 1, 0, 1)
        ]
        self.assertEqual(len(numbers), len(set(numbers)))
        self.assertEqual(numbers_before(made.crowds)[0], 0)
        first = [seat for seat in seats if seat.crowd == 0]
        self.assertEqual(len({seat.seat for seat in first}), 12)
        self.assertEqual(len(first), 18)  # six of them come again
        self.assertEqual({seat.rounds for seat in seats if seat.crowd == 2}, {3})
        self.assertEqual(made.planned_peak, 20)  # 12 at second 5, and all eight of the third crowd

    def test_slices_go_to_the_seats_of_the_rows_that_use_them(self) -> None:
        made = run_of(*self.CROWDS)
        uses = [
            frozenset({"x"}) if row.row in ("b", "c") else frozenset[str]()
            for row in made.places.rows
        ]
        count, at = slices_of(made, uses, "x")
        self.assertEqual(count, 4 + 7)
        self.assertEqual(sorted(at.values()), list(range(1, 12)))
        for seat in seats_of(made, 0, 1):
            self.assertEqual(seat.seat in at, made.places.rows[seat.row].row == "b")

    def test_series_and_checks_are_numbered_through_the_rows(self) -> None:
        made = run_of(*self.CROWDS)
        series, checks = every_series(made), every_check(made)
        self.assertEqual([each.no for each in series], list(range(len(series))))
        self.assertEqual([(each.no, each.row) for each in checks], list(enumerate("abcde")))
        self.assertEqual([each.row for each in series if each.level == "round"], list("abcde"))


TEXT = """form: 2
plan: p
name: P
environment: e
crowds:
  - crowd: c
    load: {workload: users}
    profile: [{stretch: climb, to: 5, seconds: 5}]
    rows: [{row: a, journey: a}]
"""


class Wrong(TestCase):
    def test_what_is_said(self) -> None:
        fine = crowd(Users(), stretch("climb", 5, to=5))
        for made, wanted in (
            (crowd(Users()), "no stretches"),
            (crowd(Users(), stretch("climb", 5)), "says no 'to'"),
            (crowd(Users(), stretch("stairs", 5, to=3)), "says no 'steps'"),
            (crowd(Users(), stretch("hold", 5, steps=2)), "only stairs have"),
            (crowd(Users(), stretch("burst", 0, to=3)), "takes no time"),
            (crowd(Users(), stretch("drawn", 5)), "has no 'points'"),
            (
                crowd(Users(), stretch("drawn", 9, points=((3, 1), (2, 1)))),
                "before the one before it",
            ),
            (crowd(Users(), stretch("drawn", 5, points=((0, 1), (9, 1)))), "make it longer"),
            (crowd(Users(), stretch("hold", 5)), "never goes above zero"),
            (crowd(Users(), stretch("climb", 0.5, to=1)), "less than a second"),
            (
                crowd(Users(), stretch("climb", 5, to=5), rows=(("a", 0), ("b", 0))),
                "No row has a share above 0",
            ),
            (
                crowd(UserRounds(users=3, rounds=1, start_s=9), stretch("hold", 5)),
                "would start after its end",
            ),
            (
                crowd(Users(pacing_s=(5, 2)), stretch("climb", 5, to=5)),
                "the first has to be the smaller",
            ),
            (
                crowd(Held(ceiling=3, pacing_s=(5,)), stretch("climb", 5, to=5)),
                "Pacing is for users",
            ),
            (
                crowd(Users(), stretch("climb", 5, to=5), rows=(("a", 1), ("a", 1))),
                "Two rows have the key 'a'",
            ),
        ):
            with self.subTest(wanted):
                self.assertIn(wanted, "\n".join(crowd_problems([made])))
        self.assertEqual(crowd_problems([fine]), [])
        self.assertIn("Two crowds have the key 'c'", "\n".join(crowd_problems([fine, fine])))

    def test_what_a_plan_can_not_be_about(self) -> None:
        plan = parse_plan(TEXT)
        journeys = {"a": journey("a"), "b": journey("b")}
        for changed, wanted in (
            ({"measured": (5.0, 2.0)}, "has to lie within the run"),
            ({"measured": (0.0, 9.0)}, "which ends at 5 s"),
            ({"journey": "a"}, "a journey or profile of its own beside them"),
            ({"crowds": ()}, "names no journey"),
        ):
            with self.subTest(wanted):
                self.assertIn(wanted, "\n".join(plan_problems(replace(plan, **changed), journeys)))
        for more, wanted in (
            ("row: z", "the row 'z', which no crowd has"),
            ("journey: z", "the journey 'z', which no row performs"),
            ("step: z", "the step 'z', which the journeys do not have"),
            ("step: s", "which several journeys have (a, b); say which"),
            ("step: s, journey: b", ""),
            ("step: s, row: a", ""),
        ):
            with self.subTest(more):
                made = parse_plan(
                    TEXT + f"objectives: [{{objective: o, measure: p95, limit: 1, {more}}}]\n"
                )
                self.assertEqual(wanted in "\n".join(plan_problems(made, journeys)), True)
                self.assertEqual(bool(plan_problems(made, journeys)), bool(wanted))

    def test_what_the_text_can_not_be_is_said_with_its_line(self) -> None:
        for part, wrong in (
            ("workload: users", "workload: sometimes"),
            ("workload: users", "workload: arrivals"),
            ("to: 5", "to: -5"),
            ("to: 5", "to: many"),
            ("journey: a}", "journey: a, share: -1}"),
            ("journey: a}", "journey: a, share: most}"),
            ("{row: a, journey: a}", ""),
        ):
            with self.subTest(wrong), self.assertRaises(TextError) as caught:
                parse_plan(TEXT.replace(part, wrong))
            self.assertRegex(str(caught.exception), r"line \d+")
        rows = ", ".join(f"{{row: r{n}, journey: a}}" for n in range(1000))
        with self.assertRaises(TextError):
            parse_plan(TEXT.replace("{row: a, journey: a}", rows))
        points = ", ".join(f"[{n}, 1]" for n in range(10_001))
        with self.assertRaises(TextError):
            parse_plan(
                TEXT.replace("{stretch: climb, to: 5,", f"{{stretch: drawn, points: [{points}],")
            )

    def test_text_and_value_are_the_same(self) -> None:
        plan = parse_plan(TEXT)
        self.assertEqual(parse_plan(write_plan(plan)), plan)
        old = parse_plan(
            "form: 1\nplan: p\nname: P\njourney: a\nenvironment: e\nprofile: [{stretch: climb, to: "
            "5, seconds: 5}]\n"
        )
        self.assertEqual((old.form, [each.rows[0].journey for each in old.everybody()]), (2, ["a"]))


class Follows(TestCase):
    def test_littles_law_for_each_workload(self) -> None:
        profile = stretch("burst", 100, to=10)
        for load, users, rounds in (
            (Users(), 10, 1000),
            (Arrivals(ceiling=50), 10, 1000),
            (Arrivals(ceiling=4), 4, 1000),
            (Arrivals(per="minute", ceiling=50), 1, 16),
            (UserRounds(users=5, rounds=7), 5, 35),
        ):
            with self.subTest(load):
                plan = Plan(
                    form=2, plan="p", name="P", environment="e", crowds=(crowd(load, profile),)
                )
                after = follows(plan, {"a": journey("a", 1)}, lambda key, number: None)
                self.assertEqual(
                    (after.users, after.rounds, after.round_s, after.seconds),
                    (users, rounds, 1, 100),
                )

    def test_rows_of_several_times_are_added_up_one_by_one(self) -> None:
        """18 users with rounds of 2.5 s, 9 of 6 s and 3 of 2 s make 7.2 + 1.5 + 1.5 rounds a
        second.
        """
        rows, profile = (("a", 60.0), ("b", 30.0), ("c", 10.0)), stretch("burst", 100, to=30)
        journeys = {"a": journey("a", 2.5), "b": journey("b", 6), "c": journey("c", 2)}
        for load, per_s in (
            (Users(shares="users"), 10.2),
            (Users(), 30 / 3.5),
            (Users(pacing_s=(10,)), 3.0),
        ):
            plan = Plan(
                form=2,
                plan="p",
                name="P",
                environment="e",
                crowds=(crowd(load, profile, rows=rows),),
            )
            after = follows(plan, journeys, lambda key, number: None)
            self.assertAlmostEqual(after.rounds, per_s * 100, delta=1)
            self.assertAlmostEqual(after.exchanges_per_s, per_s)

    def test_rows_of_data_are_needed_by_those_who_use_them(self) -> None:
        rows, round_s = (("a", 3.0), ("b", 1.0)), {"a": 2.0, "b": 4.0}
        for load, deal, using, ends in (
            (
                Users(shares="users"),
                Deal(when="user", then="leave"),
                "b",
                None,
            ),  # 10 of 40, and 30 rows
            (Users(shares="users"), Deal(when="user", then="leave"), "ab", 0.0),
            (Users(shares="users"), Deal(when="round", then="stop"), "b", 12.0),  # ten every 4 s
            (
                Arrivals(ceiling=500),
                Deal(when="user", then="leave"),
                "a",
                1.0,
            ),  # 40 a second, 30 of them
            (
                Arrivals(ceiling=500),
                Deal(when="round", then="stop"),
                "b",
                3.06,
            ),  # the 31st of ten a second
            (
                UserRounds(users=40, rounds=3),
                Deal(when="round", then="stop"),
                "b",
                None,
            ),  # ten users, three rows each
            (UserRounds(users=40, rounds=4), Deal(when="round", then="stop"), "b", 12.0),
        ):
            plan = Plan(
                form=2,
                plan="p",
                name="P",
                environment="e",
                crowds=(crowd(load, stretch("burst", 60, to=40), rows=rows),),
            )
            spans, least = rows_needed(plan, round_s, using)
            found = used_up_s(deal, 30, spans, least)
            with self.subTest(load, deal=deal, using=using):
                self.assertEqual(found is None, ends is None, found)
                if ends is not None and found is not None:
                    self.assertAlmostEqual(found, ends, delta=0.05)

    def test_a_long_sequence_costs_little(self) -> None:
        made = run_of(
            crowd(
                Arrivals(ceiling=50), stretch("burst", 1e5, to=100), rows=(("a", 33.3), ("b", 66.7))
            )
        )
        self.assertEqual(len(list(islice(arrivals_of(made, 0, 0, 2), 50_000))), 50_000)


class TooMany(TestCase):
    def test_steps_and_requests_of_all_rows_are_bounded_together(self) -> None:
        rows = tuple((f"r{at}", 1.0) for at in range(150))
        one = journey("r0")
        many = replace(
            one, rounds=tuple(replace(one.rounds[0], step=f"s{at}") for at in range(200))
        )
        plan = Plan(
            form=2, plan="p", name="P", environment="e",
            crowds=(crowd(Users(), stretch("hold", 10), rows=rows),),
        )  # fmt: skip
        said = [
            each
            for each in plan_problems(plan, {key: many for key, _ in rows})
            if "figures of its own" in each
        ]
        self.assertEqual(len(said), 1)
        self.assertIn(
            "60,150, each with figures of its own; at most 50,000 can be in one plan", said[0]
        )
        few = plan_problems(plan, {key: one for key, _ in rows})
        self.assertFalse(any("figures of its own" in each for each in few))
