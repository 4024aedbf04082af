"""The ladder as geometry: two rails, a rung for each exchange, strands for captured values. Pixels
at 760 wide.
"""

import contextlib
import textwrap
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Journey, Request, Step
from dynamikos.core.journeys.model import PARTS
from dynamikos.core.values import names_in

Results = Mapping[
    tuple[str, str], tuple[str, bool]
]  # of a rehearsal: text, is bad; by step, request
Births = dict[str, tuple[int, list[int]]]
LEFT, RIGHT, WIDTH = 250, 500, 760
PART_H, STEP_H, RUNG_H, DOTS_H = 34, 10, 42, 22


@dataclass(slots=True)
class Rung:
    """One exchange: `key` is step/request; `status`, `time` and `word` come from a rehearsal or the
    recording.
    """

    step: str
    request: str
    y: int
    title: str
    full: str
    status: str = ""
    is_bad: bool = False
    is_idle: bool = False
    embedded: int = 0
    lost: int = 0  # embedded resources that failed

    @property
    def look(self) -> str:
        """Its classes."""
        return " ".join(["is-bad"] * self.is_bad + ["is-idle"] * self.is_idle)

    @property
    def stroke(self) -> str:
        """The lines of request and answer, as a path."""
        there = f"M{LEFT} {self.y + 11}L{RIGHT - 7} {self.y + 18}"
        return f"{there}M{RIGHT} {self.y + 22}L{LEFT + 7} {self.y + 30}"

    @property
    def heads(self) -> str:
        """Their arrow heads."""
        return f"M{RIGHT} {self.y + 18}l-8 -4v8zM{LEFT} {self.y + 30}l8 -4v8z"

    @property
    def words_at(self) -> int:
        """Where the words about its embedded resources begin, right of the client's rail."""
        return 12 if self.lost else 70


@dataclass(slots=True)
class StepRow:
    step: str
    name: str
    y: int
    height: int
    think: str
    is_empty: bool
    is_shared: bool = False
    x: int = 4  # further right inside another one
    kind: str = "step"
    says: str = ""  # what an item does
    frame: int = 0  # height of what it holds, with itself
    full: str = ""
    is_bad: bool = False

    @property
    def tag_width(self) -> int:
        return min(WIDTH - 240, 16 + round(7.3 * len(self.says)))

    @property
    def frame_width(self) -> int:
        return WIDTH - 16 - 2 * (self.x - 4)

    @property
    def text_x(self) -> int:
        return self.x + 10

    @property
    def lines(self) -> list[tuple[int, str]]:
        """(y, text) of its name, on two lines when it is long."""
        length = 26 - (self.x - 4) // 6 - 2 * (self.kind != "step")
        first, *rest = textwrap.wrap(self.name, length, break_long_words=True) or [""]
        return (
            [(self.y + 18, first)]
            if not rest
            else [(self.y + 14, first), (self.y + 28, cut(" ".join(rest), length))]
        )

    @property
    def think_y(self) -> int:
        return self.y + (34 if len(self.lines) == 1 else 41)

    @property
    def bed(self) -> int:
        """Width of what is lit when it is selected."""
        return 200 - self.x if self.kind == "step" else WIDTH - 24

    @property
    def label(self) -> str:
        """What is read aloud."""
        return f"{self.kind.title()} {self.name}" + (f": {self.full}" if self.full else "")


@dataclass(slots=True)
class Strand:
    """A captured value from the answer it was issued in to the requests that carry it."""

    name: str
    y: int
    x: int
    uses: list[int]
    label_x: int
    label_y: int


@dataclass(slots=True)
class Ladder:
    height: int = 0
    parts: list[tuple[str, int]] = field(default_factory=list)
    steps: list[StepRow] = field(default_factory=list)
    rungs: list[Rung] = field(default_factory=list)
    strands: list[Strand] = field(default_factory=list)
    branches: list[tuple[int, int, str]] = field(default_factory=list)  # x, y, words
    left: int = LEFT
    right: int = RIGHT
    width: int = WIDTH


SIGNS = 32  # of a request on its rung
NAMES = {"cleanup": "clean-up, after a rehearsal"}


def cut(text: str, length: int) -> str:
    return text if len(text) <= length else text[: length - 1] + "…"


def shortened(text: str, length: int) -> str:
    """A request in `length` signs: its beginning and its end, since the end is often what
    tells two of one path apart.
    """
    text = text.replace("{{ ", "{").replace(" }}", "}")
    if len(text) <= length:
        return text
    tail = length // 3
    return f"{text[: length - tail - 1]}…{text[-tail:]}"


def told_apart(fulls: Sequence[str], length: int) -> list[str]:
    """Each of `fulls` in at most `length` signs, no two alike: those that are cut to the same signs
    show where they differ, those that are still the same are numbered.
    """
    short = [shortened(full, length) for full in fulls]
    for places in _alike(short):
        texts = [fulls[at].replace("{{ ", "{").replace(" }}", "}") for at in places]
        differs = next(
            (at for at, signs in enumerate(zip(*texts, strict=False)) if len(set(signs)) > 1),
            length,
        )
        for at, text in zip(places, texts, strict=True):
            method = text.partition(" ")[0]
            lead = f"{method} …"
            start = min(differs - 4, len(text) - length + len(lead))
            if start > len(method) + 1:
                short[at] = cut(lead + text[start:], length)
    for places in _alike(short):
        for number, at in enumerate(places, 1):
            mark = f" · {number} of {len(places)}"
            short[at] = shortened(short[at], length - len(mark)) + mark
    return short


def _alike(texts: Sequence[str]) -> list[list[int]]:
    places: dict[str, list[int]] = {}
    for at, text in enumerate(texts):
        places.setdefault(text, []).append(at)
    return [found for found in places.values() if len(found) > 1]


def path_of(address: str) -> str:
    """An address without its host: what tells requests apart on a ladder."""
    rest = address.partition("}}")[2] if address.startswith("{{") else address
    if "://" in rest:
        rest = "/" + rest.split("://", 1)[1].partition("/")[2]
    return rest or address


def _thinking(step: Step) -> str:
    if step.off:
        return "switched off"
    if step.at_once and len(step.requests) > 1:
        return "all at once" + (f" · think {step.think_s:g} s" if step.think_s else "")
    if step.use:
        return f"shared · think {step.think_s:g} s" if step.think_s else "shared"
    if step.think != "fixed":
        return f"think {step.think_s:g}–{step.think_to_s:g} s"
    return f"think {step.think_s:g} s" if step.think_s else ""


def only(journey: Journey, text: str) -> Journey:
    """The steps and requests in which `text` (any case) is found, in names, addresses, bodies,
    captures or checks; all without a text.
    """
    wanted = text.lower()
    if not wanted:
        return journey

    def has(request: Request) -> bool:
        words = [
            request.request,
            request.method,
            path_of(request.address),
            *(word for _, word in request.texts()),
        ]
        words += [capture.name for capture in request.captures] + [request.note]
        return (
            any(wanted in word.lower() for word in words)
            or wanted in f"{request.method} {path_of(request.address)}".lower()
        )

    def kept(step: Step) -> Step | None:
        if (
            wanted in step.name.lower()
            or any(inner for inner in step.slots())
            or any(wanted in text.lower() for _, text in step.texts())
        ):
            return step
        found = step.with_requests(lambda request: request if has(request) else None)
        return found if found.requests else None

    return journey.mapped(kept)


def draw(
    journey: Journey,
    results: Results | None = None,
    lost: Mapping[tuple[str, str], int] | None = None,
) -> Ladder:
    """`results` maps (step, request) to (text such as "200 · 38 ms", is bad); what is not in it is
    drawn idle. `lost` says how many embedded resources of each failed.
    """
    ladder = Ladder()
    y = 30
    births: Births = {}
    for part in PARTS:
        if part == "cleanup" and not journey.cleanup:
            continue
        ladder.parts.append((NAMES.get(part, part).upper(), y))
        y += PART_H
        y = _steps(ladder, journey.part(part), y, 0, births, results)
    names = told_apart([rung.full for rung in ladder.rungs], SIGNS)
    for rung, name in zip(ladder.rungs, names, strict=True):
        rung.title = name
        rung.lost = (lost or {}).get((rung.step, rung.request), 0)
    _strands(ladder, births)
    ladder.height = y + 20
    return ladder


def _steps(
    ladder: Ladder,
    steps: Sequence[Step],
    y: int,
    depth: int,
    births: Births,
    results: Results | None,
) -> int:
    """Draws steps below each other from `y` on, `depth` deep in others; where the next one goes."""
    for step in steps:
        draws = _sending if step.kind == "step" else _item
        y = draws(ladder, step, y, depth, births, results) + 6
    return y


def _item(
    ladder: Ladder, step: Step, top: int, depth: int, births: Births, results: Results | None
) -> int:
    """A step that sends nothing itself, with those inside of it."""
    now_said, is_bad = (results or {}).get((step.step, ""), ("", False))
    told = now_said or step.says()
    row = StepRow(
        step.step,
        step.name,
        top,
        42,
        _thinking(step),
        False,
        x=4 + 12 * depth,
        kind=step.kind,
        says=cut(told, 64 if not step.nests else 60),
        full=told,
        is_bad=is_bad,
    )
    ladder.steps.append(row)
    for name in _names(step.texts()):
        if name in births:
            births[name][1].append(top + 2)
    for name in step.gives():
        births[name] = (top + 28, [])
    y = top + 42
    for at, branch in enumerate(step.branches):
        ladder.branches.append((row.x + 12, y + 12, cut(_branch_says(step, at), 80)))
        y = _steps(ladder, branch.steps, y + 20, depth + 1, births, results)
        y += 0 if branch.steps else 4
    if step.steps:
        y = _steps(ladder, step.steps, y, depth + 1, births, results)
    elif step.nests and not step.branches:
        y += 10
    row.frame = y - top if step.nests else 0
    return y


def _branch_says(step: Step, at: int) -> str:
    branch = step.branches[at]
    if step.kind == "choose":
        total = sum(each.weight for each in step.branches)
        share = 100 * branch.weight / total if total else 0
        return f"{share:.3g} %: {branch.name or f'branch {at + 1}'}"
    if at == 0:
        return f"if {branch.when}"
    return f"else, if {branch.when}" if branch.when else "else"


def _names(texts: Iterable[tuple[str, str]]) -> Iterator[str]:
    """Of the values that texts ask for; none of a text that can't be read."""
    for _, text in texts:
        with contextlib.suppress(DynamikosError):
            yield from names_in(text)


def _sending(
    ladder: Ladder, step: Step, top: int, depth: int, births: Births, results: Results | None
) -> int:
    """A step of requests."""
    y = top + STEP_H
    for request in step.requests:
        ladder.rungs.append(_rung(step, request, y, results))
        for name in set(_names(request.texts())):
            if name in births:
                births[name][1].append(y + 8)
        for capture in request.captures:
            births[capture.name] = (y + 24, [])
        y += RUNG_H + (DOTS_H if request.embedded else 0)
    if not step.requests:
        y += 22
    ladder.steps.append(
        StepRow(
            step.step,
            step.name,
            top,
            y - top,
            _thinking(step),
            not step.requests,
            bool(step.use),
            x=4 + 12 * depth,
        )
    )
    return y


def _rung(step: Step, request: Request, y: int, results: Results | None) -> Rung:
    target = path_of(request.address)
    if request.query:
        target += "?" + "&".join(f"{name}={value}" for name, value in request.query)
    status, bad = (results or {}).get((step.step, request.request), ("", False))
    is_idle = (results is not None and not status) or request.off or step.off
    full = f"{request.method} {target}"
    return Rung(
        step.step, request.request, y, "", full, status, bad, is_idle, len(request.embedded)
    )


def _strands(ladder: Ladder, births: Births) -> None:
    lanes: list[int] = []
    labels: dict[int, int] = {}
    widest: dict[int, int] = {}
    for name, (born, uses) in births.items():
        last = max(uses, default=born)
        lane = next((index for index, end in enumerate(lanes) if end < born - 10), len(lanes))
        if lane == len(lanes):
            lanes.append(last)
        lanes[lane] = last
        x = RIGHT + 34 + min(lane, 5) * 16
        at = labels.get(born, born + 16)
        labels[born] = at + 14  # several values of one answer: their names beneath each other
        ladder.strands.append(Strand(name, born, x, uses, max(x, widest.get(born, x)) + 8, at))
        widest[born] = max(x, widest.get(born, x))
    for strand in ladder.strands:  # names of one answer's values stand right of all their lines
        strand.label_x = max(strand.label_x, widest[strand.y] + 8)
