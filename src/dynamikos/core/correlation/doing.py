"""Whether a replay did what it says: ids that should be new ones, values that should not be sent
twice.
"""

import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Literal
from urllib.parse import parse_qsl, unquote, urlsplit

import msgspec
import orjson

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.coding import leaves, written
from dynamikos.core.correlation.growing import counts_of, grown
from dynamikos.core.correlation.origins import framed, head_of_answer, holding
from dynamikos.core.correlation.sites import Site, sites_of
from dynamikos.core.correlation.texts import whole
from dynamikos.core.correlation.unreplayed import origin_in, sources_of
from dynamikos.core.exchanges import Exchange, text_of
from dynamikos.core.exchanges.graphql import writes
from dynamikos.core.exchanges.model import REDIRECTS, redirect_of
from dynamikos.core.journeys.signing_in import ASKS_TO_SIGN_IN, SIGNING_UP, proves

Doubtful = Literal[
    "hard-wired",
    "not-replayed",
    "may-not-be-replayed",
    "other-record",
    "same-record",
    "made-twice",
    "sent-again",
    "no-growth",
    "not-redirected",
    "unknown",
]


ALIKE = 0.5  # of two names, see value_shapes.likeness


class Replay(msgspec.Struct, frozen=True, kw_only=True):
    """One replayed exchange. `recorded` is the position of its counterpart in the recording,
    `captured` what was taken from its answer, by name.
    """

    at: str
    round: int
    recorded: int | None
    exchange: Exchange
    captured: dict[str, str] = {}


class Doubt(msgspec.Struct, frozen=True, kw_only=True):
    """Why a replay whose checks passed may not have done the thing. `at` is the request
    (step/request).
    """

    kind: Doubtful
    at: str
    value: str
    words: str

    @property
    def is_grave(self) -> bool:
        """Whether it can't be right: an id that comes again may be, when an application counts from
        the start, and so may a list that does not grow, when it shows only so many.
        """
        return self.kind not in ("same-record", "no-growth", "unknown", "may-not-be-replayed")


class _Tape:
    """What was sent and answered at each position of a recording, each worked out once.

    `values` are those that will be looked for: all of them are found in one pass over the answers.
    """

    def __init__(self, exchanges: Sequence[Exchange], values: Iterable[str]) -> None:
        self.exchanges = exchanges
        self._sent: dict[int, dict[str, str]] = {}
        wanted = sorted(set(values))
        everywhere = range(len(exchanges))
        self._held = dict(
            zip(wanted, holding(Answers(exchanges, everywhere), wanted, everywhere), strict=True)
        )

    def sent(self, position: int) -> dict[str, str]:
        """Values sent, by place."""
        if position not in self._sent:
            sites = sites_of(self.exchanges[position], position)
            self._sent[position] = {site.place: site.value for site in sites}
        return self._sent[position]

    def holding(self, value: str) -> Collection[int]:
        """Positions of the answers that hold it."""
        return self._held.get(value, ())

    def first_sent(self, value: str, at: int) -> int:
        """The first position at which it is sent, `at` at the latest."""
        return next((p for p in range(at) if value in self.sent(p).values()), at)

    def holds(self, position: int, value: str) -> bool:
        return position in self._held.get(value, ())

    def issuing(self, before: int, value: str) -> int | None:
        """Where a value first appears, if that is an answer before it is sent."""
        first = min(self._held.get(value, ()), default=before)
        if first >= before or any(
            value in self.sent(position).values() for position in range(first + 1)
        ):
            return None
        return first


def doubts_on(replays: Sequence[Replay], recording: Sequence[Exchange]) -> list[Doubt]:
    """What speaks against a replay, the gravest first; each value once for each kind.

    An id that an answer of the recording issued must be another one in the replay: it must neither
    be sent as it was recorded (*hard-wired*), nor be said to have been made again (*same record*);
    what the recording went on with must be what was made in the same round (*other record*). Two
    rounds must not make the same one (*made twice*), nor send what was captured in the round before
    (*sent again*). What came from a stream, a socket or another host that is not replayed must not
    be sent as it was recorded (*not replayed*). A list that grew in the recording grows again (*no
    growth*). What was written and led on by a redirect leads on again (*not redirected*): a form
    that is shown once more says 200, too. Without a recording only *made twice* and *sent again*
    can be seen.
    """
    values = {site.value for each in replays for site in sites_of(each.exchange, 0)}
    values |= {value for each in replays for _, value in _made(each.exchange)}
    tape = _Tape(recording, (value for value in values if 0 < len(value) <= 400))
    found = [
        *_hard_wired(replays, tape),
        *_other_record(replays, tape),
        *_same_record(replays, tape),
    ]
    found += _not_replayed(replays, tape)
    found += [*_made_twice(replays, tape), *_sent_again(replays), *_no_growth(replays, recording)]
    found += _not_redirected(replays, recording)
    kept: dict[tuple[str, str], Doubt] = {}
    for each in found:
        kept.setdefault((each.kind, each.value), each)
    hard = {each.value for each in kept.values() if each.kind == "hard-wired"}
    return [each for each in kept.values() if each.kind != "same-record" or each.value not in hard]


def _hard_wired(replays: Sequence[Replay], tape: _Tape) -> Iterator[Doubt]:
    answered: dict[int, list[Replay]] = {}
    for replay in replays:
        if replay.recorded is not None:
            answered.setdefault(replay.recorded, []).append(replay)
    for replay in replays:
        for site in _as_recorded(replay, tape):
            value = site.value
            origin = tape.issuing(site.entry, value)
            if origin is None:
                continue
            again = [each for each in answered.get(origin, ()) if each.exchange.answer is not None]
            if again and not any(_in(_text(each.exchange), value) for each in again):
                words = (
                    f"“{value}” is sent as it was recorded ({site.place}), although the answer to "
                    f"{again[0].at} issued another one: what was done was done to the recorded one."
                )
                yield Doubt(kind="hard-wired", at=replay.at, value=value, words=words)


def _as_recorded(replay: Replay, tape: _Tape) -> Iterator[Site]:
    """Where a replay sends a telling value as it was recorded; `entry` is the position there."""
    if replay.recorded is None or replay.recorded >= len(tape.exchanges):
        return
    before = tape.sent(replay.recorded)
    for site in sites_of(replay.exchange, replay.recorded):
        if not site.outer and before.get(site.place) == site.value and _telling(site.value, site):
            yield site


def _not_replayed(replays: Sequence[Replay], tape: _Tape) -> Iterator[Doubt]:
    """What is sent as it was recorded and came from a stream, a socket, a host that is left out."""
    origins = {_origin(each.exchange.sent.url) for each in replays}
    played = {each.recorded for each in replays}
    origins |= {_origin(each.sent.url) for at, each in enumerate(tape.exchanges) if at in played}
    sources = sources_of(tape.exchanges, origins)
    unplayed = {source.position for source in sources}
    for replay in replays if sources else ():
        for site in _as_recorded(replay, tape):
            value = site.value
            first = tape.first_sent(value, site.entry)
            if any(at < first and at not in unplayed for at in tape.holding(value)):
                continue
            found = origin_in(sources, value, first, tape.holding(value))
            if found is None:
                continue
            source, is_known = found
            if not is_known and not source.is_stream:
                continue  # keys of the page are constants, too
            how = "and stands in" if is_known else "and may come from"
            words = (
                f"“{value[:60]}” is sent as it was recorded ({site.place}), {how} {source.words}: "
                "the application may have said yes to the recorded one."
            )
            kind: Doubtful = "not-replayed" if is_known else "may-not-be-replayed"
            yield Doubt(kind=kind, at=replay.at, value=value, words=words)


def _origin(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}"


def _other_record(replays: Sequence[Replay], tape: _Tape) -> Iterator[Doubt]:
    made = _made_by_place(replays)
    issued: dict[str, list[tuple[int, str]]] = {}
    for position, exchange in enumerate(tape.exchanges):
        for place, value in _made(exchange) if writes(exchange) else ():
            issued.setdefault(value, []).append((position, place))
    for replay in replays:
        if replay.recorded is None or replay.recorded >= len(tape.exchanges):
            continue
        sent = {site.place: site.value for site in sites_of(replay.exchange, 0)}
        for site_place, value in tape.sent(replay.recorded).items():
            before = [each for each in issued.get(value, ()) if each[0] < replay.recorded]
            now = sent.get(site_place)
            if not before or now is None or now == value:
                continue
            places = ((replay.round, *each) for each in _of_its_name(before, site_place))
            wanted = {made[each]: each[2] for each in places if each in made}
            if wanted and now not in wanted:
                other, place = next(iter(wanted.items()))
                words = (
                    f"“{now}” is sent ({site_place}), but what was made in this round is "
                    f"“{other}” ({place}): another"
                    " one was changed. Capture it where it is made."
                )
                yield Doubt(kind="other-record", at=replay.at, value=now, words=words)


def _made_by_place(replays: Sequence[Replay]) -> dict[tuple[int, int, str], str]:
    """What writes made, by round, position in the recording and place."""
    return {
        (replay.round, replay.recorded, place): value
        for replay in replays
        if replay.recorded is not None and writes(replay.exchange)
        for place, value in _made(replay.exchange)
    }


def _of_its_name(made: Sequence[tuple[int, str]], site: str) -> Sequence[tuple[int, str]]:
    """Of what was made with one value, those whose place is named like where it is sent; all where
    none is: a picture's 1 is no revision's.
    """
    name = re.split(r"[ .]", site)[-1]
    alike = [
        each
        for each in made
        if value_shapes.likeness(re.split(r"[ .]", each[1])[-1], name) >= ALIKE
    ]
    return alike or made


def _same_record(replays: Sequence[Replay], tape: _Tape) -> Iterator[Doubt]:
    for replay in replays:
        if (
            replay.recorded is None
            or replay.recorded >= len(tape.exchanges)
            or not writes(replay.exchange)
        ):
            continue
        recorded = tape.exchanges[replay.recorded]
        made = dict(_made(recorded))
        sent = {site.value for site in sites_of(replay.exchange, 0)}
        for place, value in _made(replay.exchange):
            if (
                made.get(place) == value
                and value not in sent
                and not any(tape.holds(position, value) for position in range(replay.recorded))
            ):
                words = (
                    f"“{value}” ({place}) is the one that the recording was given, too: nothing "
                    "new was made, unless"
                    " the application was set back in between."
                )
                yield Doubt(kind="same-record", at=replay.at, value=value, words=words)


def _not_redirected(replays: Sequence[Replay], recording: Sequence[Exchange]) -> Iterator[Doubt]:
    """Most applications answer a form that they took with a redirect, and one that they did not
    take with the form again, its errors and 200: no check of the status sees that. Nor does it see
    a redirect to the page where people sign in.
    """
    for replay in replays:
        answer, place = replay.exchange.answer, replay.recorded
        if place is None or place >= len(recording) or not writes(replay.exchange):
            continue
        led, leads = redirect_of(recording[place]), redirect_of(replay.exchange)
        if led is None or answer is None:
            continue
        before, now = urlsplit(led).path, urlsplit(leads or "").path
        if answer.status in (200, 422):
            said = (
                f"this answer is {answer.status} and leads nowhere, as where a form is shown again "
                "with an error"
            )
        elif ASKS_TO_SIGN_IN.search(now) and not ASKS_TO_SIGN_IN.search(before):
            said = f"this answer leads to {now}, as where nobody is signed in"
        else:
            continue
        words = f"The recording was redirected to {before}; {said}."
        yield Doubt(kind="not-redirected", at=replay.at, value=before, words=words)


def _only_signs_in(exchange: Exchange) -> bool:
    """Whether a request proves who somebody is, and signs nobody up: whoever signs in again is the
    same one, so that nothing has to be new in the answer but the proof.
    """
    return proves(exchange) and not SIGNING_UP.search(urlsplit(exchange.sent.url).path)


def _made_twice(replays: Sequence[Replay], tape: _Tape) -> Iterator[Doubt]:
    first: dict[tuple[str, str], tuple[int, str]] = {}
    for replay in replays:
        if not writes(replay.exchange) or _only_signs_in(replay.exchange):
            continue
        known = _only_read(replay, tape) | _led_back(replay, tape)
        sent = {site.value for site in sites_of(replay.exchange, 0)}
        for place, value in _made(replay.exchange):
            turn, seen = first.setdefault((replay.at, place), (replay.round, value))
            if (
                turn != replay.round
                and seen == value
                and value not in sent
                and known.get(place) != value
            ):
                words = (
                    f"“{value}” ({place}) was made in round {turn} and again in round "
                    f"{replay.round}: one is missing."
                )
                yield Doubt(kind="made-twice", at=replay.at, value=value, words=words)


def _only_read(replay: Replay, tape: _Tape) -> dict[str, str]:
    """What a recorded answer that only says 200 held, by place: a call that asks by POST finds the
    same ones again.
    """
    if replay.recorded is None or replay.recorded >= len(tape.exchanges):
        return {}
    answer = replay.exchange.answer
    return (
        dict(_made(tape.exchanges[replay.recorded]))
        if answer is not None and answer.status == 200
        else {}
    )


def _led_back(replay: Replay, tape: _Tape) -> dict[str, str]:
    """What the recorded answer names and the recording had sent before, by place: where a write
    leads back to, such as the list that it stands in, is none of what it made.
    """
    if replay.recorded is None or replay.recorded >= len(tape.exchanges):
        return {}
    made = _made(tape.exchanges[replay.recorded])
    return {
        place: value
        for place, value in made
        if any(value in tape.sent(before).values() for before in range(replay.recorded))
    }


def _sent_again(replays: Sequence[Replay]) -> Iterator[Doubt]:
    taken: dict[str, dict[int, str]] = {}
    issuing: set[tuple[str, str]] = set()  # (value's name, request): also after its redirects
    for replay in replays:
        for name, value in replay.captured.items():
            taken.setdefault(name, {})[replay.round] = value
            issuing.add((name, replay.at))
    for name, by_round in taken.items():
        if 0 in by_round:
            continue  # begun in the opening and renewed since: a round begins with the last one
        for turn, value in by_round.items():
            after = by_round.get(turn + 1)
            if after is None or after == value or len(value) < 6:
                continue
            for replay in (each for each in replays if each.round == turn + 1):
                if any(site.value == value for site in sites_of(replay.exchange, 0)):
                    if (name, replay.at) in issuing:
                        break  # renewed by the request that sends it
                    words = (
                        f"“{value[:60]}”, captured as {name} in round {turn}, is sent in round "
                        f"{turn + 1}, where"
                        " another one was issued: capture it before it is sent."
                    )
                    yield Doubt(kind="sent-again", at=replay.at, value=value, words=words)
                    break
                if value in replay.captured.values():
                    break  # issued again: keys that a page signs are the same within a second


def _no_growth(replays: Sequence[Replay], recording: Sequence[Exchange]) -> Iterator[Doubt]:
    played = {(each.round, each.recorded): each for each in replays if each.recorded is not None}
    rounds = sorted({each.round for each in replays})
    told: set[int] = set()
    for growth in grown(recording):
        for turn in rounds:
            before, after = played.get((turn, growth.before)), played.get((turn, growth.after))
            if before is None or after is None or growth.after in told:
                continue
            first = counts_of(before.exchange).get(growth.place)
            then = counts_of(after.exchange).get(growth.place)
            if first is None or then is None or then > first:
                continue
            told.add(growth.after)
            words = (
                f"In the recording {growth.place} became {growth.by} more by what was written "
                f"before; in round {turn}"
                f" it is {then} after {first}. Nothing was added, unless it shows only so many."
            )
            yield Doubt(kind="no-growth", at=after.at, value=f"{growth.place} {then}", words=words)
            break


def _telling(value: str, site: Site) -> bool:
    """Whether a value may be an id or a token: what names nothing is not followed."""
    if len(value) > 400 or value_shapes.as_date(value) or value_shapes.MAIL.match(value):
        return False
    if value_shapes.generated(value):
        return True
    if not re.search(r"\d", value) or " " in value:
        return False
    named = value_shapes.id_name(site.name) or value_shapes.secret_name(site.name)
    return (
        site.place.startswith("path")
        or named
        or bool(re.search(r"[A-Za-z]", value) and len(value) >= 4)
    )


def _made(exchange: Exchange) -> Iterator[tuple[str, str]]:
    """(place, value) of the ids in what an answer says was made: where it redirects to, ids of a
    small JSON answer.
    """
    answer = exchange.answer
    if answer is None or answer.status >= 400:
        return
    location = answer.header("location") if answer.status in (*REDIRECTS, 201) else None
    if location:
        parts = urlsplit(location)
        for number, segment in enumerate(parts.path.split("/")):
            if re.search(r"\d", segment):
                yield f"the address it leads to, part {number}", unquote(segment)
        for name, value in parse_qsl(parts.query):
            if value_shapes.id_name(name) and re.search(r"\d", value):
                yield f"the address it leads to, {name}", value
    if answer.body[:1] in (b"{", b"[") and len(answer.body) < 20_000:
        try:
            document = orjson.loads(answer.body)
        except ValueError:
            return
        for path, name, value in leaves(document, 200):
            if value_shapes.id_name(name) and re.search(r"\d", value) and path.count(".") <= 3:
                yield f"the answer's {path}", value


def _text(exchange: Exchange) -> str:
    answer = exchange.answer
    if answer is None:
        return ""
    kind = answer.header("content-type") or ""
    return head_of_answer(answer) + (text_of(answer.body, kind) if answer.body else "")


def _in(text: str, value: str) -> bool:
    """Whether a text holds a value, standing by itself, in any of its spellings."""
    if len(value) < 4:
        return any(each in text for each in framed(value))
    for each in written(value):
        at = text.find(each)
        while at >= 0:
            if whole(text, at, len(each)):
                return True
            at = text.find(each, at + 1)
    return False
