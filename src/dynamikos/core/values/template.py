"""A text with holes as pre-split segments: filling is one join, 0.6 µs for two holes.

A hole holds a name (`{{ form_key }}`), a name through filters (`{{ state | base64 }}`), a maker
(`{{ make.uuid }}`), or any other expression, which costs ten times as much (`{{ minutes - 15 }}`).
"""

import re
from collections.abc import Callable, Collection, Mapping

from dynamikos.core.errors import TemplateError
from dynamikos.core.values.expressions import compile_expression, truth
from dynamikos.core.values.filters import FILTERS, as_text, listed
from dynamikos.core.values.makers import CALL, MAKERS, Values, maker_of

HOLE = re.compile(r"\{\{(.*?)\}\}", re.S)
OWN_BODY = "request.body"  # what a request sends, to be computed with in its headers and query
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)?\Z")
Part = Callable[[Mapping[str, str]], str]


class Template:
    """A compiled text. `names` lists the names of its holes in order; `fixed` is the text itself
    when it has none.
    """

    __slots__ = ("_holes", "_names", "_parts", "fixed", "names", "source")

    def __init__(
        self, source: str, parts: list[str], holes: list["str | Part"], names: list[str]
    ) -> None:
        self.source = source
        self._parts = parts
        self._holes = holes
        self._names = (
            [hole for hole in holes if isinstance(hole, str)]
            if all(isinstance(hole, str) for hole in holes)
            else None
        )
        self.names = tuple(names)
        self.fixed = None if holes else "".join(parts)

    def fill(self, values: Mapping[str, str]) -> str:
        """The text with every hole filled from `values`. Raises TemplateError naming the first
        missing one.
        """
        if self.fixed is not None:
            return self.fixed
        parts = self._parts
        out = [parts[0]]
        try:
            if self._names is not None:
                for index, name in enumerate(self._names, 1):
                    out.append(values[name])
                    out.append(parts[index])
            else:
                for index, hole in enumerate(self._holes, 1):
                    out.append(values[hole] if isinstance(hole, str) else hole(values))
                    out.append(parts[index])
        except KeyError as missing:
            raise missing_value(missing.args[0]) from None
        return "".join(out)

    @property
    def pieces(self) -> tuple[str, list[tuple[str, str]]] | None:
        """(text before the first hole, then each hole's name and the text after it) where all holes
        are plain names.
        """
        if self._names is None or not self._names:
            return None
        return self._parts[0], list(zip(self._names, self._parts[1:], strict=True))


def missing_value(name: object) -> TemplateError:
    return TemplateError(f"{name} has no value here: it was not captured before this request")


def compile_text(source: str) -> Template:
    """`source` as a Template. Raises TemplateError for a hole that can't be read or an unfinished
    `{{`.
    """
    parts: list[str] = []
    holes: list[str | Part] = []
    names: list[str] = []
    last = 0
    for match in HOLE.finditer(source):
        hole, needed = _hole(match.group(1).strip())
        holes.append(hole)
        names.extend(needed)
        parts.append(source[last : match.start()])
        last = match.end()
    rest = source[last:]
    if "{{" in rest:
        raise TemplateError("'{{' is never closed; write {{ name }}")
    parts.append(rest)
    return Template(source, parts, holes, names)


def _hole(text: str) -> tuple["str | Part", tuple[str, ...]]:
    """(name, or the function that gives the text; names it needs)."""
    if text.startswith("make.") and (found := CALL.match(text)) and found.group(1) in MAKERS:
        try:
            return maker_of(text), ()
        except TemplateError:
            if "(" not in text or not ("'" in text or '"' in text or "|" in text):
                raise
    name, *steps = (part.strip() for part in text.split("|"))
    if (
        not NAME.match(name)
        or name.startswith("make.")
        or name in ("true", "false", "none")
        or any(step not in FILTERS for step in steps)
    ):
        made = compile_expression(text)
        return made.text, made.names
    if not steps:
        return name, (name,)
    functions = [FILTERS[step] for step in steps]

    def piped(values: Mapping[str, str]) -> str:
        value = values[name]
        for function in functions:
            value = function(value)
        return value

    return piped, (name,)


def compile_condition(source: str) -> Callable[[Mapping[str, str]], bool]:
    """A text as a condition: of one hole its value, else the filled text. Not so are nothing, 0 and
    "false".

    Raises TemplateError.
    """
    whole = HOLE.fullmatch(source.strip())
    if whole is not None and not NAME.match(whole.group(1).strip()):
        made = compile_expression(whole.group(1))
        return lambda values: truth(made.value(values))
    template = compile_text(source)
    return lambda values: truth(template.fill(values))


def compile_list(source: str) -> Callable[[Mapping[str, str]], list[str]]:
    """A text as a list of texts: of one hole its value, else the filled text read as JSON. Raises
    TemplateError.
    """

    def texts(found: object) -> list[str]:
        return [as_text(each) for each in listed(found)]

    whole = HOLE.fullmatch(source.strip())
    if whole is not None and not NAME.match(whole.group(1).strip()):
        made = compile_expression(whole.group(1))
        return lambda values: made.value(values, texts)
    template = compile_text(source)
    return lambda values: texts(template.fill(values))


def bind(source: str, known: Mapping[str, str], secret: Collection[str] = ()) -> str:
    """`source` with the holes filled whose names are `known` already (environment values). What is
    computed from a secret is left to the user who sends it: it is masked there.
    """

    def one(match: re.Match[str]) -> str:
        name, *steps = (part.strip() for part in match.group(1).split("|"))
        if (
            name not in known
            or any(step not in FILTERS for step in steps)
            or (steps and (name in secret or name.startswith("secrets.")))
        ):
            return match.group(0)
        value = known[name]
        for step in steps:
            value = FILTERS[step](value)
        return value

    return HOLE.sub(one, source)


def names_in(source: str) -> tuple[str, ...]:
    """The names of all holes in `source`, in order; makers need none."""
    return compile_text(source).names


def calculates(source: str) -> bool:
    """Whether any hole is more than a name, plain filters or a maker."""
    return any(
        getattr(hole, "__self__", None).__class__.__name__ == "Expression"
        for hole in compile_text(source)._holes
    )


__all__ = [
    "HOLE",
    "NAME",
    "Template",
    "Values",
    "bind",
    "calculates",
    "compile_condition",
    "compile_list",
    "compile_text",
    "names_in",
]
