"""Expressions in holes: Jinja's sandboxed grammar over a user's values, with nothing in it that
could run away.

Names are values, `owner.name` a column or environment value; `+ - * / // % **` calculate in
decimals, `~` joins texts, comparisons are of numbers where both sides are. No methods, no loops, no
attributes of Python: filters and functions are the lists below. Reading an expression
(`compile_expression`) runs nothing of it; it is compiled when it is first asked for a value.
"""

import base64
import hmac
import math
import re
from collections.abc import Callable, Iterator, Mapping
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

from jinja2 import StrictUndefined, TemplateSyntaxError, UndefinedError, nodes
from jinja2.lexer import TokenStream
from jinja2.parser import Parser
from jinja2.sandbox import SandboxedEnvironment
from jinja2.visitor import NodeTransformer

from dynamikos.core.errors import TemplateError
from dynamikos.core.values import dates
from dynamikos.core.values.filters import RICH, as_text, joined
from dynamikos.core.values.makers import MAKERS, Maker
from dynamikos.core.values.numbers import as_number, calculate, number

LONGEST_SOURCE, DEEPEST = 2_000, 40
MAKES = (*MAKERS, "choice", "count", "run_count")
FUNCTIONS = ("now", "totp")


def truth(value: object) -> bool:
    """What a condition makes of a value: nothing, nought and "false" are not so."""
    if isinstance(value, str):
        return value.strip().lower() not in ("", "false", "0", "null", "none")
    return bool(value)


def compared(left: Any, operator: str, right: Any) -> bool:
    """Numbers where both are, else texts; `in` looks into lists and texts."""
    for side in (left, right):
        if isinstance(side, StrictUndefined):
            str(side)  # says which name has no value
    if operator in ("in", "notin"):
        inside = as_text(left) in (
            [as_text(each) for each in right]
            if isinstance(right, list | tuple | dict)
            else as_text(right)
        )
        return inside == (operator == "in")
    a, b = as_number(left), as_number(right)
    x: Any = a
    y: Any = b
    if a is None or b is None:
        x, y = as_text(left), as_text(right)
    found: bool = {
        "eq": lambda: x == y,
        "ne": lambda: x != y,
        "lt": lambda: x < y,
        "lteq": lambda: x <= y,
        "gt": lambda: x > y,
        "gteq": lambda: x >= y,
    }[operator]()
    return found


class _Sandbox(SandboxedEnvironment):
    intercepted_binops = frozenset(("+", "-", "*", "/", "//", "**", "%"))
    intercepted_unops = frozenset(("+", "-"))

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        return calculate(operator, left, right)

    def call_unop(self, context: Any, operator: str, arg: Any) -> Any:
        return -number(arg) if operator == "-" else number(arg)

    def getitem(self, obj: Any, argument: Any) -> Any:
        """An entry of a list, a field of an object, letters of a text; what is not there says what
        there is.
        """
        if isinstance(obj, StrictUndefined):
            str(obj)  # says which name has no value
        if isinstance(argument, Decimal):
            argument = int(argument)
        if isinstance(obj, dict):
            key = as_text(argument)
            return (
                obj[key]
                if key in obj
                else StrictUndefined(
                    f"the object has no field “{key[:60]}”; it has "
                    f"{', '.join(map(str, [*obj][:12])) or 'none'}"
                )
            )
        if isinstance(obj, list | tuple | str) and isinstance(argument, int | slice):
            try:
                return obj[argument]
            except IndexError:
                what = "text" if isinstance(obj, str) else "list"
                return StrictUndefined(
                    f"the {what} has {len(obj)} {'letters' if what == 'text' else 'entries'}; "
                    f"there is no [{argument}]"
                    " (the first is [0])"
                )
        return StrictUndefined(
            f"only objects and lists have [ ]; this is {as_text(obj)[:60]!r}: write | from_json "
            "first if it is JSON as"
            " text"
        )

    def is_safe_attribute(self, obj: Any, attr: str, value: Any) -> bool:
        return isinstance(obj, Making) and attr in MAKES

    def is_safe_callable(self, obj: Any) -> bool:
        return isinstance(obj, _Made)


def _environment() -> _Sandbox:
    made = _Sandbox(undefined=StrictUndefined, optimized=False, autoescape=False, cache_size=0)
    made.filters = {**RICH, "_compare": compared, "_join": joined}
    made.tests = {
        "defined": lambda value: not isinstance(value, StrictUndefined),
        "undefined": lambda value: isinstance(value, StrictUndefined),
    }
    made.globals = {}
    return made


class _Made:
    """A function that an expression may call."""

    __slots__ = ("_function",)

    def __init__(self, function: Callable[..., Any]) -> None:
        self._function = function

    def __call__(self, *args: Any, **named: Any) -> Any:
        return self._function(*args, **named)


class Making:
    """`make` in an expression: what `{{ make.… }}` alone gives, and choices and counters."""

    def __init__(self, maker: Maker) -> None:
        self._maker = maker

    def __getattr__(self, kind: str) -> Any:
        maker = self._maker
        if kind in MAKERS:
            fewest, most, function = MAKERS[kind]
            if most == 0:
                return function(maker, [])

            def call(*args: Any) -> str:
                if not fewest <= len(args) <= most:
                    raise TemplateError(
                        f"make.{kind} takes {fewest if fewest == most else f'{fewest} to {most}'} "
                        "arguments, not"
                        f" {len(args)}"
                    )
                try:
                    return function(maker, [as_text(arg) for arg in args])
                except ValueError as problem:
                    raise TemplateError(f"make.{kind}: {problem}") from problem

            return _Made(call)
        if kind == "choice":
            return _Made(self._choice)
        if kind == "count":
            return _Made(lambda name="": maker.count(as_text(name)))
        if kind == "run_count":
            return _Made(lambda name="": maker.run_count(as_text(name)))
        raise AttributeError(kind)

    def _choice(self, *among: Any) -> Any:
        from dynamikos.core.values.filters import listed

        found = listed(among[0]) if len(among) == 1 else list(among)
        if not found:
            raise TemplateError("make.choice has nothing to choose from")
        return found[self._maker.random.randrange(len(found))]


def _now(maker: Maker) -> _Made:
    def now(
        form: str = "%Y-%m-%dT%H:%M:%SZ",
        days: Any = 0,
        hours: Any = 0,
        minutes: Any = 0,
        seconds: Any = 0,
        zone: str = "UTC",
    ) -> str:
        instant = datetime.fromtimestamp(maker.now_us() / 1e6, UTC).astimezone(dates.zone_of(zone))
        return dates.written(dates.moved(instant, days, hours, minutes, seconds), form)

    return _Made(now)


def one_time_code(secret: Any, at_s: float, digits: Any = 6, every_s: Any = 30) -> str:
    """A code of RFC 6238 with SHA-1, from the shared secret in base32 as it is shown when the
    second factor is set up.
    """
    count, step = int(number(digits)), int(number(every_s))
    if not 4 <= count <= 10 or step < 1:
        raise TemplateError("totp makes codes of 4 to 10 digits, a new one each second or slower")
    text = re.sub(r"[\s=-]", "", as_text(secret)).upper()
    try:
        key = base64.b32decode(text + "=" * (-len(text) % 8))
    except ValueError as problem:
        raise TemplateError("totp needs the shared secret in base32") from problem
    digest = hmac.digest(key, (int(at_s) // step).to_bytes(8, "big"), "sha1")
    at = digest[-1] & 15  # RFC 4226 §5.3: dynamic truncation
    whole = int.from_bytes(digest[at : at + 4], "big") & 0x7FFFFFFF
    return f"{whole % 10**count:0{count}d}"


def _totp(maker: Maker) -> _Made:
    def totp(secret: Any, digits: Any = 6, every_s: Any = 30) -> str:
        return one_time_code(secret, maker.now_us() / 1e6, digits, every_s)

    return _Made(totp)


WORD = re.compile(r"\.?\w+|\S")


def span_at(source: str, place: int) -> tuple[int, int]:
    """The word or sign at `place`, counted from 1."""
    found = WORD.match(source, place - 1)
    return found.span() if found else (len(source), len(source))


def span_of(source: str, name: str) -> tuple[int, int] | None:
    """Where a name stands first in an expression."""
    found = re.search(rf"(?<![\w.]){re.escape(name)}(?!\w)", source)
    return found.span() if found else None


def _parsed(source: str) -> nodes.Expr:
    """Jinja's tree, with places in `source`, counted from 1, where it keeps the numbers of lines.

    Raises TemplateSyntaxError with such a place.
    """

    def tokens() -> Iterator[tuple[int, str, str]]:
        at = 1
        try:
            for _, kind, text in _sandbox.lexer.tokeniter(source, None, None, "variable"):
                yield at, kind, text
                at += len(text)
        except TemplateSyntaxError as problem:
            quote = source[at - 1 : at] in ("'", '"')
            raise TemplateSyntaxError(
                "a quote is not closed" if quote else f"“{source[at - 1 : at]}” means nothing here",
                at,
            ) from problem

    parser = Parser(_sandbox, "", state="variable")
    parser.stream = TokenStream(_sandbox.lexer.wrap(tokens()), None, None)
    tree = parser.parse_expression()
    if not parser.stream.eos:
        raise TemplateSyntaxError(
            f"“{parser.stream.current}” is not expected here", parser.stream.current.lineno
        )
    return tree


class _Reader(NodeTransformer):
    """Names into variables v0, v1, …; comparisons and joins into our own."""

    def __init__(self, source: str) -> None:
        self.source = source
        self.names: list[str] = []
        self.depth = 0

    def _value(self, name: str) -> nodes.Name:
        if name not in self.names:
            self.names.append(name)
        return nodes.Name(f"v{self.names.index(name)}", "load")

    def _wrong(self, node: nodes.Node, why: str) -> TemplateError:
        return TemplateError(
            f"'{{{{ {self.source[:200]} }}}}': {why}", span_at(self.source, node.lineno)
        )

    def visit(self, node: nodes.Node, *args: Any, **kwargs: Any) -> Any:
        self.depth += 1
        if self.depth > 3 * DEEPEST:
            raise self._wrong(node, "it is nested too deeply")
        try:
            return super().visit(node, *args, **kwargs)
        finally:
            self.depth -= 1

    def visit_Name(self, node: nodes.Name) -> nodes.Node:
        if node.name in ("make", *FUNCTIONS):
            return node
        return self._value(node.name)

    def visit_Const(self, node: nodes.Const) -> nodes.Node:
        if isinstance(node.value, float) and not math.isfinite(node.value):
            raise self._wrong(node, "a number in it is too large")
        return node

    def visit_Getattr(self, node: nodes.Getattr) -> nodes.Node:
        if isinstance(node.node, nodes.Name):
            if node.node.name == "make":
                if node.attr not in MAKES:
                    raise self._wrong(
                        node,
                        f"make.{node.attr} makes nothing known; there are"
                        f" {', '.join('make.' + each for each in MAKES)}",
                    )
                return node
            return self._value(f"{node.node.name}.{node.attr}")
        if isinstance(node.node, nodes.Getattr) and isinstance(node.node.node, nodes.Name):
            raise self._wrong(
                node,
                f"“{node.node.node.name}.{node.node.attr}.{node.attr}” is not a name; a name has "
                "at most one point",
            )
        node.node = self.visit(node.node)
        return nodes.Getitem(
            node.node, nodes.Const(node.attr), "load"
        )  # a field of an object read from JSON

    def visit_Call(self, node: nodes.Call) -> nodes.Node:
        called = node.node
        is_function = isinstance(called, nodes.Name) and called.name in FUNCTIONS
        is_maker = (
            isinstance(called, nodes.Getattr)
            and isinstance(called.node, nodes.Name)
            and called.node.name == "make"
        )
        if (
            not (is_function or is_maker)
            or node.dyn_args is not None
            or node.dyn_kwargs is not None
        ):
            raise self._wrong(
                called,
                f"only {', '.join(f'{each}(…)' for each in FUNCTIONS)} and make.…(…) can be "
                "called; change a value"
                " through filters: name | upper",
            )
        return self.generic_visit(node)

    def visit_Filter(self, node: nodes.Filter) -> nodes.Node:
        if node.name not in RICH:
            raise self._wrong(
                node, f"there is no filter '{node.name}'; there are {', '.join(sorted(RICH))}"
            )
        return self.generic_visit(node)

    def visit_Test(self, node: nodes.Test) -> nodes.Node:
        if node.name not in ("defined", "undefined"):
            raise self._wrong(
                node, f"there is no test '{node.name}'; there are 'is defined' and 'is undefined'"
            )
        return self.generic_visit(node)

    def visit_Compare(self, node: nodes.Compare) -> nodes.Node:
        made: nodes.Expr | None = None
        left = self.visit(node.expr)
        for operand in node.ops:
            right = self.visit(operand.expr)
            one = nodes.Filter(left, "_compare", [nodes.Const(operand.op), right], [], None, None)
            made = one if made is None else nodes.And(made, one)
            left = right
        assert made is not None
        return made

    def visit_Concat(self, node: nodes.Concat) -> nodes.Node:
        parts = [self.visit(each) for each in node.nodes]
        return nodes.Filter(parts[0], "_join", parts[1:], [], None, None)


_sandbox = _environment()


class Expression:
    """One expression. `names` are the values it needs, in order."""

    __slots__ = ("_function", "_makes", "_now", "_tree", "names", "source")

    def __init__(
        self, source: str, tree: nodes.Expr, names: tuple[str, ...], *, makes: bool, now: bool
    ) -> None:
        self.source, self._tree, self.names, self._makes, self._now = (
            source,
            tree,
            names,
            makes,
            now,
        )
        self._function: Any = None

    def value(self, values: Mapping[str, str], become: Callable[[Any], Any] | None = None) -> Any:
        """What it comes to with `values`, and what `become` makes of that.

        Raises TemplateError saying what is wrong.
        """
        if self._function is None:
            self._function = self._compiled()
        given: dict[str, Any] = {}
        for at, name in enumerate(self.names):
            try:
                given[f"v{at}"] = values[name]
            except KeyError:
                given[f"v{at}"] = StrictUndefined(name=name)
        if self._makes or self._now:
            maker = getattr(values, "maker", None)
            if maker is None:
                raise TemplateError(f"{{{{ {self.source} }}}} is only made when a request is sent")
            given["make"], given["now"], given["totp"] = Making(maker), _now(maker), _totp(maker)
        try:
            context = self._function.new_context(given)
            for _ in self._function.root_render_func(context):
                pass
            found = context.vars["result"]
            if isinstance(found, StrictUndefined):
                raise self._missing(found._undefined_name, found._undefined_message)
            return found if become is None else become(found)
        except UndefinedError as problem:
            raise self._missing(None, str(problem)) from problem
        except TemplateError as problem:
            text = str(problem)
            raise TemplateError(
                text if text.startswith("'{{") else f"'{{{{ {self.source[:200]} }}}}': {text}",
                problem.at,
            ) from problem
        except (
            Exception
        ) as problem:  # whatever an expression makes of its values is its own failure
            if isinstance(problem, MemoryError) or type(problem).__name__ == "OverBudget":
                raise
            raise TemplateError(f"'{{{{ {self.source[:200]} }}}}': {_words(problem)}") from problem

    def _missing(self, name: str | None, text: str) -> TemplateError:
        if name is None and text.endswith(" is undefined"):
            name = text[1:].partition("'")[0]
            name = name if name in self.names else None
        if name:
            return TemplateError(
                f"{name} has no value here: it was not captured before this request",
                span_of(self.source, name),
            )
        return TemplateError(f"'{{{{ {self.source[:200]} }}}}': {text}")

    def text(self, values: Mapping[str, str]) -> str:
        """Its value as text."""
        found: str = self.value(values, as_text)
        return found

    def _compiled(self) -> Any:
        body: list[nodes.Node] = [nodes.Assign(nodes.Name("result", "store"), self._tree, lineno=1)]
        template = nodes.Template(body, lineno=1)
        try:
            return _sandbox.from_string(template)
        except (SyntaxError, MemoryError, RecursionError, ValueError) as problem:
            raise TemplateError(
                f"'{{{{ {self.source[:200]} }}}}': it is nested too deeply"
            ) from problem


def _words(problem: BaseException) -> str:
    text = str(problem)
    if isinstance(problem, TypeError) and "argument" in text:
        return (
            "a filter or function was given what it does not take "
            f"({text.rpartition('.')[2][:120]})"
        )
    return text[:200]


def compile_expression(source: str) -> Expression:
    """The expression in `source` (what stands between the braces). Raises TemplateError; runs
    nothing of it.
    """
    source = source.strip()
    if not source:
        raise TemplateError(
            "'{{ }}' is empty; it is not a name. Write a captured name, a column such as "
            "observers.email, or env.name"
        )
    shown = f"'{{{{ {source[:200]} }}}}'"
    if len(source) > LONGEST_SOURCE:
        raise TemplateError(
            f"{shown}: an expression has at most {LONGEST_SOURCE:,} characters; this one has "
            f"{len(source):,}"
        )
    depth = deepest = 0
    for sign in source:
        depth += (sign in "([{") - (sign in ")]}")
        deepest = max(deepest, depth)
    if (
        deepest > DEEPEST
        or source.count("not ") + source.count("-") > 200
        or source.count(" if ") > DEEPEST
    ):
        raise TemplateError(f"{shown}: it is nested too deeply")
    try:
        tree = _parsed(source)
        tree.set_environment(_sandbox)
        reader = _Reader(source)
        tree = reader.visit(tree)
        tree.set_environment(_sandbox)
        tree.set_lineno(1)
        used = (
            {each.name for each in tree.find_all(nodes.Name)}
            if not isinstance(tree, nodes.Name)
            else {tree.name}
        )
    except TemplateSyntaxError as problem:
        ends = "end of " in str(problem.message)
        why = "something is missing at its end" if ends else problem.message
        if source.count("{") > source.count("}"):
            why = (
                f"{why}; between the closing braces of objects within objects a space is needed: "
                f"{{'a': {{'b': 1}} }}"
            )
        raise TemplateError(
            f"{shown} can't be read: {why}",
            (len(source),) * 2 if ends else span_at(source, problem.lineno),
        ) from problem
    except RecursionError as problem:
        raise TemplateError(f"{shown}: it is nested too deeply") from problem
    return Expression(
        source, tree, tuple(reader.names), makes="make" in used, now=bool(used & set(FUNCTIONS))
    )
