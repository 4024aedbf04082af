"""Rows for a shard's users: the rules of core.dealing, with takings of shared piles leased
ahead.
"""

import asyncio
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass

from dynamikos.core.dealing import Deal, row_of
from dynamikos.core.frozen import DataPile
from dynamikos.engine.failures import Failure
from dynamikos.engine.ports import Lessor
from dynamikos.engine.users.user_state import UserState

LOW = 250  # takings left at which the next are asked for
WAIT_S, WANTED_S = 0.05, 0.5
Rows = Sequence[Sequence[str]]


class Book:
    """Takings of one shared pile: those at hand, and leases fetched ahead. A lease is begun only
    after something was asked for later: the coordinator then knows of a lost shard that what was
    granted last was certainly not dealt. What is not used goes back when somebody else waits for
    it, so that no row is dealt again before the pile is used up.
    """

    def __init__(self, pile: str, lessor: Lessor | None) -> None:
        """Without a lessor the shard is the only one: all takings are its own."""
        self._pile, self._lessor = pile, lessor
        self._next, self._end = 0, 0 if lessor is not None else 1 << 62
        self._ahead: list[tuple[int, int]] = []
        self._sure = 0  # how many of those ahead may be begun
        self._asking: asyncio.Task[None] | None = None
        self._watching: asyncio.Task[None] | None = None
        self._refused = False
        self._told_to_wait = False
        self._turn = asyncio.Lock()

    @property
    def used_up(self) -> bool:
        return self._refused and not self._ahead and self._next >= self._end

    @property
    def ready(self) -> bool:
        """Whether a taking is at hand now, or it is known that there is none."""
        return self._next < self._end or self._sure > 0 or (self._refused and not self._ahead)

    @property
    def left(self) -> int:
        return self._end - self._next + sum(count for _, count in self._ahead)

    def take(self) -> int:
        """The next taking; only when ready and not used up."""
        if self._next >= self._end:
            first, count = self._ahead.pop(0)
            self._sure = max(0, self._sure - 1)
            self._next, self._end = first, first + count
        taking = self._next
        self._next += 1
        if (
            self._lessor is not None
            and self._end - self._next < LOW
            and len(self._ahead) < 2
            and not (self._refused or self._told_to_wait)
        ):
            self._ask()
        return taking

    async def more(self) -> None:
        """Waits until ready. Raises OSError when the database stays away."""
        while not self.ready:
            await asyncio.shield(self._ask())
            if self._told_to_wait and not self.ready:
                await asyncio.sleep(WAIT_S)

    def _ask(self) -> "asyncio.Task[None]":
        if self._watching is None:
            self._watching = asyncio.get_running_loop().create_task(
                self._watch(), name=f"wanted {self._pile}"
            )
        if self._asking is None or self._asking.done():
            self._asking = asyncio.get_running_loop().create_task(
                self._fetch(), name=f"lease {self._pile}"
            )
        return self._asking

    async def _fetch(self) -> None:
        assert self._lessor is not None
        async with self._turn:  # what is on its way back must be there before anything is asked for
            granted = await self._lessor.lease(self._pile, self.left)
        self._sure = len(self._ahead)
        self._told_to_wait = granted is not None and granted[0] < 0
        if granted is None:
            self._refused = True
        elif not self._told_to_wait:
            self._ahead.append(granted)

    async def _watch(self) -> None:
        """When another shard waits: gives back what nobody has used, or says that nothing is left.
        One that was told that the pile is used up, or to wait, may never ask again: nobody would
        know that it has used its last.
        """
        assert self._lessor is not None
        while True:
            await asyncio.sleep(WANTED_S)
            try:
                if await self._lessor.wanted(self._pile):
                    await self._return()
            except OSError:
                continue  # the database is away; whoever waits asks again

    async def _return(self) -> None:
        assert self._lessor is not None
        async with self._turn:
            unused = (
                [(self._next, self._end - self._next), *self._ahead]
                if self._next < self._end
                else list(self._ahead)
            )
            if unused:
                self._next, self._end, self._ahead, self._sure, self._refused = 0, 0, [], 0, False
            for first, count in unused or [(0, 0)]:
                await self._lessor.give_back(self._pile, first, count)

    def forget_last(self) -> None:
        """What was granted last was given to others meanwhile: this shard had been taken for
        lost.
        """
        del self._ahead[self._sure :]

    async def close(self) -> None:
        """Gives back what was not used."""
        if self._lessor is None:
            return
        if self._watching is not None:
            self._watching.cancel()
            await asyncio.gather(self._watching, return_exceptions=True)
        if self._asking is not None:
            await asyncio.wait({self._asking}, timeout=5)
            if self._asking.done() and not self._asking.cancelled():
                self._asking.exception()  # seen
        await self._return()


@dataclass(slots=True)
class Spec:
    """One thing that is dealt: a data set's columns that come from one row, or a column dealt on
    its own.
    """

    no: int
    name: str  # "observers", or "observers.night" for a column on its own
    table: str
    deal: Deal
    columns: list[tuple[int, str]]  # index in the row, name of the value
    rows: Rows
    book: Book | None = None
    followed: int | None = None
    first: int = 0  # the first given row's number in its table, from 0


def specs_of(
    piles: Sequence[DataPile], rows: dict[str, Rows], lessor: Lessor | None, *, alone: bool
) -> list[Spec]:
    """The things dealt, numbered as the frozen document has them; followers last.

    Raises KeyError for rows that are not there.
    """
    made: list[Spec] = []
    for pile in piles:
        apart = [column for column in pile.deal.apart if column in pile.columns]
        for own in [None, *apart]:
            columns = [
                (at, f"{pile.key}.{column}")
                for at, column in enumerate(pile.columns)
                if (column == own if own else column not in apart)
            ]
            if not columns:
                continue
            name = f"{pile.key}.{own}" if own else pile.key
            deal = pile.deal.alone() if own else pile.deal
            spec = Spec(
                len(made), name, pile.key, deal, columns, rows[pile.key], first=pile.first_row
            )
            if deal.shared:
                spec.book = Book(name, None if alone else lessor)
            made.append(spec)
    for spec in made:
        spec.followed = next(
            (
                each.no
                for each in made
                if each.name == spec.deal.follow and each.no != spec.no and not each.deal.follow
            ),
            None,
        )
    return made


class Dealer:
    """Deals to the users of one shard.

    `users` is how many there are at most, `slices` by table how many slices there are of it and
    which one, from 1, a seat has (without: as many as users, by their numbers); `tables` are those
    that the users' journey uses (None: all); `record(pile, user, round, row)` notes who got what.
    """

    def __init__(
        self,
        specs: list[Spec],
        *,
        seed: int,
        users: int,
        record: Callable[[int, int, int, int], None],
        stop: Callable[[str], None],
        slices: Mapping[str, tuple[int, Mapping[int, int]]] | None = None,
        tables: Collection[str] | None = None,
    ) -> None:
        self.specs, self._seed, self._users, self._record, self._stop = (
            specs,
            seed,
            users,
            record,
            stop,
        )
        self._slices = slices or {}
        own = [spec for spec in specs if tables is None or spec.table in tables]
        self._own = own
        self.each_round = [
            spec for spec in own if spec.deal.when == "round" and spec.followed is None
        ]
        self.at_use = {
            spec.table: [s for s in own if s.table == spec.table]
            for spec in own
            if spec.deal.when == "use"
        }
        self._followers = [spec for spec in own if spec.followed is not None]

    def first(self) -> list[Spec]:
        """What a user is dealt when it begins."""
        return [spec for spec in self._own if spec.followed is None and spec.deal.when != "use"]

    def used(self, tables: Sequence[str]) -> list[Spec]:
        """What is dealt for a request that needs `tables`, of those dealt at each use."""
        return [
            spec for table in tables for spec in self.at_use.get(table, ()) if spec.followed is None
        ]

    @staticmethod
    def ready(due: Sequence[Spec]) -> bool:
        """Whether `due` can be dealt without waiting."""
        return all(spec.book is None or spec.book.ready for spec in due)

    async def until_ready(self, due: Sequence[Spec]) -> None:
        """Raises Failure when the database stays away."""
        while waits := [spec for spec in due if spec.book is not None and not spec.book.ready]:
            for spec in waits:
                assert spec.book is not None
                try:
                    await spec.book.more()
                except OSError as problem:
                    raise Failure(
                        "rows", f"no rows of {spec.name} could be had: {problem}"
                    ) from problem

    def deal(self, own: UserState, due: Sequence[Spec]) -> bool:
        """Gives a row of each of `due`, which is ready; false when one is used up and the user has
        to leave.
        """
        for spec in due:
            row = self._next_row(own, spec)
            if row is None:
                if spec.deal.then == "stay" and len(spec.rows):
                    if spec.no in own.rows:
                        continue
                    row = len(spec.rows) - 1
                else:
                    own.rows_over = (
                        f"rows of {spec.name} used up"
                        if len(spec.rows)
                        else f"{spec.name} has no rows"
                    )
                    if spec.deal.then == "stop" or not len(spec.rows):
                        self._stop(own.rows_over)
                    return False
            self._give(own, spec, row)
        if self._followers:
            dealt = {spec.no for spec in due}
            for spec in self._followers:
                if spec.followed in dealt and len(spec.rows):
                    self._give(own, spec, own.rows[spec.followed] % len(spec.rows))
        return True

    def _next_row(self, own: UserState, spec: Spec) -> int | None:
        """The row that is due now; None when there is none any more."""
        taking: int | None
        if spec.book is not None:
            taking = None if spec.book.used_up else spec.book.take()
        else:
            taking = own.turns.get(spec.no, 0)
        if taking is None or not len(spec.rows):
            return None
        own.turns[spec.no] = own.turns.get(spec.no, 0) + 1
        users, user = self._users, own.number
        if spec.deal.whose == "slice" and spec.table in self._slices:
            users, at = self._slices[spec.table]
            if own.seat not in at:
                return (
                    None  # a user whom a raise of the load brought, when every slice was somebody's
                )
            user = at[own.seat]
        return row_of(spec.deal, spec.name, self._seed, len(spec.rows), users, user, taking)

    def _give(self, own: UserState, spec: Spec, row: int) -> None:
        cells, values = spec.rows[row], own.values
        for at, name in spec.columns:
            values[name] = cells[at]
        own.rows[spec.no] = row
        self._record(spec.no, own.number, own.round, row)

    def rows_of(self, own: UserState) -> dict[str, int]:
        """What a user holds, for reading: name → number of the row, from 1."""
        return {self.specs[no].name: self.specs[no].first + row + 1 for no, row in own.rows.items()}

    def forget_last(self) -> None:
        """As Book.forget_last, for all piles."""
        for spec in self.specs:
            if spec.book is not None:
                spec.book.forget_last()

    async def close(self) -> None:
        for spec in self.specs:
            if spec.book is not None:
                await spec.book.close()
