"""A text with holes as pre-split segments: filling is one join, 0.6 µs for two holes.

A hole holds a name (`{{ form_key }}`), a name through filters (`{{ state | base64 }}`) or a maker (`{{ make.uuid }}`).
"""

import re
from collections.abc import Callable, Mapping

from dynamikos.core.errors import TemplateError
from dynamikos.core.values.filters import FILTERS
from dynamikos.core.values.makers import Values, maker_of

HOLE = re.compile(r"\{\{(.*?)\}\}", re.S)
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)?\Z")
Part = Callable[[Mapping[str, str]], str]


class Template:
    """A compiled text. `names` lists the names of its holes in order; `fixed` is the text itself when it has none."""

    __slots__ = ("_holes", "_names", "_parts", "fixed", "names", "source")

    def __init__(self, source: str, parts: list[str], holes: list["str | Part"], names: list[str]) -> None:
        self.source = source
        self._parts = parts
        self._holes = holes
        self._names = [hole for hole in holes if isinstance(hole, str)] if all(isinstance(hole, str) for hole in holes) else None
        self.names = tuple(names)
        self.fixed = None if holes else "".join(parts)

    def fill(self, values: Mapping[str, str]) -> str:
        """The text with every hole filled from `values`. Raises TemplateError naming the first missing one."""
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
            raise TemplateError(f"{missing.args[0]} has no value here: it was not captured before this request") from None
        return "".join(out)


def compile_text(source: str) -> Template:
    """`source` as a Template. Raises TemplateError for a hole that can't be read or an unfinished `{{`."""
    parts: list[str] = []
    holes: list[str | Part] = []
    names: list[str] = []
    last = 0
    for match in HOLE.finditer(source):
        hole, name = _hole(match.group(1).strip())
        holes.append(hole)
        if name:
            names.append(name)
        parts.append(source[last : match.start()])
        last = match.end()
    rest = source[last:]
    if "{{" in rest:
        raise TemplateError("'{{' is never closed; write {{ name }}")
    parts.append(rest)
    return Template(source, parts, holes, names)


def _hole(text: str) -> tuple["str | Part", str]:
    """(name, or the function that gives the text; name it needs or "")."""
    if text.startswith("make.") and "|" not in text:
        return maker_of(text), ""
    name, *steps = (part.strip() for part in text.split("|"))
    if not NAME.match(name) or name.startswith("make."):
        raise TemplateError(f"'{{{{ {text} }}}}' is not a name; write a captured name, a column such as observers.email, or env.name")
    if not steps:
        return name, name
    unknown = next((step for step in steps if step not in FILTERS), None)
    if unknown is not None:
        raise TemplateError(f"'{{{{ {text} }}}}': there is no filter '{unknown}'; there are {', '.join(FILTERS)}")
    functions = [FILTERS[step] for step in steps]

    def piped(values: Mapping[str, str]) -> str:
        value = values[name]
        for function in functions:
            value = function(value)
        return value

    return piped, name


def bind(source: str, known: Mapping[str, str]) -> str:
    """`source` with the holes filled whose names are `known` already (environment values)."""

    def one(match: re.Match[str]) -> str:
        name, *steps = (part.strip() for part in match.group(1).split("|"))
        if name not in known or any(step not in FILTERS for step in steps):
            return match.group(0)
        value = known[name]
        for step in steps:
            value = FILTERS[step](value)
        return value

    return HOLE.sub(one, source)


def names_in(source: str) -> tuple[str, ...]:
    """The names of all holes in `source`, in order; makers need none."""
    return compile_text(source).names


__all__ = ["HOLE", "NAME", "Template", "Values", "bind", "compile_text", "names_in"]
