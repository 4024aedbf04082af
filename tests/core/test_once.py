from unittest import TestCase

from msgspec.structs import replace

from dynamikos.core.plans import Crowd, CrowdRow, Plan, plan_problems
from dynamikos.core.plans.model import Keep
from dynamikos.core.plans.start_overrides import StartOverrides
from dynamikos.core.plans.workloads import Arrivals, UserRounds
from dynamikos.core.profiles import Stretch, highest

ROWS = (CrowdRow(row="a", journey="sky"), CrowdRow(row="b", journey="sky", share=50))
CLIMB = (Stretch(stretch="climb", to=40, seconds=60), Stretch(stretch="hold", seconds=100))
PLAN = Plan(
    form=2,
    plan="p",
    name="P",
    environment="e",
    new_seed=True,
    measured=(60, 160),
    crowds=(
        Crowd(crowd="users", profile=CLIMB, rows=ROWS[:1]),
        Crowd(
            crowd="guests",
            starts_s=20,
            load=Arrivals(ceiling=100),
            profile=(Stretch(stretch="drawn", seconds=50, points=((0, 3), (50, 7))),),
            rows=ROWS[1:],
        ),
    ),
)


class OneStart(TestCase):
    def test_all_levels_and_lengths_and_nothing_else(self) -> None:
        made = StartOverrides(load=0.25, length=0.5, think=2, generators=2, seed=9).of(PLAN)
        users, guests = made.everybody()
        self.assertEqual([highest(users.profile), users.ends_s], [10, 80])
        self.assertEqual((guests.starts_s, guests.load.ceiling), (10, 25))  # type: ignore[union-attr]
        self.assertEqual(guests.profile[0].points, ((0, 0.75), (25, 1.75)))
        self.assertEqual((made.measured, made.think_factor, made.generators), ((30, 80), 2, 2))
        self.assertEqual((made.seed, made.new_seed, made.drawn_seed()), (9, False, 9))
        self.assertEqual(plan_problems(made, {}), [])
        self.assertEqual(
            StartOverrides(load=0.25, length=0.5, think=2, generators=2, seed=9).says(PLAN),
            "This start only: load × 0.25, length × 0.5, think times × 2, generators 2, seed 9.",
        )

    def test_more_is_kept_of_one_start(self) -> None:
        once = StartOverrides(keep=Keep(failing=100))
        self.assertEqual((once.of(PLAN).keep.failing, PLAN.keep.failing), (100, 20))
        self.assertEqual(
            once.says(PLAN), "This start only: kept 100 failing, 3 slowest, 20 sampled."
        )

    def test_nothing_asked_is_nothing_changed(self) -> None:
        self.assertEqual((StartOverrides().of(PLAN), StartOverrides().says(PLAN)), (PLAN, ""))

    def test_there_are_no_parts_of_users(self) -> None:
        rounds = replace(PLAN.crowds[0], load=UserRounds(users=3, rounds=2, start_s=9))
        made = StartOverrides(load=0.1, length=2).of(replace(PLAN, crowds=(rounds,)))
        self.assertEqual(made.everybody()[0].load, UserRounds(users=1, rounds=2, start_s=18))
        self.assertEqual(highest(StartOverrides(load=1 / 3).of(PLAN).everybody()[0].profile), 13)


class Copies(TestCase):
    def test_a_crowd_once_more_has_keys_of_its_own(self) -> None:
        made = PLAN.with_copy_of(PLAN.crowds[0]).with_copy_of(PLAN.crowds[0])
        self.assertEqual(
            [each.crowd for each in made.crowds], ["users", "guests", "users-2", "users-3"]
        )
        self.assertEqual([each.rows[0].row for each in made.crowds], ["a", "b", "a-2", "a-3"])
        self.assertEqual(plan_problems(made, {}), [])
