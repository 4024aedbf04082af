"""Values that a client makes itself: time stamps, UUIDs, random numbers and texts, dates.

`{{ make.uuid }}`, `{{ make.milliseconds }}`, `{{ make.number(1, 600) }}`, `{{ make.text(20) }}`,
`{{ make.date(%d.%m.%Y, 1) }}`.
"""

import re
import string
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from random import Random

from dynamikos.core.errors import TemplateError
from dynamikos.core.values.dates import moved, written

CALL = re.compile(r"make\.([a-z]+7?)(?:\((.*)\))?\Z", re.S)
ALPHABETS = {  # of texts, from the narrowest
    "digits": string.digits,
    "hex": string.digits + "abcdef",
    "HEX": string.digits + "ABCDEF",
    "base36": string.ascii_lowercase + string.digits,
    "BASE36": string.ascii_uppercase + string.digits,
    "letters": string.ascii_letters,
    "base62": string.ascii_letters + string.digits,
    "base64url": string.ascii_letters + string.digits + "-_",
}


def alphabet_of(text: str) -> str:
    """The narrowest alphabet that has all signs of `text`, "" where none has."""
    signs = set(text)
    return next((name for name, made in ALPHABETS.items() if signs <= set(made)), "")


class Maker:
    """Where made values come from: a user's own random stream, begun when first asked for, and the
    clock (µs since the epoch, UTC).
    """

    __slots__ = ("_begin", "_counts", "_random", "known", "now_us", "remembered", "run_count")

    def __init__(
        self,
        begin: Callable[[], Random],
        now_us: Callable[[], int],
        *,
        run_count: Callable[[str], str] = lambda name: "1",
        known: Mapping[str, str] | None = None,
    ) -> None:
        """`run_count(name)` is the next number of a counter that all users of the run share;
        `known` the environment's values.
        """
        self._begin, self.now_us, self.run_count = begin, now_us, run_count
        self.known = known or {}
        self._random: Random | None = None
        self._counts: dict[str, int] = {}
        self.remembered: dict[str, None] = {}  # what was computed from secrets lately, to be masked

    def remember(self, text: str) -> None:
        """Something computed from a secret; the latest hundred are kept."""
        self.remembered.pop(text, None)
        self.remembered[text] = None
        if len(self.remembered) > 100:
            del self.remembered[next(iter(self.remembered))]

    def count(self, name: str) -> str:
        """The next number of the user's own counter `name`, from 1."""
        self._counts[name] = self._counts.get(name, 0) + 1
        return str(self._counts[name])

    @property
    def random(self) -> Random:
        if self._random is None:
            self._random = self._begin()
        return self._random


class Values(dict[str, str]):
    """A user's values by name, with what makes new ones."""

    __slots__ = ("maker",)

    def __init__(self, values: Mapping[str, str], maker: Maker) -> None:
        super().__init__(values)
        self.maker = maker

    def __missing__(self, name: str) -> str:
        return self.maker.known[name]


def _uuid(maker: Maker, args: list[str]) -> str:
    """Version 4 (RFC 9562 §5.4)."""
    h = f"{maker.random.getrandbits(128):032x}"
    return f"{h[:8]}-{h[8:12]}-4{h[13:16]}-{'89ab'[int(h[16], 16) % 4]}{h[17:20]}-{h[20:]}"


def _number(maker: Maker, args: list[str]) -> str:
    low, high = int(args[0]), int(args[1])
    return str(maker.random.randint(min(low, high), max(low, high)))


def _uuid7(maker: Maker, args: list[str]) -> str:
    """Version 7 (RFC 9562 §5.7): it begins with the time in milliseconds."""
    h = f"{maker.now_us() // 1000 & (1 << 48) - 1:012x}{maker.random.getrandbits(80):020x}"
    return f"{h[:8]}-{h[8:12]}-7{h[13:16]}-{'89ab'[int(h[16], 16) % 4]}{h[17:20]}-{h[20:]}"


def _text(maker: Maker, args: list[str]) -> str:
    """Of an alphabet: base36 where none is named."""
    name = args[1] if len(args) > 1 else "base36"
    if name not in ALPHABETS:
        raise ValueError(f"there is no alphabet '{name}'; there are {', '.join(ALPHABETS)}")
    return "".join(maker.random.choices(ALPHABETS[name], k=min(10_000, int(args[0]))))


def _date(maker: Maker, args: list[str]) -> str:
    days = int(args[1]) if len(args) > 1 else 0
    return written(moved(datetime.fromtimestamp(maker.now_us() / 1e6, UTC), days), args[0])


MAKERS: dict[str, tuple[int, int, Callable[[Maker, list[str]], str]]] = {
    # kind: fewest and most arguments, function
    "uuid": (0, 0, _uuid),
    "uuid7": (0, 0, _uuid7),
    "seconds": (0, 0, lambda maker, args: str(maker.now_us() // 1_000_000)),
    "milliseconds": (0, 0, lambda maker, args: str(maker.now_us() // 1000)),
    "microseconds": (0, 0, lambda maker, args: str(maker.now_us())),
    "decimal": (0, 0, lambda maker, args: f"{maker.random.random():.16f}"),
    "number": (2, 2, _number),
    "text": (1, 2, _text),
    "date": (1, 2, _date),
}


def maker_of(text: str) -> Callable[[Mapping[str, str]], str]:
    """The function of a hole that makes its value. Raises TemplateError for an unknown kind or
    wrong arguments.
    """
    found = CALL.match(text)
    kind = found.group(1) if found else ""
    if not found or kind not in MAKERS:
        raise TemplateError(
            f"'{{{{ {text} }}}}' makes nothing known; there are "
            f"{', '.join('make.' + each for each in MAKERS)}"
        )
    fewest, most, function = MAKERS[kind]
    args = (
        [part.strip().strip("\"'") for part in found.group(2).split(",")] if found.group(2) else []
    )
    if not fewest <= len(args) <= most:
        raise TemplateError(
            f"'{{{{ {text} }}}}': make.{kind} takes "
            f"{fewest if fewest == most else f'{fewest} to {most}'} arguments,"
            f" not {len(args)}"
        )
    try:
        function(
            Maker(lambda: Random(0), lambda: 0), args
        )  # a wrong argument is said now, not in a run
    except (ValueError, IndexError) as problem:
        raise TemplateError(f"'{{{{ {text} }}}}': {problem}") from problem

    def make(values: Mapping[str, str]) -> str:
        maker = getattr(values, "maker", None)
        if maker is None:
            raise TemplateError(f"{{{{ {text} }}}} is only made when a request is sent")
        return function(maker, args)

    return make
