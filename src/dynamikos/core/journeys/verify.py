"""What is wrong with a journey before anything is sent: expressions, and names used before they
have a value.
"""

from collections.abc import Collection, Iterable, Iterator

import msgspec

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys.kinds import Repeating, Step
from dynamikos.core.journeys.model import Journey, walk
from dynamikos.core.journeys.request import Request, header_problems
from dynamikos.core.text.template_walk import Pair
from dynamikos.core.values import names_in
from dynamikos.core.values.template import OWN_BODY

BUILT_IN = frozenset({"user.number", "round.number", OWN_BODY})


class Problem(msgspec.Struct, frozen=True, kw_only=True):
    """Something to mend: which step and request (keys), and what."""

    step: str
    request: str
    message: str


def names_needed(journey: Journey) -> set[str]:
    """Every name with a dot that the journey uses (columns and environment values), built-in ones
    apart.
    """
    names: set[str] = set()
    for _, text in journey.active(cleanup=True).texts():
        try:
            names.update(name for name in names_in(text) if "." in name and name not in BUILT_IN)
        except DynamikosError:
            continue
    return names


def verify(
    journey: Journey,
    known: Collection[str],
    functions: Collection[str] | None = None,
    settings: str = "Settings",
) -> list[Problem]:
    """Problems in order. `settings` is where an environment's values stand, for hints. `known`
    holds columns ("observers.email") and environment values ("env.observatory"), `functions` the
    project's Python functions ("module.function"; None: not looked at). Expressions are read, never
    run.
    """
    return list(_Reading(known, functions, settings).problems(journey))


class _Reading:
    """A journey read in its order, with the names that have a value so far."""

    def __init__(
        self, known: Collection[str], functions: Collection[str] | None, settings: str
    ) -> None:
        self.known, self.functions, self.settings = known, functions, settings
        self.names = {*known, *BUILT_IN}

    def problems(self, journey: Journey) -> Iterator[Problem]:
        # a captured value counts from when it is there; until then the request fails with its name
        everywhere = {name for _, step in journey.steps() for name in step.known_after()}
        yield from _at("", "", self._texts(journey.common_texts(), everywhere))
        if journey.authorization is not None:
            yield from _at("", "", journey.authorization.problems())
        yield from _at("", "", header_problems(journey.headers))
        for _, step in journey.active(cleanup=True).steps():
            yield from _at(step.step, "", self._step(step))
            for request in step.requests:
                yield from _at(step.step, request.request, self._request(request))

    def _step(self, step: Step) -> Iterator[str]:
        if step.use and not step.requests:
            yield f"there is no shared step '{step.use}' with requests in this project"
        yield from step.problems(self.functions)
        # what its own steps capture is known when `until` is asked
        inside = {
            name
            for inner in walk(step.steps)
            for name in inner.known_after()
            if isinstance(step, Repeating)
        }
        if step.in_turn:
            for text, name in zip(step.texts(), step.gives(), strict=True):
                yield from self._texts([text], inside)
                self.names.add(name)
        else:
            yield from self._texts(step.texts(), inside)
        self.names.update(step.gives())

    def _request(self, request: Request) -> Iterator[str]:
        yield from request.problems()
        own = {capture.name for capture in request.captures}
        for what, text in request.texts():  # a check sees what its own answer was captured into
            yield from self._texts([(what, text)], own if what == "check" else ())
            if OWN_BODY in _names(text) and what.split(" ")[0] not in ("header", "query"):
                yield f"{what}: {{{{ {OWN_BODY} }}}} is known in a request's headers and query only"
            elif OWN_BODY in _names(text) and (request.body is None or request.body.file):
                yield f"{what}: {{{{ {OWN_BODY} }}}} needs a body that is written in the journey"
        yield from request.rule_problems()
        self.names |= own

    def _texts(self, texts: Iterable[Pair], also: Collection[str]) -> Iterator[str]:
        for what, text in texts:
            try:
                names = names_in(text)
            except DynamikosError as problem:
                yield f"{what}: {problem}"
                continue
            yield from (
                f"{what}: {_unknown(name, self.known, self.settings)}"
                for name in names
                if name not in self.names and name not in also
            )


def _names(text: str) -> tuple[str, ...]:
    try:
        return names_in(text)
    except DynamikosError:
        return ()


def _at(step: str, request: str, messages: Iterable[str]) -> Iterator[Problem]:
    return (Problem(step=step, request=request, message=message) for message in messages)


def _unknown(name: str, known: Collection[str], settings: str) -> str:
    owner = name.split(".")[0]
    if "." not in name:
        return (
            f"{{{{ {name} }}}} is not captured before this request; add a capture named {name} to "
            "an earlier one, or"
            " set it"
        )
    if owner == "env":
        return f"{{{{ {name} }}}} is not set in this environment; add '{name[4:]}' in {settings}"
    near = sorted(other for other in known if other.startswith(owner + "."))
    if near:
        return (
            f"{{{{ {name} }}}} does not exist; '{owner}' has "
            f"{', '.join(part.split('.', 1)[1] for part in near[:12])}"
        )
    return f"{{{{ {name} }}}} does not exist: no data set '{owner}' is in this project"
