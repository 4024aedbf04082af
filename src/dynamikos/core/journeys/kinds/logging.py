"""The kind that says something in the log."""

from typing import Any, ClassVar, Self

from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text.template_walk import Change


class Logging(StepBase, frozen=True, kw_only=True, tag="log"):
    """Logs a text."""

    log: str

    begins_as: ClassVar[str] = "Log"
    begins_with: ClassVar[dict[str, Any]] = {"log": "{{ round.number }}"}

    def with_texts(self, change: Change) -> Self:
        return replace(self, log=change("log", self.log))

    def says(self) -> str:
        return f"log {self.log}"
