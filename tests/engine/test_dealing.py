"""Who gets which row in a run: every rule in virtual time, leases over shards, rows of a big table
in a file.
"""

import asyncio
import random
from unittest import TestCase

from dynamikos.core.dealing import Deal, packed, raw_rows
from dynamikos.core.frozen import DataPile
from dynamikos.engine.rows import RowFile
from dynamikos.engine.users.dealing import Book, specs_of
from tests.engine.support import frozen, ok, perform, totals
from tests.engine.test_items import asked

ROWS = [[str(at), f"p{at}"] for at in range(1, 7)]
ROUND = """
rounds:
  - step: g
    name: G
    think_s: 1
    requests: [{request: a, address: "{{ env.base }}/{{ user.number }}/{{ observers.email }}"},
        {request: b, address: "{{ env.base }}/b{{ observers.email }}"}]
"""


def dealt(deal: Deal, *, users: int = 2, hold_s: float = 4.5, rows: list[list[str]] = ROWS):  # type: ignore[no-untyped-def]
    made = frozen(ROUND, users=users, hold_s=hold_s, rows=rows, deal=deal)
    ended, sink, network = perform(made, ok, rows=rows)
    return (
        ended,
        sink,
        [each for each in asked(network) if "/b" not in each],
        asked(network),
        totals(made, sink),
    )


def of(user: int, paths: list[str]) -> list[int]:
    return [int(path.split("/")[2]) for path in paths if path.startswith(f"/{user}/")]


class Rules(TestCase):
    def test_one_pile(self) -> None:
        _, sink, paths, _, _ = dealt(Deal())
        # eight takings of six rows, in turn
        self.assertEqual(sorted(of(1, paths) + of(2, paths))[:6], [1, 1, 2, 2, 3, 4])
        self.assertEqual(
            sorted(
                (turn, row, user)
                for message in sink.messages
                for _, user, turn, row in message.dealt
            )[:2],
            [(0, 0, 1), (0, 1, 2)],
        )

    def test_used_up_the_user_leaves_or_the_run_stops_or_all_stay(self) -> None:
        ended, sink, paths, _, _ = dealt(Deal(then="leave"), hold_s=20)
        self.assertEqual(sorted(of(1, paths) + of(2, paths)), [1, 2, 3, 4, 5, 6])
        self.assertEqual(ended, "finished")
        self.assertEqual(
            {each.words: each.count for message in sink.messages for each in message.leavings},
            {"rows of observers used up": 2},
        )
        ended, sink, paths, _, _ = dealt(Deal(then="stop"), hold_s=20)
        self.assertEqual(ended, "stopped: rows of observers used up")
        self.assertLess(max(message.second for message in sink.messages), 8)
        _, _, paths, _, _ = dealt(Deal(then="stay"), hold_s=6.5)
        self.assertEqual(of(1, paths)[-2:] + of(2, paths)[-2:], [5, 5, 6, 6])

    def test_slices_whole_tables_once_per_user_and_run(self) -> None:
        _, _, paths, _, _ = dealt(Deal(whose="slice", then="leave"), hold_s=9)
        self.assertEqual((of(1, paths), of(2, paths)), ([1, 2, 3], [4, 5, 6]))
        _, _, paths, _, _ = dealt(Deal(whose="whole"))
        self.assertEqual((of(1, paths)[:3], of(2, paths)[:3]), ([1, 2, 3], [1, 2, 3]))
        _, _, paths, _, _ = dealt(Deal(when="user"))
        self.assertEqual((set(of(1, paths)), set(of(2, paths))), ({1}, {2}))
        _, _, paths, _, _ = dealt(Deal(when="run", order="shuffled"))
        self.assertEqual(len(set(of(1, paths) + of(2, paths))), 1)

    def test_each_use_is_each_request(self) -> None:
        _, _, _, every, _ = dealt(Deal(when="use"), users=1)
        self.assertEqual(every[:4], ["/1/1", "/b2", "/1/3", "/b4"])

    def test_an_empty_table_stops_the_run_with_words(self) -> None:
        ended, sink, paths, _, _ = dealt(Deal(), rows=[])
        self.assertEqual((ended, paths), ("stopped: observers has no rows", []))
        self.assertIn(
            "observers has no rows",
            {each.words for message in sink.messages for each in message.leavings},
        )

    def test_columns_apart_and_following(self) -> None:
        piles = [
            DataPile(
                key="a", columns=("x", "y"), rows=6, deal=Deal(apart=("y",), order="shuffled")
            ),
            DataPile(key="b", columns=("z", "own"), rows=3, deal=Deal(follow="a", apart=("own",))),
        ]
        specs = specs_of(
            piles, {"a": ROWS, "b": [["u", "1"], ["v", "2"], ["w", "3"]]}, None, alone=True
        )
        self.assertEqual(
            [(spec.name, [name for _, name in spec.columns], spec.followed) for spec in specs],
            [
                ("a", ["a.x"], None),
                ("a.y", ["a.y"], None),
                ("b", ["b.z"], 0),
                ("b.own", ["b.own"], None),
            ],
        )
        made = frozen(
            ROUND.replace("observers.email", "observers.password"),
            users=1,
            hold_s=5.5,
            rows=ROWS,
            deal=Deal(order="shuffled", apart=("password",)),
        )
        _, sink, _ = perform(made, ok, rows=ROWS)
        taken = [(pile, row) for message in sink.messages for pile, _, _, row in message.dealt]
        self.assertNotEqual(
            [row for pile, row in taken if pile == 0], [row for pile, row in taken if pile == 1]
        )


class Lessor:
    """Leases as the database grants them, with what would be sure of a lost shard."""

    def __init__(self, rows: int, size: int = 300) -> None:
        self.rows, self.size, self.next = rows, size, 0
        self.free: list[tuple[int, int]] = []
        self.held: dict[int, list[tuple[int, int]]] = {}

    def of(self, shard: int) -> "Lessor.Own":
        return Lessor.Own(self, shard)

    class Own:
        def __init__(self, all_of: "Lessor", shard: int) -> None:
            self.all, self.shard = all_of, shard

        async def wanted(self, pile: str) -> bool:
            return False

        async def lease(self, pile: str, left: int) -> tuple[int, int] | None:
            await asyncio.sleep(random.Random(self.all.next).random() / 1000)
            self.all.held[self.shard] = []
            if self.all.free:
                granted = self.all.free.pop()
            elif self.all.next < self.all.rows:
                granted = (self.all.next, min(self.all.size, self.all.rows - self.all.next))
                self.all.next += granted[1]
            else:
                return None
            self.all.held[self.shard].append(granted)
            return granted

        async def give_back(self, pile: str, first: int, count: int) -> None:
            self.all.free.append((first, count))


class Leases(TestCase):
    def test_four_shards_take_every_row_once_and_none_is_dry_while_another_holds_more_than_a_block(
        self,
    ) -> None:
        async def program() -> tuple[list[int], int]:
            lessor, taken, most_held = Lessor(100_001), [], 0
            books = [Book("x", lessor.of(shard)) for shard in range(4)]

            async def shard(book: Book, speed: int) -> None:
                nonlocal most_held
                while True:
                    await book.more()
                    if book.used_up:
                        held = [
                            (b._end - b._next) + sum(count for _, count in b._ahead) for b in books
                        ]
                        most_held = max(most_held, *held)
                        return
                    for _ in range(speed):
                        if not book.ready or book.used_up:
                            break
                        taken.append(book.take())
                    await asyncio.sleep(0)

            await asyncio.gather(
                *(shard(book, speed) for book, speed in zip(books, (1, 7, 20, 50), strict=True))
            )
            return taken, most_held

        taken, most_held = asyncio.run(program())
        self.assertEqual(sorted(taken), list(range(100_001)))
        self.assertLessEqual(most_held, 1000)

    def test_what_is_left_goes_back_and_a_lost_shard_loses_only_what_it_had_begun(self) -> None:
        async def program() -> None:
            lessor = Lessor(2_000)
            one, two = Book("x", lessor.of(0)), Book("x", lessor.of(1))
            await one.more()
            await two.more()
            mine = {one.take() for _ in range(10)}
            lost = {two.take() for _ in range(290)}
            await one.close()
            await asyncio.sleep(0.01)
            certain = {at for first, count in lessor.held[1] for at in range(first, first + count)}
            self.assertEqual(len(certain), 300)
            self.assertFalse(certain & lost)
            left = {at for first, count in lessor.free for at in range(first, first + count)}
            self.assertFalse(left & (mine | lost | certain))

        asyncio.run(program())


class BigTables(TestCase):
    def test_rows_in_a_file(self) -> None:
        rows = [[f"ö{at}", "x" * (at % 50)] for at in range(3_500)]
        file = RowFile()
        for block in packed(rows):
            file.add(raw_rows(block.body, block.sha256))
        file.finish()
        self.assertEqual(len(file), 3_500)
        self.assertEqual(
            [file[at] for at in (0, 999, 1000, 3_499)], [rows[at] for at in (0, 999, 1000, 3_499)]
        )
        with self.assertRaises(IndexError):
            file[3_500]
        file.close()
        empty = RowFile().finish()
        self.assertEqual(len(empty), 0)
        empty.close()
