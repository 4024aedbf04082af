"""What the panel needs of each kind of step."""

from abc import ABC, abstractmethod
from typing import ClassVar, Generic, TypeVar

from django.http import QueryDict

from dynamikos.core.journeys import Step

S = TypeVar("S", bound=Step)
EMPTY = ("", "")  # the row in which a new pair is typed


class KindFields(ABC, Generic[S]):
    """The fields of a kind: their template, what it shows, and what is sent back."""

    template: ClassVar[str]

    @classmethod
    def shown(cls, step: S) -> dict[str, object]:
        """What the template needs besides the step."""
        return {}

    @classmethod
    @abstractmethod
    def changes(cls, data: QueryDict, old: S) -> dict[str, object]:
        """The fields of the step as they were sent; the core says which can't be kept. Raises
        DynamikosError for what is no number.
        """
