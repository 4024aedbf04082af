"""What can be wrong with what a person gave us. Messages say what, where and what to do."""

import re

ECHO = 200  # characters of what was typed that a message repeats at most
# an apostrophe in a word opens none
_QUOTED = re.compile(rf"((?<![^\s(])'|[“\"])([^'“”\"\n]{{{ECHO}}})[^'“”\"\n]+")
_WORD = re.compile(rf"(\S{{{ECHO}}})\S+")


def brief(message: str) -> str:
    """`message`, of which no quotation and no word is longer than ECHO: what was typed may be of
    any length, and the rest of the message has to be seen.
    """
    return _WORD.sub(r"\1…", _QUOTED.sub(r"\1\2…", message)) if len(message) > ECHO else message


class DynamikosError(Exception):
    """Base of every error whose message is meant for a person; see `brief`."""

    def __init__(self, message: str = "") -> None:
        super().__init__(brief(message))


class TextError(DynamikosError):
    """A text form that can't be read.

    `line` and `column` count from 1; `file` is a name for the message only.
    """

    def __init__(self, message: str, *, line: int = 0, column: int = 0, file: str = "") -> None:
        self.message, self.line, self.column, self.file = brief(message), line, column, file
        super().__init__(message)

    def __str__(self) -> str:
        place = ", ".join(
            part
            for part in (
                self.file,
                f"line {self.line}" if self.line else "",
                f"column {self.column}" if self.column else "",
            )
            if part
        )
        return f"{place}: {self.message}" if place else self.message


class TemplateError(DynamikosError):
    """A `{{ name }}` that can't be understood or has no value.

    `at` is what is wrong between its braces, as (first, after the last) character of the text
    without spaces around it; None: all of it.
    """

    def __init__(self, message: str, at: tuple[int, int] | None = None) -> None:
        self.at = at
        super().__init__(message)


class RuleError(DynamikosError):
    """A capture or check whose expression is not valid."""


class ImportRefused(DynamikosError):
    """A file from outside that can't be taken in."""


class PlanError(DynamikosError):
    """A load plan that can't be run as it stands."""


def in_words(problem: Exception) -> str:
    """A problem as one sentence; of the operating system's, which file it is about."""
    if isinstance(problem, OSError):
        return (
            f"{problem.filename}: {problem.strerror}"
            if problem.filename
            else str(problem.strerror or problem)
        )
    return str(problem)


def to_json(problem: Exception) -> dict[str, object]:
    """A problem as JSON, wherever one is answered or printed: `problem` in words, and where it is,
    as far as that is known: `file`, `line` and `column` (from 1), `start` and `end` (characters of
    a text, from 0).
    """
    if isinstance(problem, TextError):
        where = {"file": problem.file, "line": problem.line, "column": problem.column}
        return {
            "problem": problem.message,
            **{name: value for name, value in where.items() if value},
        }
    if isinstance(problem, TemplateError) and problem.at is not None:
        return {"problem": str(problem), "start": problem.at[0], "end": problem.at[1]}
    return {"problem": in_words(problem)}
