"""What the panel needs of each kind of step."""

from typing import Any, ClassVar, Generic, TypeVar

import msgspec
from django.http import QueryDict

from dynamikos.core.errors import DynamikosError
from dynamikos.core.journeys import Step

S = TypeVar("S", bound=Step)
EMPTY = ("", "")  # the row in which a new pair is typed


class KindFields(Generic[S]):
    """The fields of a kind: their template, what it shows, and what is sent back."""

    template: ClassVar[str]

    @classmethod
    def shown(cls, step: S) -> dict[str, object]:
        """What the template needs besides the step."""
        return {}

    @classmethod
    def changes(cls, data: QueryDict, old: S) -> dict[str, object]:
        """The fields of the step as they were sent. Raises DynamikosError for what can't be kept."""
        raise NotImplementedError


def made(kind: type[Any], **fields: Any) -> Any:
    """A value whose own limits are verified. Raises DynamikosError in words."""
    try:
        return msgspec.convert(msgspec.to_builtins(kind(**fields)), kind)
    except (msgspec.ValidationError, TypeError) as problem:
        text = str(problem)
        if "matching regex" in text:
            text = "a name has small letters, digits and _; a function is written as module.function"
        raise DynamikosError(f"This can't be kept: {text}") from problem
