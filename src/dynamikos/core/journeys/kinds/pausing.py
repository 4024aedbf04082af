"""The kind that waits, whatever the think times."""

from typing import Any, ClassVar, Self

from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.text.template_walk import Change


class Pausing(StepBase, frozen=True, kw_only=True, tag="pause"):
    """Waits `pause` seconds: a number, or a text with holes that becomes one."""

    pause: str

    begins_as: ClassVar[str] = "Pause"
    begins_with: ClassVar[dict[str, Any]] = {"pause": "1"}

    def with_texts(self, change: Change) -> Self:
        return replace(self, pause=change("pause", self.pause))

    def says(self) -> str:
        return f"wait {self.pause} s"
