"""Accepting strands: captures put into a journey, and the values replaced where they are sent."""

import re
from collections.abc import Iterable, Mapping, Sequence
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from dynamikos.core.correlation import value_shapes
from dynamikos.core.correlation.answers import Answers
from dynamikos.core.correlation.chains import chains_of, renewing
from dynamikos.core.correlation.closing import free_name, open_a_page, sent_in_closing
from dynamikos.core.correlation.coding import written
from dynamikos.core.correlation.model import Strand, Use
from dynamikos.core.correlation.placing import HOLE, changed_request, fit, text_at
from dynamikos.core.correlation.sites import sites_of
from dynamikos.core.exchanges import Exchange
from dynamikos.core.journeys import Journey, Request
from dynamikos.core.journeys.editing import change_request, list_of, place_of, with_list
from dynamikos.core.journeys.kinds import Setting
from dynamikos.core.journeys.model import key_from, walk
from dynamikos.core.values.makers import alphabet_of


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
    chosen = sources_first(strands)
    wanted = {each.name: each.uses if uses is None else uses.get(each.name, ()) for each in chosen}
    accepting = _Accepting(journey, exchanges, columns or {}, chosen, wanted)
    for strand in chosen:
        accepting.take(strand, wanted[strand.name])
    accepting.renew()
    done, left = accepting.done, accepting.left
    return Accepted(journey=accepting.journey, done=tuple(done), left=tuple(left))


class _Accepting:
    """The journey as it is changed, strand by strand, and what is said of it."""

    def __init__(
        self,
        journey: Journey,
        exchanges: Sequence[Exchange],
        columns: Mapping[str, str],
        chosen: Sequence[Strand],
        wanted: Mapping[str, Iterable[Use]],
    ) -> None:
        self.journey, self._exchanges, self._columns = journey, exchanges, columns
        self._chosen, self._wanted = chosen, wanted
        self._holes: dict[tuple[int, str], str] = {}  # by entry and place, what stands there now
        self.positions = {(e.entry if e.entry >= 0 else i): i for i, e in enumerate(exchanges)}
        self._answers = Answers(exchanges, range(len(exchanges)))
        self._chains = chains_of(chosen, self.positions, self._answers)
        # the name of a chain's value, by that of each link
        self._links = {link.name: chain[0].name for chain in self._chains for link in chain}
        self._names: dict[str, str] = {}  # what stands in the journey, by the chain's name
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
            if hole and self._is_made_once(strand, uses):
                self._set_once(strand, uses, hole)
            elif hole:
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
        chain = self._links.get(strand.name)
        there = (e.name for e in request.captures if replace(e, name="v", note="") == plain)
        known = next(there, "")
        name = known or (self._names.get(chain, "") if chain is not None else "")
        name = name or free_name(self.journey, strand.name)
        if chain is not None:
            self._names.setdefault(chain, name)
        if known:
            return known
        captures = (*request.captures, replace(strand.capture, name=name))
        self.journey = change_request(self.journey, step, request.request, captures=captures)
        return name

    def renew(self) -> None:
        """Captures the values of chains from every answer that issues them, also from the last
        one: the next round sends what that gave.
        """
        issuing = {
            self._answers.start.get(self.positions[link.origin.entry], -1)
            for chain in self._chains
            for link in chain
            if link.origin is not None
        }
        found = [renewing(chain, self.positions, self._answers) for chain in self._chains]
        also = {position for each in found for position in each} | issuing
        for chain in self._chains:
            name = self._names.get(chain[0].name)
            if name is None:
                continue
            for position, capture in renewing(chain, self.positions, self._answers, also).items():
                home = _request_of(self.journey, position)
                if home is None or name in (each.name for each in home[1].captures):
                    continue
                captures = (*home[1].captures, replace(capture, name=name))
                self.journey = change_request(
                    self.journey, home[0], home[1].request, captures=captures
                )
            self.done.append(f"{name}: is renewed, and captured wherever it is issued")

    def _made(self, strand: Strand) -> str:
        """What stands in the holes of a value that no answer issues; "" when it stays as it is."""
        hole = self._columns.get(strand.name) or maker_for(strand)
        if not hole and strand.made_by:
            hole = self._computed(strand)
            if not hole:
                self.left.append(
                    f"{strand.name}: is {strand.pattern}; put a column or a capture there first, "
                    "then accept this"
                )
        return hole

    def _is_made_once(self, strand: Strand, uses: Sequence[Use]) -> bool:
        """Whether a client's own value needs a name: it is sent at several places, or others are
        computed from it.
        """
        if strand.name in self._columns or strand.made_by:
            return False
        return len(uses) > 1 or any(computed_from(strand, each) for each in self._chosen)

    def _set_once(self, strand: Strand, uses: Sequence[Use], maker: str) -> None:
        """Makes a value before the first step that needs it, and takes its name everywhere: made
        anew at each use it would be another one each time.
        """
        before, told = self.journey, len(self.done)
        text = f"{{{{ {maker} }}}}"
        name = _set_already(self.journey, strand.name, text)
        is_new = not name
        name = name or free_name(self.journey, strand.name)
        count = self._replace(strand, uses, name)
        if not count or not is_new:
            return
        needed = {self.positions[use.entry] for use in uses}
        needed |= {
            self.positions[use.entry]
            for each in self._chosen
            if computed_from(strand, each)
            for use in self._wanted.get(each.name, ())
            if use.entry in self.positions
        }
        steps = [
            step.step
            for _, step in before.steps()
            if any(request.recorded in needed for request in step.requests)
        ]
        self.journey = set_before(self.journey, steps, name, text)
        self.done[told] += f", made once as {name}"
        home = next(
            s for _, s in self.journey.steps() if isinstance(s, Setting) and name in s.gives()
        )
        if _leans(self.journey, name, home.step):
            self.left.append(
                f"{name}: is made in the rounds and sent in the closing; a user who leaves before "
                "a round is done has none. Move its item into the opening where one value a user "
                "is right."
            )

    def _computed(self, strand: Strand) -> str:
        """The inside of the hole of a computed value; "" while all that it comes from is still as
        recorded. What is the same in every visit stands in it as it is.
        """
        inner, moves = [], not strand.made_from
        for use in strand.made_from:
            expression = self._holes.get((use.entry, use.place)) or self._hole_at(use)
            if expression:
                moves = True
                inner.append(f"({expression})" if re.search(r"[|~+*-]", expression) else expression)
                continue
            source = next((e for e in self._chosen if use in e.uses), None)
            value = source.value if source is not None else self._recorded(use)
            if value is None or re.search(r"['\\{}]", value):
                return ""
            inner.append(f"'{value}'")
        return strand.made_by.format(*inner) if moves else ""

    def _hole_at(self, use: Use) -> str:
        home = _request_of(self.journey, self.positions.get(use.entry, -1))
        text = text_at(home[1], use.place) if home is not None else None
        hole = HOLE.fullmatch(text or "")
        return hole.group(0)[2:-2].strip() if hole is not None else ""

    def _recorded(self, use: Use) -> str | None:
        position = self.positions.get(use.entry)
        if position is None:
            return None
        sites = sites_of(self._exchanges[position], position)
        return next((site.value for site in sites if site.place == use.place), None)

    def _replace(self, strand: Strand, uses: Sequence[Use], hole: str) -> int:
        """Puts the hole at the uses; returns at how many."""
        count = 0
        wholes: set[tuple[int, str]] = set()  # where it was replaced with what it is a part of
        for use in uses:
            changed = self._put(use, strand.value, hole)
            count += changed
            whole = use.entry, use.place.split(", ")[0]
            if changed:
                wholes.add(whole)
                self._holes[use.entry, use.place] = hole
            elif whole not in wholes:
                self.left.append(
                    f"{strand.name}: {use.place} of entry {use.entry} could not be replaced; do it "
                    "by hand"
                )
        self.done.append(strand.name if count == 1 else f"{strand.name} ({count} places)")
        return count

    def _put(self, use: Use, value: str, hole: str) -> bool:
        position = self.positions[use.entry]
        self.journey, changed = _put(self.journey, self._exchanges, position, use, value, hole)
        return changed


def hard_wired(journey: Journey, strand: Strand) -> list[Use]:
    """The uses of a strand at which the journey still sends the recorded value."""
    requests = {r.recorded: r for _, r in journey.requests() if r.recorded is not None}
    found = []
    # of an address the origin may stand there by its name in the environment
    forms = {*written(strand.value), ADDRESS.sub("", strand.value, count=1)}
    for use in strand.uses:
        request = requests.get(use.at)
        text = text_at(request, use.place) if request is not None else None
        if text is not None and any(form in HOLE.sub("", text) for form in forms):
            found.append(use)
    return found


ADDRESS = re.compile(r"https?://[^/?#]+(?=[/?#].)")


def computed_from(source: Strand, other: Strand) -> bool:
    """Whether another value is computed from this one."""
    return any(use in source.uses for use in other.made_from)


def sources_first(strands: Iterable[Strand]) -> list[Strand]:
    """In their order, but each after those it is computed from."""
    waiting, made = list(strands), list[Strand]()
    while waiting:
        free = [
            each
            for each in waiting
            if not any(computed_from(o, each) for o in waiting if o is not each)
        ]
        made += free or waiting  # in a circle none is first
        waiting = [each for each in waiting if free and each not in free]
    return made


def with_dependents(chosen: Sequence[Strand], every: Sequence[Strand]) -> list[Strand]:
    """`chosen` and the digests of `every` that are computed from them: a challenge of the recording
    does not fit another verifier.
    """
    made = list(chosen)
    for each in made:
        made += [
            other
            for other in every
            if other.kind == "client-made" and other not in made and computed_from(each, other)
        ]
    return made


def _set_already(journey: Journey, name: str, text: str) -> str:
    """The name under which a value made so is set already, "" for none."""
    pairs = (pair for _, step in journey.steps() if isinstance(step, Setting) for pair in step.set)
    own = re.compile(re.escape(name) + r"(_\d+)?\Z")
    return next((known for known, made in pairs if made == text and own.match(known)), "")


def set_before(journey: Journey, steps: Sequence[str], name: str, text: str) -> Journey:
    """`journey` with a step that sets a value, before the first of `steps`, in the list of steps
    that holds all of them, if one does.
    """
    first = place_of(journey, steps[0])
    later = [place_of(journey, step) for step in steps[1:]]
    home, index = next(
        (
            (home, index)
            for home, index in first
            if all(
                other[-1][0].part != home.part or home in [h for h, _ in other] for other in later
            )
        ),
        first[-1],
    )
    key = key_from(f"make {name}", {step.step for _, step in journey.steps()})
    made = Setting(step=key, name=f"Make {name}"[:80], set=((name, text),))
    there = list_of(journey, home)
    return with_list(journey, home, [*there[:index], made, *there[index:]])


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
    if strand.pattern.startswith("a UUID"):
        is_upper = strand.value.isupper()
        return f"make.uuid{'7' * strand.pattern.endswith('7')}{' | upper' * is_upper}"
    if strand.pattern.startswith("a time stamp"):
        stamp = value_shapes.stamp_of(strand.value)
        return stamp.maker if stamp is not None else ""
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
        alphabet = alphabet_of(strand.value)
        named = "" if alphabet in ("", "base36") else f", '{alphabet}'"
        return f"make.text({len(strand.value)}{named})"
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
    if changed == request:  # an address that was issued as a whole stands there with its name
        moved = _with_names(journey, exchanges, value)
        changed = changed_request(request, use.place, moved, hole)
    if changed == request:
        return journey, False
    fields = {name: getattr(changed, name) for name in ("address", "query", "headers", "body")}
    return change_request(journey, step, request.request, **fields), True


def _with_names(journey: Journey, exchanges: Sequence[Exchange], value: str) -> str:
    """`value` with the names of the environment's addresses where the origins of requests stand."""
    for _, request in journey.requests():
        name = HOLE.match(request.address)
        if name is not None and request.recorded is not None:
            parts = urlsplit(exchanges[request.recorded].sent.url)
            value = value.replace(f"{parts.scheme}://{parts.netloc}", name.group())
    return value


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
