"""Data, secrets and functions with real processes and the real database: leases over shards,
delivery, rows written back.
"""

import asyncio
import uuid

from django.db import connection
from django.utils import timezone
from msgspec.structs import replace

from dynamikos.core.checks import Check
from dynamikos.core.dealing import Deal
from dynamikos.core.frozen import canonical
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import Way
from dynamikos.core.profiles import Stretch
from dynamikos.engine.testing import frozen_of_one
from dynamikos.engine.users.dealing import Book
from dynamikos.fleet.leasing import DatabaseLessor
from dynamikos.web.datasets.actions import set_deal
from dynamikos.web.datasets.models import DataSet
from dynamikos.web.datasets.queries import all_rows
from dynamikos.web.datasets.uploads import import_csv
from dynamikos.web.environments import actions as environments
from dynamikos.web.functions.actions import STARTER, attempt, save
from dynamikos.web.functions.models import Attempt
from dynamikos.web.journeys import actions as journeys
from dynamikos.web.journeys.queries import content
from dynamikos.web.plans import actions as plans
from dynamikos.web.plans import queries as plan_queries
from dynamikos.web.plans.models import LoadPlan
from dynamikos.web.rehearsals import actions as rehearsals
from dynamikos.web.rehearsals import queries as rehearsed
from dynamikos.web.rehearsals.models import Rehearsal
from dynamikos.web.runs import actions, checked, queries
from dynamikos.web.runs.models import Delivery, Lease, Pile, Run, Shard
from tests.processes.support import ProcessCase, until

ROWS = 100_001


class LeasedRows(ProcessCase):
    def test_four_shards_take_each_of_100001_rows_once(self) -> None:
        """Four shards of unequal speed, each over a connection of the generators' role; one is lost
        on the way.
        """
        shards = self.running(1, 4, rows=ROWS)
        run = shards[0].run

        def lose() -> None:
            Shard.objects.filter(pk=shards[3].pk).update(state="lost")
            connection.close()

        async def program() -> tuple[list[list[int]], int]:
            lessors = [DatabaseLessor(self.generator_url, shard.pk) for shard in shards]
            books = [Book("x", lessor) for lessor in lessors]
            taken: list[list[int]] = [[], [], [], []]
            most = 0

            async def perform(number: int, speed: int) -> None:
                nonlocal most
                book = books[number]
                while True:
                    await book.more()
                    if book.used_up:
                        most = max(
                            most,
                            *(
                                (b._end - b._next) + sum(count for _, count in b._ahead)
                                for at, b in enumerate(books)
                                if at != 3
                            ),
                        )
                        return
                    for _ in range(speed):
                        if not book.ready or book.used_up:
                            break
                        taken[number].append(book.take())
                    if number == 3 and len(taken[3]) > 5_000:
                        await asyncio.to_thread(lose)
                        return  # lost: it says nothing any more
                    await asyncio.sleep(0)

            await asyncio.gather(
                perform(3, 20),
                *(perform(number, speed) for number, speed in ((0, 3), (1, 20), (2, 60))),
            )
            for lessor in lessors:
                await lessor.aclose()
            return taken, most

        taken, most = asyncio.run(program())
        every = [row for part in taken for row in part]
        self.assertEqual(len(every), len(set(every)))
        self.assertLessEqual(most, 1000)
        left = set(range(ROWS)) - set(every)
        self.assertLessEqual(len(left), 1000)  # what the lost one held
        # what the coordinator does when it is lost
        Lease.objects.filter(run=run, shard=3, begun=False).update(shard=-1)
        certain = {
            row
            for lease in Lease.objects.filter(run=run, shard=-1)
            for row in range(lease.first, lease.first + lease.count)
        }
        self.assertTrue(certain and certain <= left)

        async def after() -> list[int]:
            lessor = DatabaseLessor(self.generator_url, shards[0].pk)
            book, more = Book("x", lessor), []
            while True:
                await book.more()
                if book.used_up:
                    await lessor.aclose()
                    return more
                more.append(book.take())

        self.assertEqual(set(asyncio.run(after())), certain)

    def running(self, number: int, shards: int, **pile: object) -> list[Shard]:
        """The shards of a run under way that share the pile x."""
        inputs = frozen_of_one(plan_queries.content(self.sample.plan), content(self.sample.journey))
        run = Run.objects.create(
            project=self.sample.project,
            number=number,
            name="r",
            frozen=canonical(inputs),
            sha256="",
            state="running",
            begins_at=timezone.now(),
        )
        Pile.objects.create(run=run, name="x", **pile)
        return [Shard.objects.create(run=run, number=at, state="running") for at in range(shards)]

    def test_one_that_asks_no_more_keeps_nobody_waiting_when_it_has_used_its_last(self) -> None:
        """It was told that there is no more, or to wait, while it had a row left; and nobody of its
        own asks again.
        """

        async def program(shards: list[Shard], state: str) -> list[tuple[int, int] | None]:
            mine, other = (DatabaseLessor(self.generator_url, shard.pk) for shard in shards)
            said = [await mine.lease("x", 0), await other.lease("x", 0)]
            said.append(
                await other.lease("x", 0)
            )  # it has used its row, and waits for the one that I have left
            said.append(await mine.lease("x", 1))  # as it is asked ahead
            said.append(await other.lease("x", 0))
            book = Book("x", mine)
            book._next, book._end = 0, 1
            setattr(book, state, True)
            book._watching = asyncio.create_task(book._watch())
            said.append((book.take(), 1))
            end = asyncio.get_running_loop().time() + 30
            while await other.lease("x", 0) is not None and asyncio.get_running_loop().time() < end:
                await asyncio.sleep(0.05)
            said.append(await other.lease("x", 0))
            await book.close()
            await mine.aclose()
            await other.aclose()
            return said

        waits = (-1, 0)
        for number, state in enumerate(("_refused", "_told_to_wait"), 1):
            with self.subTest(state):
                said = asyncio.run(program(self.running(number, 2, rows=2), state))
                self.assertEqual(said, [(0, 1), (1, 1), waits, None, waits, (0, 1), None])

    def test_no_row_twice_before_the_pile_is_used_up_whatever_the_sizes(self) -> None:
        """Two and three shards of unequal speed, piles of 1 to 900 rows that start over: each time
        round every row once.
        """
        for number, (rows, count, wanted) in enumerate(
            ((1, 2, 4), (2, 3, 9), (30, 2, 150), (31, 3, 155), (900, 2, 2_000)), 1
        ):
            shards = self.running(number, count, rows=rows, endless=True)

            async def program(shards: list[Shard] = shards, wanted: int = wanted) -> list[int]:
                lessors = [DatabaseLessor(self.generator_url, shard.pk) for shard in shards]
                books = [Book("x", lessor) for lessor in lessors]
                taken: list[int] = []

                async def perform(at: int, book: Book) -> None:
                    while len(taken) < wanted:
                        await book.more()
                        taken.append(book.take())
                        if at:
                            await asyncio.sleep(0.02 * at)

                performing = [
                    asyncio.create_task(perform(at, book)) for at, book in enumerate(books)
                ]
                await asyncio.wait(performing, return_when=asyncio.FIRST_COMPLETED)
                for task in performing:
                    task.cancel()
                await asyncio.gather(*performing, return_exceptions=True)
                for book in books:
                    await book.close()
                for lessor in lessors:
                    await lessor.aclose()
                return taken

            taken = asyncio.run(program())
            for begin in range(0, len(taken) - rows + 1, rows):
                with self.subTest(rows=rows, shards=count, begin=begin):
                    self.assertEqual(
                        sorted(row % rows for row in taken[begin : begin + rows]), list(range(rows))
                    )

    def test_a_generator_reaches_leases_through_the_functions_only(self) -> None:
        import psycopg

        with psycopg.connect(self.generator_url, autocommit=True) as link:
            for statement in (
                "SELECT * FROM runs_lease",
                "UPDATE runs_pile SET next = 0",
                "SELECT * FROM environments_secret",
                "SELECT * FROM functions_module",
                "SELECT row FROM runs_writtenrow",
            ):
                with self.assertRaises(psycopg.errors.InsufficientPrivilege, msg=statement):
                    link.execute(statement)
            self.assertIsNone(
                link.execute("SELECT * FROM lease_rows(987654, 'x', 10, 0)").fetchone()
            )


JOURNEY = """form: 1
journey: staff
name: Staff
headers: [[X-Staff, "{{ secrets.staff }}"]]
rounds:
  - {step: sum, name: Sum, call: {function: starter.luhn, with: [[number, "{{ tickets.number }}"]], into: digit}}
  - step: front
    name: Front
    think_s: 0.3
    requests:
      - request: get
        address: "{{ env.observatory }}/?{{ tickets.number }}={{ digit }}&{{ secrets.staff | base64 }}"
        checks: [{contains: Borrow a telescope}, {contains: "{{ digit }}", then: count}]
  - {step: note, name: Note, keep: {into: used, row: [[number, "{{ tickets.number }}"], [digit, "{{ digit }}"],
      [user, "{{ user.number }}"], [staff, "{{ secrets.staff }}!"]]}}
"""  # noqa: E501


class Together(ProcessCase):
    def made(self) -> LoadPlan:
        sample = self.sample
        environments.set_secret(sample.member, sample.environment, "staff", "fell-secret-77")
        environments.set_way(
            sample.member, sample.environment, Way(headers=(("X-Load-Test", "yes"),))
        )
        save(sample.member, "starter", STARTER)
        tickets = import_csv(
            sample.member,
            b"number\n" + b"".join(b"%d\n" % (10_000 + at) for at in range(4_000)),
            "tickets.csv",
        )
        set_deal(sample.member, tickets, Deal(then="leave"))
        sample.member.project.functions_agreed = (
            True  # where the tests' machine can't take the network away
        )
        sample.member.project.save()
        journey = journeys.create(sample.member, parse_journey(JOURNEY))
        core = replace(
            plan_queries.content(sample.plan),
            journey=journey.key,
            objectives=(),
            name="Staff",
            generators=2,
            grace_s=5,
            profile=(Stretch(stretch="climb", to=8, seconds=1), Stretch(stretch="hold", seconds=4)),
        )
        return plans.add(sample.member, core)

    def test_two_generators_deal_one_pile_call_functions_and_write_back(self) -> None:
        plan = self.made()
        self.start_fleet()
        self.spawn(
            "second", "dynamikos.cli", "generator", DYNAMIKOS_GENERATOR_URL=self.generator_url
        )
        from dynamikos.web.places.queries import living

        until(lambda: len(living()) == 2)
        run = actions.start(self.sample.member, plan)
        until(
            lambda: Delivery.objects.count() == 2 or Run.objects.get(pk=run.pk).is_over, every=0.01
        )
        until(lambda: Run.objects.get(pk=run.pk).is_over)
        run = Run.objects.get(pk=run.pk)
        inputs = queries.frozen(run)
        self.assertEqual((run.ended, run.outcome["failed"]), ("finished", 0), run.outcome)
        self.assertEqual(queries.kinds(queries.window(run, inputs, 0, 60)), [])
        # who got what: over both generators no row twice, and each is one that was sent and written
        # down
        got = [row for _, _, name, _, _, row in queries.all_dealt(run, inputs) if name == "tickets"]
        self.assertGreater(len(got), 40)
        self.assertEqual(len(got), len(set(got)))
        self.assertEqual({shard for _, shard, _, _, _, _ in queries.all_dealt(run, inputs)}, {0, 1})
        used = DataSet.objects.get(key="used")
        written = list(all_rows(used))
        self.assertEqual(used.columns, ["number", "digit", "user", "staff"])
        self.assertEqual(len({row[0] for row in written}), len(written))
        self.assertTrue({int(row[0]) - 10_000 + 1 for row in written} <= set(got))
        self.assertTrue(
            all(row[1][:-1] == row[0] and sum(_doubled(row[1])) % 10 == 0 for row in written)
        )  # the check digit, calculated here again
        self.assertEqual({row[3] for row in written}, {"•••••!"})
        # what is left of the leases went back
        self.assertEqual(
            sum(lease.count for lease in Lease.objects.filter(run=run).exclude(shard=-1)), len(got)
        )
        # the secret arrived, and is nowhere to be read
        self.assertFalse(Delivery.objects.exists())
        self.assertEqual((inputs.secret_names, list(inputs.fingerprints)), (("staff",), ["staff"]))
        kept = [row for _, row in queries.kept(run, 0, 60)]
        shown = str(kept) + str(bytes(run.frozen))
        self.assertNotIn("fell-secret-77", shown)
        self.assertNotIn("ZmVsbC1zZWNyZXQtNz", shown)  # its base64
        headers = [dict(each.sent_headers) for each in kept if each.method]
        self.assertEqual(
            {(each["X-Load-Test"], each["X-Staff"]) for each in headers}, {("yes", "•••••")}
        )
        lines = checked.checks(run, inputs, 0, 60)
        counts = {line.place.check: (line.passed, line.failed) for line in lines}
        self.assertEqual(counts[Check(contains="Borrow a telescope")][1], 0)
        asked, missed = counts[Check(contains="{{ digit }}", then="count")]
        self.assertEqual((asked, missed), (0, counts[Check(contains="Borrow a telescope")][0]))

    def test_a_rehearsal_shows_values_rows_and_items_and_masks_the_secret(self) -> None:
        plan = self.made()
        self.start_fleet()
        journey = next(iter(plan_queries.journeys_of(plan, plan_queries.content(plan)).values()))
        assert journey is not None
        found = rehearsals.ask(self.sample.member, journey, row=7)
        until(lambda: Rehearsal.objects.get(pk=found.pk).over)
        found = Rehearsal.objects.get(pk=found.pk)
        rows = rehearsed.replayed(found)
        self.assertEqual(
            (found.state, bytes(found.secrets), [row.kept.item for row in rows]),
            ("passed", b"", ["call", "", "keep"]),
        )
        exchange = rows[1]
        self.assertEqual(exchange.kept.rows, {"tickets": 7})
        self.assertIn("starter.luhn(number='10006')", rows[0].kept.error)
        values = {
            name: (before, after, mark)
            for name, before, after, mark in rehearsed.values_of(rows, rows[0])
        }
        self.assertEqual(values["digit"][2], "+")
        self.assertIn("tickets.number (row 7)", values)
        self.assertNotIn("fell-secret-77", str([row.kept for row in rows]))
        self.assertFalse(DataSet.objects.filter(key="used").exists())  # written in runs only

    def test_functions_are_tried_on_a_generator(self) -> None:
        self.made()
        self.start_fleet()
        save(
            self.sample.member,
            "wrong",
            "def slow():\n    while True: pass\n\ndef bad(n):\n    return 1 / int(n)\n",
        )
        for function, given, state, words in (
            ("starter.total", {"prices": "[1, 2]", "tax": "10"}, "returned", "3.3"),
            ("wrong.bad", {"n": "0"}, "failed", "wrong.py, line 5: ZeroDivisionError"),
            ("wrong.slow", {}, "failed", "longer than 1 s"),
        ):
            made = attempt(self.sample.member, function, given)
            until(lambda pk=made.pk: Attempt.objects.get(pk=pk).state != "asked")
            found = Attempt.objects.get(pk=made.pk)
            self.assertEqual(found.state, state, found.answer)
            self.assertIn(words, found.answer)
        self.assertEqual(uuid.UUID(str(found.pk)).version, 7)


def _doubled(number: str) -> list[int]:
    """The digits as Luhn's formula adds them up."""
    return [
        d if at % 2 == 0 else d * 2 - 9 * (d > 4)
        for at, d in enumerate(int(sign) for sign in reversed(number))
    ]
