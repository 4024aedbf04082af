"""The kind that sends requests."""

from collections.abc import Callable
from typing import ClassVar, Self

from msgspec.structs import replace

from dynamikos.core.journeys.kinds.base import StepBase
from dynamikos.core.journeys.request import Request


class Sending(StepBase, frozen=True, kw_only=True, tag="step"):
    """Sends requests, one after the other or `at_once` in parallel.

    `use` names a shared step whose requests it performs; `recorded` then says which of them is
    which exchange of this journey's recording.
    """

    use: str = ""
    recorded: tuple[tuple[str, int], ...] = ()
    requests: tuple[Request, ...] = ()
    at_once: bool = False

    begins_as: ClassVar[str] = "New step"
    measured: ClassVar[bool] = True

    def with_requests(self, change: Callable[[Request], Request | None]) -> Self:
        made = (change(request) for request in self.requests)
        return replace(self, requests=tuple(request for request in made if request is not None))
