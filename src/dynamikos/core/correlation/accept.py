"""Accepting strands: captures put into a journey, and the values replaced where they are sent."""

import re
from collections.abc import Iterable, Mapping, Sequence
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.closing import free_name, open_a_page, sent_in_closing
from dynamikos.core.correlation.model import Strand, Use
from dynamikos.core.correlation.placing import HOLE, changed_request, fit, text_at
from dynamikos.core.exchanges import Exchange
from dynamikos.core.journeys import Journey, Request
from dynamikos.core.journeys.editing import change_request
from dynamikos.core.journeys.model import walk

MADE = {
    "a UUID": "make.uuid",
    "a time stamp: seconds since 1970": "make.seconds",
    "a time stamp: milliseconds since 1970": "make.milliseconds",
    "a time stamp: microseconds since 1970": "make.microseconds",
    "a time stamp: ISO 8601 date and time": "make.date(%Y-%m-%dT%H:%M:%SZ)",
}


class Accepted(msgspec.Struct, frozen=True, kw_only=True):
    """The changed journey, what was done in sentences, and what was left and why."""

    journey: Journey
    done: tuple[str, ...] = ()
    left: tuple[str, ...] = ()


def accept(
    journey: Journey,
    strands: Iterable[Strand],
    exchanges: Sequence[Exchange],
    uses: dict[str, Sequence[Use]] | None = None,
    columns: dict[str, str] | None = None,
) -> Accepted:
    """`journey` with a capture for every issued strand and a maker for every client-made one, put
    in at their uses.

    `exchanges` is the recording that the journey was made of. `uses` by strand name limits the
    places to those ticked. `columns` by strand name are data columns ("observers.email") that take
    the place of typed values.
    """
    accepting = _Accepting(journey, exchanges, columns or {})
    for strand in sorted(strands, key=lambda each: bool(each.made_by)):  # what others come from
        wanted = uses.get(strand.name, ()) if uses is not None else strand.uses
        accepting.take(strand, wanted)
    done, left = accepting.done, accepting.left
    return Accepted(journey=accepting.journey, done=tuple(done), left=tuple(left))


class _Accepting:
    """The journey as it is changed, strand by strand, and what is said of it."""

    def __init__(
        self, journey: Journey, exchanges: Sequence[Exchange], columns: Mapping[str, str]
    ) -> None:
        self.journey, self._exchanges, self._columns = journey, exchanges, columns
        self.positions = {(e.entry if e.entry >= 0 else i): i for i, e in enumerate(exchanges)}
        self._answers = Answers(exchanges, range(len(exchanges)))
        self.done: list[str] = []
        self.left: list[str] = []

    def take(self, strand: Strand, wanted: Iterable[Use]) -> None:
        """Replaces a strand's value at the uses that are `wanted`. What is sent only where a
        redirect leads to is left: the engine follows it.
        """
        positions = self.positions
        uses = [use for use in wanted if use.entry in positions]
        uses = [use for use in uses if not self._answers.followed(positions[use.entry])]
        if not uses:
            return
        if strand.kind != "issued":
            hole = self._made(strand)
            if hole:
                self._replace(strand, uses, hole)
            return
        home = self._home(strand)
        if home is None:
            return
        step, request = home
        uses = self._taken_in_closing(strand, step, uses)
        if uses:
            hole = self._captured(strand, step, request)
            self._replace(strand, uses, hole)
            if _leans(self.journey, hole, step):
                self.left.append(
                    f"{hole}: is captured in the rounds and sent in the closing; a user who leaves "
                    "before a round is done has none. Where the value is another one on each page, "
                    "open a page in the closing and capture it there."
                )

    def _home(self, strand: Strand) -> tuple[str, Request] | None:
        """The step and request that an issued value is captured from."""
        if strand.capture is None or strand.origin is None:
            self.left.append(f"{strand.name}: no capture is known for it")
            return None
        start = self._answers.start[self.positions[strand.origin.entry]]
        home = _request_of(self.journey, start)
        if home is None:
            self.left.append(
                f"{strand.name}: the request that it is issued to (entry {strand.origin.entry}) is "
                "not in the journey"
            )
        return home

    def _taken_in_closing(self, strand: Strand, step: str, uses: list[Use]) -> list[Use]:
        """What the closing sends of a value of the rounds is taken there from a page that is opened
        once more, where that can be; returns the uses that remain.
        """
        if not _in_rounds(self.journey, step):
            return uses
        late = sent_in_closing(self.journey, uses, self.positions)
        opened = (
            open_a_page(self.journey, strand, late, self.positions, self._answers) if late else None
        )
        if opened is None:
            return uses
        self.journey, hole, page = opened
        for use in late:
            self._put(use, strand.value, hole)
        self.done.append(
            f"{strand.name}: the closing opens {page.method} {page.address} once more and takes it "
            "there"
        )
        return [use for use in uses if use not in late]

    def _captured(self, strand: Strand, step: str, request: Request) -> str:
        """The name under which the request captures the value, from now on or already."""
        assert strand.capture is not None
        plain = replace(strand.capture, name="v")
        for each in request.captures:
            if replace(each, name="v", note="") == plain:
                return each.name
        name = free_name(self.journey, strand.name)
        captures = (*request.captures, replace(strand.capture, name=name))
        self.journey = change_request(self.journey, step, request.request, captures=captures)
        return name

    def _made(self, strand: Strand) -> str:
        """What stands in the holes of a value that no answer issues; "" when it stays as it is."""
        hole = self._columns.get(strand.name) or maker_for(strand)
        if not hole and strand.made_by:
            hole = _computed(self.journey, strand, self.positions)
            if not hole:
                self.left.append(
                    f"{strand.name}: is {strand.pattern}; put a column or a capture there first, "
                    "then accept this"
                )
        return hole

    def _replace(self, strand: Strand, uses: Sequence[Use], hole: str) -> None:
        count = 0
        wholes: set[tuple[int, str]] = set()  # where it was replaced with what it is a part of
        for use in uses:
            changed = self._put(use, strand.value, hole)
            count += changed
            whole = use.entry, use.place.split(", ")[0]
            if changed:
                wholes.add(whole)
            elif whole not in wholes:
                self.left.append(
                    f"{strand.name}: {use.place} of entry {use.entry} could not be replaced; do it "
                    "by hand"
                )
        self.done.append(f"{strand.name}: replaced in {count} place{'' if count == 1 else 's'}")

    def _put(self, use: Use, value: str, hole: str) -> bool:
        position = self.positions[use.entry]
        self.journey, changed = _put(self.journey, self._exchanges, position, use, value, hole)
        return changed


def _computed(journey: Journey, strand: Strand, positions: dict[int, int]) -> str:
    """The inside of the hole of a computed value; "" while what it comes from is still as
    recorded.
    """
    inner = []
    for use in strand.made_from:
        home = _request_of(journey, positions.get(use.entry, -1))
        text = text_at(home[1], use.place) if home is not None else None
        hole = HOLE.fullmatch(text or "")
        if hole is None:
            return ""
        expression = hole.group(0)[2:-2].strip()
        inner.append(f"({expression})" if re.search(r"[|~+*-]", expression) else expression)
    return strand.made_by.format(*inner)


def _in_rounds(journey: Journey, key: str) -> bool:
    return any(step.step == key for step in walk(journey.rounds))


def _leans(journey: Journey, name: str, home: str) -> bool:
    """Whether a value captured in step `home` of the rounds is sent in the closing."""
    if not _in_rounds(journey, home):
        return False
    text = msgspec.json.encode([step.requests for step in journey.closing]).decode()
    return bool(re.search(r"\{\{[^}]*\b" + re.escape(name) + r"\b[^}]*\}\}", text))


def maker_for(strand: Strand) -> str:
    """What makes a client-made value anew, as the inside of a hole; "" when nothing fits."""
    if strand.kind != "client-made":
        return ""
    if strand.pattern in MADE:
        return MADE[strand.pattern]
    form = re.search(r"\((%[^)]+)\)\Z", strand.pattern)
    if form:
        return f"make.date({form.group(1)})"
    if strand.pattern in ("a click position", "a random number") and re.fullmatch(
        r"\d{1,15}", strand.value
    ):
        size = len(strand.value)
        low = 1 if strand.pattern == "a click position" else 10 ** (size - 1)
        return f"make.number({low}, {10**size - 1 if size > 3 else max(int(strand.value) * 2, 10)})"
    if strand.pattern == "a random number":
        return "make.decimal"
    if strand.pattern == "random text":
        return f"make.text({len(strand.value)})"
    return ""


def _request_of(journey: Journey, position: int) -> tuple[str, Request] | None:
    for _, step in journey.steps():
        for request in step.requests:
            if request.recorded == position:
                return step.step, request
    return None


def _put(
    journey: Journey, exchanges: Sequence[Exchange], position: int, use: Use, value: str, hole: str
) -> tuple[Journey, bool]:
    home = _request_of(journey, position)
    if home is None:
        return _put_embedded(journey, exchanges[position].sent.url, value, hole)
    step, request = home
    changed = changed_request(request, use.place, value, hole)
    if changed == request:
        return journey, False
    fields = {name: getattr(changed, name) for name in ("address", "query", "headers", "body")}
    return change_request(journey, step, request.request, **fields), True


def _put_embedded(journey: Journey, url: str, value: str, hole: str) -> tuple[Journey, bool]:
    path = urlsplit(url).path
    for _, step in journey.steps():
        for request in step.requests:
            for index, address in enumerate(request.embedded):
                if path in address:
                    text = fit(address, value, hole, in_path=True)
                    if text is not None:
                        embedded = (*request.embedded[:index], text, *request.embedded[index + 1 :])
                        return change_request(
                            journey, step.step, request.request, embedded=embedded
                        ), True
    return journey, False
