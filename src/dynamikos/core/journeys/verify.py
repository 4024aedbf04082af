"""What is wrong with a journey before anything is sent: expressions, and names used before they have a value."""

import base64
from collections.abc import Collection, Iterator, Sequence

import msgspec

from dynamikos.core.captures import compile_capture
from dynamikos.core.checks import compile_check, texts_in
from dynamikos.core.errors import DynamikosError
from dynamikos.core.exchanges.jsontext import problem_in
from dynamikos.core.journeys.headers import header_problem
from dynamikos.core.journeys.model import Authorization, Body, Journey, Request, Step, walk
from dynamikos.core.values import names_in
from dynamikos.core.values.template import NAME

BUILT_IN = frozenset({"user.number", "round.number"})


class Problem(msgspec.Struct, frozen=True, kw_only=True):
    """Something to mend: which step and request (keys), and what."""

    step: str
    request: str
    message: str


def texts_of(request: Request) -> Iterator[tuple[str, str]]:
    """(what it is, text) for each text of a request that may have holes."""
    yield "address", request.address
    for name, value in request.query:
        yield f"query {name}", name
        yield f"query {name}", value
    for name, value in request.headers:
        yield f"header {name}", value
    if request.authorization is not None:
        yield from ((f"authorization, {what}", text) for what, text in request.authorization.texts())
    if request.body is not None:
        for name, value in request.body.form or ():
            yield f"field {name}", name
            yield f"field {name}", value
        for part in request.body.parts or ():
            yield f"part {part.name}", part.value
        if request.body.json is not None:
            yield "JSON body", request.body.json
        if request.body.raw is not None:
            yield "body", request.body.raw
    for check in request.checks:
        yield from (("check", text) for text in texts_in(check))


def item_texts(step: Step) -> Iterator[tuple[str, str]]:
    """Like `texts_of`, for what a step does besides sending requests; conditions and lists too."""
    for name, value in step.set:
        yield f"set {name}", value
    if step.pause:
        yield "pause", step.pause
    if step.log:
        yield "log", step.log
    if step.call is not None:
        yield from ((f"call, {name}", value) for name, value in step.call.with_)
    if step.keep is not None:
        yield from ((f"row, {name}", value) for name, value in step.keep.row)
    if step.repeat is not None:
        yield from (("repeat", text) for text in (step.repeat.times, step.repeat.while_, step.repeat.until) if text)
    if step.each is not None:
        yield "for each", step.each.in_
    yield from (("when", branch.when) for branch in step.branches if branch.when)


def gives(step: Step) -> list[str]:
    """Names of values that a step gives itself, in order (its requests' captures apart)."""
    names = [name for name, _ in step.set]
    if step.call is not None and step.call.into:
        names.append(step.call.into)
    if step.each is not None:
        names.append(step.each.name)
    return names


def common_texts(journey: Journey) -> Iterator[tuple[str, str]]:
    """Like `texts_of`, for what all requests of the journey have in common."""
    for name, value in journey.headers:
        yield f"common header {name}", value
    if journey.authorization is not None:
        yield from ((f"authorization, {what}", text) for what, text in journey.authorization.texts())


def names_needed(journey: Journey) -> set[str]:
    """Every name with a dot that the journey uses (columns and environment values), built-in ones apart."""
    names: set[str] = set()
    texts = [text for _, text in common_texts(journey)]
    for _, step in journey.active(cleanup=True).steps():
        texts += [text for _, text in item_texts(step)] + [
            text for request in step.requests for _, text in texts_of(request)
        ]
    for text in texts:
        try:
            names.update(name for name in names_in(text) if "." in name and name not in BUILT_IN)
        except DynamikosError:
            continue
    return names


def verify(journey: Journey, known: Collection[str], functions: Collection[str] | None = None) -> list[Problem]:
    """Problems in order. `known` holds columns ("observers.email") and environment values ("env.observatory"),
    `functions` the project's Python functions ("module.function"; None: not looked at). Expressions are read, never
    run.
    """
    problems: list[Problem] = []
    captured: set[str] = set()
    everywhere = {
        capture.name for _, step in journey.steps() for request in step.requests for capture in request.captures
    }
    everywhere |= {name for _, step in journey.steps() for name in gives(step)}
    # a captured value counts from when it is there; until then the request fails with its name
    for what, text in common_texts(journey):
        try:
            unknown = [name for name in names_in(text) if name not in {*known, *everywhere, *BUILT_IN}]
        except DynamikosError as problem:
            problems.append(Problem(step="", request="", message=f"{what}: {problem}"))
            continue
        problems.extend(Problem(step="", request="", message=f"{what}: {_unknown(name, known)}") for name in unknown)
    problems.extend(_kinds("", "", None, journey.authorization))
    problems.extend(_headers("", "", journey.headers))
    for _, step in journey.active(cleanup=True).steps():
        if step.use and not step.requests:
            problems.append(
                Problem(
                    step=step.step,
                    request="",
                    message=f"there is no shared step '{step.use}' with requests in this project",
                )
            )
        problems.extend(_item_problems(step, functions))
        inside = set()  # what its own steps capture is known when `until` is asked
        if step.repeat is not None:
            inside = {
                each.name for inner in walk(step.steps) for request in inner.requests for each in request.captures
            }
            inside |= {name for inner in walk(step.steps) for name in gives(inner)}
        for what, text in item_texts(step):
            try:
                names = names_in(text)
            except DynamikosError as problem:
                problems.append(Problem(step=step.step, request="", message=f"{what}: {problem}"))
                continue
            unknown = [name for name in names if name not in {*known, *captured, *inside, *BUILT_IN}]
            problems.extend(
                Problem(step=step.step, request="", message=f"{what}: {_unknown(name, known)}") for name in unknown
            )
            if what.startswith("set "):
                captured.add(what[4:])  # the next one may use it
        captured.update(gives(step))
        for request in step.requests:
            problems.extend(_kinds(step.step, request.request, request.body, request.authorization))
            problems.extend(_headers(step.step, request.request, request.headers))
            for what, text in texts_of(request):
                try:
                    names = names_in(text)
                except DynamikosError as problem:
                    problems.append(Problem(step=step.step, request=request.request, message=f"{what}: {problem}"))
                    continue
                # a check sees what its own answer was captured into
                own = {capture.name for capture in request.captures} if what == "check" else set()
                for name in names:
                    if name in known or name in captured or name in own or name in BUILT_IN:
                        continue
                    problems.append(
                        Problem(step=step.step, request=request.request, message=f"{what}: {_unknown(name, known)}")
                    )
            for capture in request.captures:
                try:
                    compile_capture(capture)
                except DynamikosError as problem:
                    problems.append(
                        Problem(step=step.step, request=request.request, message=f"capture {capture.name}: {problem}")
                    )
                captured.add(capture.name)
            for check in request.checks:
                try:
                    compile_check(check)
                except DynamikosError as problem:
                    problems.append(Problem(step=step.step, request=request.request, message=f"check: {problem}"))
    return problems


def _item_problems(step: Step, functions: Collection[str] | None) -> Iterator[Problem]:
    """One thing a step; rules that can be followed; names that can be ones."""

    def wrong(message: str) -> Problem:
        return Problem(step=step.step, request="", message=message)

    given = [kind for kind in ("set", "pause", "log", "call", "keep", "repeat", "each") if getattr(step, kind)]
    given += ["branches"] * bool(step.branches or step.choose) + ["requests"] * bool(step.requests)
    if len(given) > 1:
        yield wrong(f"a step does one thing; this one has {' and '.join(given)}. Make them steps of their own")
    if step.steps and step.kind not in ("repeat", "each"):
        yield wrong("steps stand in a step that repeats them, or does them for each of a list")
    for name in gives(step):
        if not NAME.match(name) or "." in name:
            yield wrong(f"'{name}' can't be the name of a value: letters, digits and _, not beginning with a digit")
    if (
        step.repeat is not None
        and sum(bool(each) for each in (step.repeat.times, step.repeat.while_, step.repeat.until)) != 1
    ):
        yield wrong("repeat: give one of times, while or until")
    if step.kind == "if" and any(not branch.when for branch in step.branches[:-1]):
        yield wrong("if: only the last branch may be without a condition (when)")
    if step.kind == "choose" and not any(branch.weight > 0 for branch in step.branches):
        yield wrong("choose: at least one branch needs a weight above 0")
    if step.call is not None and functions is not None and step.call.function not in functions:
        there = (
            f"there are {', '.join(sorted(functions)[:12])}"
            if functions
            else "the project has none yet; an owner, or who may, adds a module under Functions"
        )
        yield wrong(f"call: there is no function {step.call.function}; {there}")
    if step.keep is not None:
        if not step.keep.row:
            yield wrong("write a row: name at least one column and its text")
        for name, _ in step.keep.row:
            if not NAME.match(name) or "." in name:
                yield wrong(
                    f"'{name}' can't be the name of a column: letters, digits and _, not beginning with a digit"
                )


def _headers(step: str, request: str, headers: Sequence[tuple[str, str]]) -> Iterator[Problem]:
    for name, value in headers:
        if wrong := header_problem(name, value):
            yield Problem(step=step, request=request, message=f"header: {wrong}")


def _kinds(step: str, request: str, body: Body | None, authorization: Authorization | None) -> Iterator[Problem]:
    """Exactly one kind of body, and of authorization; files that can be decoded."""
    if authorization is not None and authorization.kind in ("", "several"):
        yield Problem(
            step=step, request=request, message="authorization: give one of basic, digest, bearer, client or none"
        )
    for what, text in authorization.texts() if authorization is not None else ():
        if not text and what != "scope":
            yield Problem(step=step, request=request, message=f"authorization, {what}: nothing is given yet")
    if body is None:
        return
    if sum(getattr(body, kind) is not None for kind in ("form", "parts", "json", "raw")) + bool(body.file) != 1:
        yield Problem(step=step, request=request, message="body: give one of form, parts, json, raw or file")
    if body.json is not None and (wrong := problem_in(body.json)):
        yield Problem(
            step=step, request=request, message=f"JSON body, {wrong}; a body that shall not be JSON is given as raw"
        )
    for part in body.parts or ():
        try:
            base64.b64decode(part.base64, validate=True)
        except ValueError:
            yield Problem(step=step, request=request, message=f"part {part.name}: its content is not base64")


def _unknown(name: str, known: Collection[str]) -> str:
    owner = name.split(".")[0]
    if "." not in name:
        return (
            f"{{{{ {name} }}}} is not captured before this request; add a capture named {name} to an earlier one, or"
            " set it"
        )
    if owner == "env":
        return f"{{{{ {name} }}}} is not set in this environment; add '{name[4:]}' in Settings"
    near = sorted(other for other in known if other.startswith(owner + "."))
    if near:
        return (
            f"{{{{ {name} }}}} does not exist; '{owner}' has {', '.join(part.split('.', 1)[1] for part in near[:12])}"
        )
    return f"{{{{ {name} }}}} does not exist: no data set '{owner}' is in this project"
