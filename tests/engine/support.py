"""What the engine's tests share: a journey as text, a frozen run, a run in virtual time."""

from collections.abc import Callable
from textwrap import dedent, indent

from dynamikos.core.dealing import Deal
from dynamikos.core.frozen import DataPile, FrozenRun
from dynamikos.core.journeys import parse_journey
from dynamikos.core.plans import Plan, parse_target
from dynamikos.core.profiles import Stretch
from dynamikos.core.reports import Ledger
from dynamikos.engine.ports import Functions
from dynamikos.engine.runner import Control, Shard, run
from dynamikos.engine.testing import (
    ListSink,
    Scripted,
    ScriptedNetwork,
    VirtualClock,
    answer,
    frozen_of_one,
    run_virtual,
)

BASE = "http://127.0.0.1:9999"


def frozen(
    parts: str,
    *,
    users: int = 1,
    climb_s: float = 0,
    hold_s: float = 10,
    rows: list[list[str]] | None = None,
    grace_s: float = 5,
    seed: int = 1,
    deal: Deal | None = None,
    failed_pause_s: float = 0,
) -> FrozenRun:
    """`parts` is the text form from "opening:" on; env.base is BASE."""
    journey = parse_journey("form: 1\njourney: j\nname: J\n" + dedent(parts))
    plan = Plan(
        form=2,
        plan="p",
        name="P",
        journey="j",
        environment="e",
        grace_s=grace_s,
        failed_pause_s=failed_pause_s,
        profile=(
            Stretch(stretch="climb", to=users, seconds=climb_s),
            Stretch(stretch="hold", seconds=hold_s),
        ),
    )
    data = (
        (
            DataPile(
                key="observers",
                columns=("email", "password"),
                secret=("password",),
                rows=len(rows),
                deal=deal or Deal(),
            ),
        )
        if rows is not None
        else ()
    )
    return frozen_of_one(
        plan, journey, seed=seed, values={"env.base": BASE}, agreed=(parse_target(BASE),), data=data
    )


def step(key: str, *requests: str, think_s: float = 0) -> str:
    """A step of the text form, to stand under a part."""
    lines = "\n".join(
        indent("- " + indent(dedent(request).strip(), "  ").strip(), "    ") for request in requests
    )
    return (
        f"  - step: {key}\n    name: {key}\n    think_s: {think_s}\n    requests:\n"
        + indent(lines, "  ")
        + "\n"
    )


def perform(
    made: FrozenRun,
    server: Callable[[bytes], Scripted],
    *,
    rows: list[list[str]] | None = None,
    control: Callable[[Control], object] | None = None,
    functions: Functions | None = None,
    slots: int = 0,
) -> tuple[str, ListSink, ScriptedNetwork]:
    """Runs in virtual time; minutes pass in milliseconds. `slots`: see ScriptedNetwork."""
    network, sink = ScriptedNetwork(server, slots=slots), ListSink()

    async def program() -> str:
        clock, switch = VirtualClock(), Control()
        if control is not None:
            control(switch)
        shard = Shard(
            number=0,
            count=1,
            frozen=made,
            rows={"observers": rows or []},
            secrets={},
            functions=functions,
        )
        return (
            await run(shard, network, clock, sink, begin=clock.now() + 0.5, control=switch)
        ).words

    return run_virtual(program()), sink, network


def totals(made: FrozenRun, sink: ListSink) -> Ledger:
    from dynamikos.core.frozen import series_of

    ledger = Ledger(series_of(made.journey))
    for message in sink.messages:
        ledger.add(message)
    return ledger


def ok(data: bytes) -> Scripted:
    return Scripted(answer(b"fine"), 0.1)
