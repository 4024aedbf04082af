"""What performing a kind of step is made of: its texts bound beforehand, and the stage it is
performed on.
"""

from abc import abstractmethod
from collections.abc import Callable, Collection
from typing import Generic, Literal, Protocol, TypeVar

from dynamikos.core.failure_kinds import LeavingCause
from dynamikos.core.journeys import Step
from dynamikos.core.journeys.tainted import shown, uses
from dynamikos.core.text.template_walk import Pair
from dynamikos.core.values import Values, bind, compile_condition, compile_list
from dynamikos.core.values.masking import MASK
from dynamikos.engine.users.compiled import CompiledStep, Condition
from dynamikos.engine.users.filling import Fill, filler
from dynamikos.engine.users.filling import Values as Known
from dynamikos.engine.users.items import Item
from dynamikos.engine.users.user_context import UserContext
from dynamikos.engine.users.user_state import UserState
from dynamikos.engine.users.witness import Witness

Outcome = Literal[
    "", "step", "round"
]  # passed; a step failed; what is left of the part is to be skipped
LOGS = 200  # log lines that are kept of a shard
S = TypeVar("S", bound=Step)


class Performs(Protocol):
    """Whoever performs the steps inside an item, and waits."""

    @property
    def leaving(self) -> bool: ...

    async def run_steps(self, steps: list[CompiledStep], *, leaving: bool = False) -> Outcome: ...

    async def wait(self, instant: float, *, thinks: bool = True) -> None: ...

    def retire(self, cause: LeavingCause, detail: str) -> None: ...


class Binding:
    """Makes of the texts of a journey what fills them. Raises TemplateError for what `verify` would
    have named.
    """

    def __init__(
        self,
        known: Known,
        secret: frozenset[str],
        steps: Callable[[tuple[Step, ...]], list[CompiledStep]],
    ) -> None:
        self._known, self._secret, self.steps = known, secret, steps

    def text(self, source: str) -> Fill:
        return filler(bind(source, self._known, self._secret), secret=self._secret)

    def masked(self, source: str) -> Fill:
        """As it may be shown and written: without secrets."""
        return filler(bind(shown(source, self._secret), self._known, self._secret))

    def texts(self, pairs: Collection[Pair]) -> list[tuple[str, Fill]]:
        return [(name, self.text(value)) for name, value in pairs]

    def masked_texts(self, pairs: Collection[Pair]) -> list[tuple[str, Fill]]:
        return [(name, self.masked(value)) for name, value in pairs]

    def condition(self, source: str) -> Condition | None:
        return compile_condition(bind(source, self._known, self._secret)) if source else None

    def listed(self, source: str) -> Callable[[Known], list[str]]:
        return compile_list(bind(source, self._known, self._secret))

    def is_secret(self, step: Step) -> bool:
        return any(uses(source, self._secret) for _, source in step.texts())


class Stage:
    """What an item is performed with: what the user has, what all share, and whoever keeps what was
    done.
    """

    def __init__(
        self, own: UserState, context: UserContext, witness: Witness, user: Performs
    ) -> None:
        self.own, self.context, self.witness, self.user = own, context, witness, user

    def let_go(self) -> None:
        """The user has left: see Walk."""
        del self.user

    @property
    def values(self) -> Values:
        return self.own.values

    def now(self) -> float:
        return self.context.clock.now()

    def shown(self, name: str) -> str:
        """A value as it may be shown."""
        return MASK if name in self.context.script.secret else self.own.values[name]

    def say(self, step: CompiledStep, said: str) -> None:
        """Kept where everything is."""
        if self.witness.everything:
            self.witness.item(step, said)

    def log(self, step: CompiledStep, text: str) -> None:
        """Kept as a line of the log, while there are not too many."""
        choice = self.context.choice
        if self.witness.everything or choice.logged < LOGS:
            choice.logged += 1
            self.witness.item(step, text)


class Doing(Item, Generic[S]):
    """A step of a kind that sends no requests, with its texts bound. Each kind is a file here."""

    def __init__(self, step: S, bind: Binding) -> None:
        self.step, self.secret = step, bind.is_secret(step)

    @abstractmethod
    async def perform(self, stage: Stage, at: CompiledStep, *, leaving: bool) -> Outcome:
        """What performing it came to. Raises TemplateError, OverBudget or Failure where it can't be
        done; `leaving`: the user leaves, and these are its last steps.
        """
