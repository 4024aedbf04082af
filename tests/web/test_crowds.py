"""The plan's page with crowds: what is typed is kept as typed, and what can't be is said."""

from typing import Any

from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.objectives import Objective
from dynamikos.core.plans import Plan, parse_plan
from dynamikos.core.plans.model import plan_problems
from dynamikos.core.plans.workloads import Arrivals, Held, Replayed, UserRounds, Users
from dynamikos.web.environments.models import Environment
from dynamikos.web.journeys import queries as journeys
from dynamikos.web.journeys.actions import create as create_journey
from dynamikos.web.plans import crowd_fields, crowds, objective_fields, queries
from dynamikos.web.projects.revisions import token
from dynamikos.web.runs import queries as run_queries
from dynamikos.web.runs.models import Run
from tests.web.support import PageCase
from tests.web.test_runs import generator

EMPTY = {"row": "", "journey": "", "row-name": "", "share": ""}
TEXT = """form: 2
plan: p
name: P
environment: e
crowds:
  - crowd: one
    name: One
    load: {workload: users, leaving: round, shares: users, pacing_s: [5, 10]}
    profile:
      - {stretch: climb, to: 30, seconds: 5}
      - {stretch: stairs, to: 60, steps: 3, seconds: 30}
      - {stretch: hold, seconds: 2.5}
      - {stretch: burst, to: 90, seconds: 4}
      - {stretch: drawn, seconds: 60, points: [[0, 5], [30, 20.5]]}
    rows:
      - {row: a, name: Ay, journey: j, share: 60}
      - {row: b, journey: k, share: 39.5}
  - crowd: two
    starts_s: 30
    load: LOAD
    profile: [{stretch: burst, to: 2.5, seconds: 60}]
    rows: [{row: c, journey: j}]
"""


def posted(plan: Plan) -> QueryDict:
    """The page's fields of a plan's crowds, as its form sends them."""
    data = QueryDict(mutable=True)
    for each in crowds.shown(plan, {}, {}):
        load: Any = each.crowd.load
        data.appendlist("crowd", each.crowd.crowd)
        at = f"c{each.no}-"
        data[at + "name"], data[at + "starts"] = each.crowd.name, f"{each.crowd.starts_s:g}"
        for row in each.crowd.rows:
            for name, value in (("row", row.row), ("journey", row.journey), ("row-name", row.name)):
                data.appendlist(at + name, value)
            data.appendlist(at + "share", f"{row.share:g}")
        for name, value in EMPTY.items():
            data.appendlist(at + name, value)
        data[at + "workload"] = each.crowd.load.key
        data[at + "pacing"], data[at + "pacing-to"] = each.pacing
        for name in ("users", "rounds", "per", "spread", "ceiling", "shares", "leaving"):
            data[at + name] = str(getattr(load, name, ""))
        for name in ("times", "rate", "length"):
            data[at + name] = str(getattr(load, name, "")).replace("\n", "\r\n")
        data[at + "replay-ceiling"] = str(getattr(load, "ceiling", ""))
        data[at + "start"] = f"{getattr(load, 'start_s', 0):g}"
        for stretch, points in each.curve:
            data.appendlist(at + "stretch", stretch.stretch)
            data.appendlist(at + "to", "" if stretch.to is None else f"{stretch.to:g}")
            data.appendlist(at + "seconds", f"{stretch.seconds:g}")
            data.appendlist(at + "steps", "" if stretch.steps is None else str(stretch.steps))
            data.appendlist(at + "points", points)
    return data


class Fields(PageCase):
    LOADS = (
        "{workload: rounds, users: 7, rounds: 3, start_s: 2, pacing_s: [4]}",
        "{workload: arrivals, per: minute, spread: poisson, ceiling: 20}",
        "{workload: held, per: hour, ceiling: 3}",
        '{workload: replayed, times: "0,a\\n1.5,b", rate: 2, ceiling: 3}',
        "{workload: users}",
    )

    def test_every_workload_goes_through_the_page_and_back(self) -> None:
        for text, kind in zip(
            self.LOADS, (UserRounds, Arrivals, Held, Replayed, Users), strict=True
        ):
            plan = parse_plan(TEXT.replace("LOAD", text))
            made: Any = crowd_fields.crowds_from(posted(plan), plan)
            self.assertEqual(made["crowds"], plan.crowds)
            self.assertIsInstance(made["crowds"][1].load, kind)
            self.assertEqual((made["journey"], made["profile"]), ("", ()))

    def test_rows_that_the_instants_name_have_the_shares_of_the_instants(self) -> None:
        rows = "rows: [{row: c, journey: j}, {row: d, journey: j}]"
        text = TEXT.replace("rows: [{row: c, journey: j}]", rows)
        plan = parse_plan(
            text.replace("LOAD", '{workload: replayed, times: "0,c\\n1,c\\n2,c\\n3,d", ceiling: 3}')
        )
        self.assertEqual([row.percent for row in crowds.shown(plan, {}, {})[1].rows], [75, 25])

    def test_a_plan_of_one_journey_stays_short(self) -> None:
        plan = queries.content(self.sample.plan)
        made: Any = crowd_fields.crowds_from(posted(plan), plan)
        self.assertEqual(
            (made["journey"], made["profile"], made["crowds"]), (plan.journey, plan.profile, ())
        )

    def test_what_can_not_be_read_is_said_with_its_place(self) -> None:
        plan = parse_plan(TEXT.replace("LOAD", self.LOADS[1]))
        for field, at, wrong, wanted in (
            ("c0-share", 1, "most", "Crowd 1, share of row 2: 'most' is not a number"),
            ("c0-share", 0, "-1", "is not between"),
            ("c0-share", 2, "5", "row 3 has no journey"),
            ("c0-seconds", 0, "long", "stretch 1: seconds"),
            ("c0-seconds", 0, "", "how long it takes is missing"),
            ("c0-steps", 1, "1", "is not between"),
            ("c0-steps", 1, "2.5", "is not a whole number"),
            ("c0-to", 3, "high", "where it goes"),
            ("c0-points", 4, "0 5, here", "“here” is no point"),
            ("c0-stretch", 0, "leap", "is no kind of stretch"),
            ("c1-ceiling", 0, "0", "users at most"),
            ("c1-per", 0, "year", "per second, minute or hour"),
            ("c1-workload", 0, "sometimes", "is no workload"),
            ("c0-pacing", 0, "often", "a round every: 'often' is not a number"),
            ("c0-leaving", 0, "never", "users leave after"),
            ("c0-starts", 0, "soon", "begins at second"),
        ):
            data = posted(plan)
            values = data.getlist(field)
            values[at] = wrong
            data.setlist(field, values)
            with self.subTest(field, wrong=wrong), self.assertRaises(DynamikosError) as caught:
                crowd_fields.crowds_from(data, plan)
            self.assertIn(wanted, str(caught.exception))

    def test_keys_are_kept_and_new_ones_are_unique(self) -> None:
        plan = parse_plan(TEXT.replace("LOAD", self.LOADS[1]))
        data = posted(plan)
        for name, values in (
            ("c0-row", ["a", "b", ""]),
            ("c0-journey", ["j", "", "j"]),
            ("c0-row-name", ["Ay", "", "C"]),
            ("c0-share", ["60", "", "40"]),
        ):
            data.setlist(name, values)
        made: Any = crowd_fields.crowds_from(data, plan)
        keys = [row.row for crowd in made["crowds"] for row in crowd.rows]
        self.assertEqual((keys[0], len(keys), len(set(keys))), ("a", 3, 3))
        data["another"] = "1"
        more: Any = crowd_fields.crowds_from(data, plan)
        self.assertEqual(len(more["crowds"]), 3)
        self.assertEqual(plan_problems(plan.with_crowds(more["crowds"]), {}), [])
        for name in ("c1-row", "c1-journey", "c1-row-name", "c1-share"):
            data.setlist(name, [""])
        del data["another"]
        fewer: Any = crowd_fields.crowds_from(data, plan)
        self.assertEqual([crowd.crowd for crowd in fewer["crowds"]], ["one"])

    def test_every_field_of_an_objective_goes_forth_and_back(self) -> None:
        typed = {
            "objective": ["slow", "", ""],
            "measure": ["p95", "throughput", "p95"],
            "step": ["find-slot", "", ""],
            "side": ["at most", "at least", "at most"],
            "limit": ["600", "5", ""],
            "until": ["book", "", ""],
            "every": ["10", "", ""],
            "allowed": ["20", "", ""],
            "grace": ["30", "", ""],
            "begins": ["start", "", ""],
            "then": ["stop now", "warn", "fail"],
            "in-a-row": ["3", "", ""],
        }
        data = QueryDict(mutable=True)
        for name, values in typed.items():
            data.setlist(name, values)
        slow, throughput = objective_fields.objectives_from(data)
        wanted = Objective(
            objective="slow",
            measure="p95",
            step="find-slot",
            limit=600,
            until="book",
            every_s=10,
            missed_allowed=20,
            grace_s=30,
            from_start=True,
            then="stop now",
            in_a_row=3,
        )
        self.assertEqual(slow, wanted)
        self.assertEqual(
            (throughput.at_least, throughput.then, throughput.limit), (True, "warn", 5)
        )
        for name, wrong, words in (
            ("limit", "fast", "Objective 1: limit"),
            ("measure", "speed", "no measure"),
            ("then", "cry", "can be done"),
            ("every", "0.5", "every so many seconds"),
            ("allowed", "120", "may be missed"),
        ):
            with self.subTest(name), self.assertRaisesRegex(DynamikosError, words):
                broken = data.copy()
                broken.setlist(name, [wrong, *typed[name][1:]])
                objective_fields.objectives_from(broken)


class Page(PageCase):
    def sent(self, data: QueryDict) -> Any:
        address = self.sample.address(f"load/{self.sample.plan.pk}")
        return self.client.post(address, dict(data.lists()), headers={"HX-Request": "true"})

    def test_rows_are_added_shown_and_run(self) -> None:
        sample = self.sample
        other = create_journey(sample.member, journeys.content(sample.journey), None)
        plan = queries.content(sample.plan)
        data = posted(plan)
        data.setlist("c0-row", ["users", ""])
        data.setlist("c0-journey", [sample.journey.key, other.key])
        data.setlist("c0-row-name", ["Observers", "Others"])
        data.setlist("c0-share", ["75", "25"])
        data["parent"], data["name"], data["environment"] = (
            token(sample.plan.head),
            "Two kinds",
            plan.environment,
        )
        answer = self.sent(data)
        self.assertContains(answer, "Others")
        self.assertContains(answer, 'class="person kind1"', count=25)
        page = self.client.get(self.sample.address(f"load/{sample.plan.pk}"))
        self.assertContains(page, "all of Others")
        self.assertContains(
            self.client.get(self.sample.address("load")), f"{sample.journey.key}, {other.key}"
        )
        wrong = data.copy()
        wrong["parent"] = token(queries.plan(sample.member, sample.plan.pk).head)
        wrong.setlist("c0-share", ["many", "25"])
        answer = self.sent(wrong)
        self.assertContains(answer, "is not a number", status_code=422)
        self.assertContains(answer, "many", status_code=422)

    def test_another_crowd_is_put_beside(self) -> None:
        sample = self.sample
        data = posted(queries.content(sample.plan))
        data["parent"], data["name"], data["another"] = token(sample.plan.head), "Evening", "1"
        data["environment"] = "practice-target"
        answer = self.sent(data)
        self.assertEqual(answer.headers["HX-Refresh"], "true")
        page = self.client.get(self.sample.address(f"load/{sample.plan.pk}"))
        self.assertContains(page, "begins at second", count=2)
        core = queries.content(queries.plan(sample.member, sample.plan.pk))
        self.assertEqual(len(core.crowds), 2)

    def test_instants_that_can_not_be_read_are_kept_and_the_page_says_what_is_wrong(self) -> None:
        sample, address = self.sample, self.sample.address(f"load/{self.sample.plan.pk}")
        for times, said in (
            ("1\r\nsoon", "Line 2 of the instants"),
            ("", "No instants are given"),
            ("5,tablet", "“tablet”, which the crowd has not"),
        ):
            with self.subTest(times):
                data = posted(queries.content(queries.plan(sample.member, sample.plan.pk)))
                data["parent"] = token(queries.plan(sample.member, sample.plan.pk).head)
                data["name"], data["environment"] = "Evening", "practice-target"
                data["c0-workload"], data["c0-times"], data["c0-replay-ceiling"] = (
                    "replayed",
                    times,
                    "3",
                )
                data["c0-rate"] = data["c0-length"] = "1"
                self.assertContains(self.sent(data), said)
                page = self.client.get(address)
                self.assertContains(page, said)
                self.assertContains(page, times.replace("\r", ""))


class Quickly(PageCase):
    def setUp(self) -> None:
        super().setUp()
        self.client.force_login(self.sample.accounts["ada"])

    def post(self, **fields: str) -> Any:
        given = {
            "address": "http://127.0.0.1:9/start",
            "how": "users",
            "many": "5",
            "seconds": "30",
            **fields,
        }
        return self.client.post(self.sample.address("load/address"), given)

    def test_an_owner_starts_a_run_of_an_address_alone(self) -> None:
        generator()
        answer = self.post()
        run = Run.objects.get()
        self.assertEqual(answer.status_code, 302)
        frozen = run_queries.frozen(run)
        self.assertEqual([str(each) for each in frozen.agreed], ["http://127.0.0.1:9"])
        self.assertEqual(
            (frozen.planned_peak, frozen.ends_s, frozen.values),
            (5, 30, {"env.site": "http://127.0.0.1:9"}),
        )
        before = Environment.objects.count()
        Run.objects.update(state="ended")
        self.assertEqual(self.post(how="arrivals", many="2.5").status_code, 302)
        self.assertEqual(Environment.objects.count(), before)  # one that agrees to it is there
        self.assertIsInstance(
            run_queries.frozen(Run.objects.latest("number")).crowds[0].load, Arrivals
        )

    def test_what_is_wrong_is_said_and_what_was_typed_is_kept(self) -> None:
        for fields, wanted in (
            ({"address": "shop"}, "not an http or https address"),
            ({"many": "some"}, "Users: &#x27;some&#x27; is not a number"),
            ({"many": "2.5"}, "is not a whole number"),
            ({"seconds": "long"}, "For how long"),
            ({}, "generator"),
        ):
            with self.subTest(wanted):
                answer = self.post(**fields)
                self.assertContains(answer, wanted, status_code=422)
                for value in fields.values():
                    self.assertContains(answer, f'value="{value}"', status_code=422)
        self.assertEqual(Run.objects.count(), 0)

    def test_who_may_not_agree_to_a_target_loads_nothing_new(self) -> None:
        generator()
        self.client.force_login(self.sample.accounts["bran"])
        self.assertEqual(self.post(address="http://127.0.0.1:8/").status_code, 403)
        self.assertEqual(
            (Run.objects.count(), Environment.objects.filter(name="127.0.0.1").count()), (0, 0)
        )
