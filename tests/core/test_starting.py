"""What plans begin from, rows from a sheet, and shares that are mended."""

from unittest import TestCase

from dynamikos.core.errors import PlanError
from dynamikos.core.plans import CrowdRow, Plan, parse_plan, plan_problems, write_plan
from dynamikos.core.plans.mending import mended
from dynamikos.core.plans.sheet import guessed, read_sheet, rows_from
from dynamikos.core.plans.starting import STARTS, started
from dynamikos.core.profiles import duration_s, peak

ROW = CrowdRow(row="users", journey="j")
JOURNEYS, PERSONAS = {"sky browser": "sky-browser", "booking": "booking"}, {"phone": "phone"}
SHEET = (
    "Who\tDoes\tDevice\tHow many\t\n"
    "Browsers\tSky browser\tphone\t4,000\t\n"
    "Observers\tBooking\t\t350\t\n"
    "\t\t\t\t\n"
    "Late ones\t\tphone\tmany\t\n"
    "Staff\tRoofing\t\t12\t\n"
)


class Beginning(TestCase):
    def test_each_makes_a_plan_that_can_run(self) -> None:
        for each in STARTS:
            with self.subTest(each.key):
                crowd, objectives = started(each.key, dict(each.asks), (ROW,))
                plan = Plan(
                    form=2, plan="p", name="P", environment="e", objectives=objectives
                ).with_crowds((crowd,))
                self.assertEqual(plan_problems(parse_plan(write_plan(plan)), {}), [])
                self.assertAlmostEqual(
                    duration_s(crowd.profile), 60 * dict(each.asks)["minutes"], delta=2
                )
                self.assertTrue(each.when.endswith("."))
                self.assertEqual(objectives[0].measure, "failure-rate")

    def test_they_go_where_they_say(self) -> None:
        self.assertEqual(
            peak(started("stairs", {"users": 80, "minutes": 8}, (ROW,))[0].profile), 80
        )
        self.assertEqual(
            peak(started("spike", {"users": 10, "rush": 90, "minutes": 10}, (ROW,))[0].profile), 90
        )
        self.assertEqual(peak(started("baseline", {"minutes": 1}, (ROW, ROW, ROW))[0].profile), 3)
        self.assertTrue(started("stairs", {"users": 80, "minutes": 8}, (ROW,))[1][1].stops)

    def test_what_is_missing_is_said(self) -> None:
        with self.assertRaisesRegex(PlanError, "needs users and minutes"):
            started("day", {}, (ROW,))
        with self.assertRaisesRegex(PlanError, "nothing that a plan begins from"):
            started("night", {}, (ROW,))


class Sheets(TestCase):
    def test_a_pasted_sheet_with_mistakes_in_it(self) -> None:
        sheet = read_sheet(SHEET)
        self.assertEqual(
            (sheet.head, len(sheet.rows)), (("Who", "Does", "Device", "How many"), 4)
        )  # empty ones are out
        columns = guessed(sheet)
        self.assertEqual(columns["name"], 0)
        taken = rows_from(
            sheet, {"name": 0, "journey": 1, "persona": 2, "share": 3}, JOURNEYS, PERSONAS, set()
        )
        found = [(row.row, row.journey, row.persona, row.share) for row in taken.rows]
        self.assertEqual(
            found,
            [
                ("browsers", "sky-browser", "phone", 4000), ("observers", "booking", "", 350),
                # the journey of a merged cell is that of the line above
                ("late-ones", "booking", "phone", 0),
            ],
        )  # fmt: skip
        self.assertEqual(len(taken.wrong), 2)
        self.assertIn("“many” is no share", taken.wrong[0])
        self.assertIn("no journey “Roofing”", taken.wrong[1])

    def test_signs_and_numbers_as_people_write_them(self) -> None:
        for text, share in (
            ("a;12,5 %", 12.5),
            ("a\t1.5", 1.5),
            ('"a","4,000"', 4000),
            ("a\t4 000", 4000),
            ("a;7%", 7),
            ("a;1.234,5", 1234.5),
            ("a;12.345,5", 12_345.5),
            ("a\t1,234.5", 1234.5),
        ):
            with self.subTest(text):
                sheet = read_sheet(text)
                taken = rows_from(sheet, {"journey": 0, "share": 1}, {"a": "a"}, {}, set())
                self.assertEqual([row.share for row in taken.rows], [share])

    def test_what_can_not_be_read(self) -> None:
        for text, words in (
            ("  \n ", "is empty"),
            ("\t\t\n;;", "nothing stands"),
            ("a\n" * 300, "at most 200"),
            ("a\t" + "x" * 200_000, "can't be read"),
        ):
            with self.subTest(words), self.assertRaisesRegex(PlanError, words):
                read_sheet(text)
        with self.assertRaisesRegex(PlanError, "which column names the journey"):
            rows_from(read_sheet("a\tb"), {"journey": None}, {}, {}, set())


def plan(*rows: tuple[str, str, float]) -> Plan:
    made = "".join(
        f"      - {{row: {key}, journey: {journey}, share: {share}}}\n"
        for key, journey, share in rows
    )
    return parse_plan(
        "form: 2\nplan: p\nname: P\nenvironment: e\ncrowds:\n  - crowd: c\n"
        f"    profile: [{{stretch: hold, seconds: 9}}]\n    rows:\n{made}"
    )


def shares(found: Plan) -> dict[str, float]:
    return {row.row: row.share for crowd in found.everybody() for row in crowd.rows}


class Mending(TestCase):
    def test_scaled_to_a_hundred_but_for_what_is_locked(self) -> None:
        made = plan(("a", "j", 350), ("b", "k", 4000), ("c", "l", 12))
        self.assertAlmostEqual(sum(shares(mended(made, "sum")).values()), 100)
        self.assertEqual(shares(mended(made, "sum"))["a"], 8.02)
        locked = shares(mended(plan(("a", "j", 40), ("b", "k", 50), ("c", "l", 50)), "sum", {"a"}))
        self.assertEqual(locked, {"a": 40, "b": 30, "c": 30})
        with self.assertRaisesRegex(PlanError, "unlock one"):
            mended(plan(("a", "j", 140), ("b", "k", 50)), "sum", {"a"})

    def test_nobody_and_twice(self) -> None:
        made = plan(("a", "j", 40), ("b", "j", 20), ("c", "k", 0))
        self.assertEqual(shares(mended(made, "zero")), {"a": 40, "b": 20})
        self.assertEqual(shares(mended(made, "twice")), {"a": 60, "c": 0})
        with self.assertRaises(PlanError):
            mended(made, "all of it")
