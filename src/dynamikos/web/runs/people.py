"""The users of a run under way, as its generators show them to those who watch, and what each
exchanged.
"""

import datetime
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import msgspec
from django.db.models import QuerySet
from django.utils import timezone

from dynamikos.core.figures import digits
from dynamikos.core.frozen import FrozenRun, every_series
from dynamikos.core.reports import KeptExchange, unpack_kept
from dynamikos.core.reports.messages import FAILED
from dynamikos.core.reports.present import Present, UserNow
from dynamikos.web.runs.models import Followed, Kept, Run, Seen, Watch

WATCHED_S = 12  # after it was last asked for, a generator still shows who is there
STALE_S = 6.0  # what it showed so long ago is not now
LINES, LOOKED_INTO = 200, 3000  # of a log, and exchanges that are searched for a value
_present, _user = msgspec.json.Decoder(Present), msgspec.json.Decoder(UserNow)


def watch(run: Run, user: int = 0) -> None:
    """Somebody looks at who is there, and follows `user`."""
    until = timezone.now() + datetime.timedelta(seconds=WATCHED_S)
    for number in {0, user}:
        Watch.objects.update_or_create(run=run, user=number, defaults={"until": until})


@dataclass(frozen=True, slots=True)
class People:
    """`shown` are users with the generator that each is on; `users` and `failing` count all.
    `waited_for` are generators that have not shown theirs yet.
    """

    shown: Sequence[tuple[str, UserNow]]
    users: int
    failing: int
    waited_for: Sequence[str]

    def user(self, number: int) -> tuple[str, UserNow] | None:
        return next((each for each in self.shown if each[1].number == number), None)


def people(run: Run) -> People:
    """Who is there by now: those who fail most first, then those who wait longest."""
    fresh = timezone.now() - datetime.timedelta(seconds=STALE_S)
    told = {each.shard_id: each for each in Seen.objects.filter(shard__run=run, at__gte=fresh)}
    shown: list[tuple[str, UserNow]] = []
    users = failing = 0
    waited_for = []
    for shard in run.shards.filter(state="running"):
        seen = told.get(shard.pk)
        if seen is None:
            waited_for.append(shard.generator_name)
            continue
        present = _present.decode(bytes(seen.body))
        users, failing = users + present.users, failing + present.failing
        shown.extend((shard.generator_name, user) for user in present.shown)
    shown.sort(key=lambda each: (-each[1].failures, -each[1].waits_s, each[1].number))
    return People(shown, users, failing, waited_for)


def remember(run: Run, generator: str, user: UserNow) -> None:
    """What is shown of somebody who is followed stays when it has left and the run is over."""
    second = (
        max(0, int((timezone.now() - run.begins_at).total_seconds()))
        if run.begins_at is not None
        else 0
    )
    told = {"second": second, "generator_name": generator, "body": msgspec.json.encode(user)}
    Followed.objects.update_or_create(told, run=run, user=user.number)


def remembered(run: Run, number: int) -> tuple[int, str, UserNow] | None:
    """(second, generator, user) of the last that was shown of somebody who was followed."""
    found = Followed.objects.filter(run=run, user=number).first()
    return (
        (found.second, found.generator_name, _user.decode(bytes(found.body)))
        if found is not None
        else None
    )


def followed(run: Run) -> list[int]:
    """The numbers of users that were followed."""
    return list(
        Followed.objects.filter(run=run).order_by("user").values_list("user", flat=True)[:LINES]
    )


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which kept exchanges: of a user, a step (journey and key), a beginning of the reason, a text
    in their values, and after a number. "" and None want all.
    """

    user: int | None = None
    step: str = ""
    why: str = ""
    value: str = ""
    after: int = 0


def log(run: Run, inputs: FrozenRun, wanted: Wanted) -> list[tuple[int, KeptExchange]]:
    """The last LINES of them in their order, with their numbers, as many as half of them failed
    ones; they are looked for in the last LOOKED_INTO.
    """
    rows = Kept.objects.filter(run=run, pk__gt=wanted.after).order_by("-pk")
    if wanted.user is not None:
        rows = rows.filter(user=wanted.user)
    if wanted.step:
        key = wanted.step.rpartition("/")[::2]
        rows = rows.filter(
            series__in=[
                each.no for each in every_series(inputs) if (each.journey, each.step) == key
            ]
        )
    if wanted.why:
        rows = rows.filter(reason__startswith=wanted.why)
    if wanted.why:
        return _fitting(rows, wanted, LINES)[::-1]
    # what passed, and what is kept of those who are followed, never pushes out what failed
    failed = _fitting(rows.filter(reason__startswith=FAILED), wanted, LINES // 2)
    others = _fitting(rows.exclude(reason__startswith=FAILED), wanted, LINES - len(failed))
    return sorted(failed + others, key=lambda each: each[0])


def _fitting(rows: QuerySet[Kept], wanted: Wanted, limit: int) -> list[tuple[int, KeptExchange]]:
    """The first `limit` of `rows` that hold the value. Steps without an exchange of somebody who is
    followed are shown where that user is chosen.
    """
    found = []
    for row in rows[:LOOKED_INTO].iterator(chunk_size=200):
        exchange = unpack_kept(bytes(row.body))
        if wanted.user is None and exchange.item and exchange.reason == "followed":
            continue
        if not wanted.value or any(wanted.value in value for value in exchange.variables.values()):
            found.append((row.pk, exchange))
            if len(found) == limit:
                break
    return found


def reasons(run: Run) -> list[str]:
    """Why exchanges of a run were kept."""
    return list(
        Kept.objects.filter(run=run)
        .order_by("reason")
        .values_list("reason", flat=True)
        .distinct()[:200]
    )


def last_round(exchanges: Sequence[tuple[int, KeptExchange]]) -> list[tuple[int, KeptExchange]]:
    """Of one user's exchanges those of the last round, whose instants are known."""
    known = [each for each in exchanges if each[1].ended_us and not each[1].item]
    return [each for each in known if each[1].round == known[-1][1].round] if known else []


def beside(run: Run, exchange: KeptExchange) -> list[tuple[int, KeptExchange]]:
    """What the same user exchanged in the same step of the same round, as far as it was kept."""
    rows = Kept.objects.filter(run=run, user=exchange.user, round=exchange.round).order_by("pk")[
        :LINES
    ]
    found = [(row.pk, unpack_kept(bytes(row.body))) for row in rows]
    return [
        each
        for each in found
        if each[1].step == exchange.step and each[1].ended_us and not each[1].item
    ]


def wanted_of(given: Mapping[str, str], user: int | None = None) -> Wanted:
    """What an address asks for."""
    return Wanted(
        user=digits(given.get("user", "").strip()) if user is None else user,
        step=given.get("step", ""),
        why=given.get("why", "").strip(),
        value=given.get("value", "").strip(),
        after=digits(given.get("after", "")) or 0,
    )
