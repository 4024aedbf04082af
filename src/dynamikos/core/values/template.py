"""A text with holes as pre-split segments: filling is one join, 0.6 µs for two holes."""

import re
from collections.abc import Mapping

from dynamikos.core.errors import TemplateError

HOLE = re.compile(r"\{\{(.*?)\}\}", re.S)
NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*(\.[A-Za-z_][A-Za-z0-9_]*)?\Z")


class Template:
    """A compiled text. `names` lists its holes in order; `fixed` is the text itself when it has none."""

    __slots__ = ("_names", "_parts", "fixed", "names", "source")

    def __init__(self, source: str, parts: list[str], names: list[str]) -> None:
        self.source = source
        self._parts = parts
        self._names = names
        self.names = tuple(names)
        self.fixed = None if names else "".join(parts)

    def fill(self, values: Mapping[str, str]) -> str:
        """The text with every hole filled from `values`. Raises TemplateError naming the first missing one."""
        if self.fixed is not None:
            return self.fixed
        parts = self._parts
        out = [parts[0]]
        try:
            for index, name in enumerate(self._names, 1):
                out.append(values[name])
                out.append(parts[index])
        except KeyError as missing:
            raise TemplateError(f"{missing.args[0]} has no value here: it was not captured before this request") from None
        return "".join(out)


def compile_text(source: str) -> Template:
    """`source` as a Template. Raises TemplateError for a hole that is not a plain name or an unfinished `{{`."""
    parts: list[str] = []
    names: list[str] = []
    last = 0
    for match in HOLE.finditer(source):
        name = match.group(1).strip()
        if not NAME.match(name):
            raise TemplateError(f"'{{{{ {name} }}}}' is not a name; write a captured name, a column such as observers.email, or env.name")
        parts.append(source[last : match.start()])
        names.append(name)
        last = match.end()
    rest = source[last:]
    if "{{" in rest:
        raise TemplateError("'{{' is never closed; write {{ name }}")
    parts.append(rest)
    return Template(source, parts, names)


def names_in(source: str) -> tuple[str, ...]:
    """The names of all holes in `source`, in order."""
    return compile_text(source).names
