"""From an application to its load: recorded in a browser, correlated, scripted, rehearsed, run,
asked what it has.
"""

import asyncio
import csv
import json
import re
import subprocess
import sys
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from bench.apps import App
from dynamikos.cli import plan_files
from dynamikos.core.correlation import Strand, accept
from dynamikos.core.correlation.accept import with_dependents
from dynamikos.core.correlation.doing import Replay, doubts_on
from dynamikos.core.exchanges import Answer, Exchange, Recording, Sent
from dynamikos.core.journeys import Journey, write_journey
from dynamikos.core.journeys.from_recording import journey_from
from dynamikos.core.reports import KeptExchange
from dynamikos.engine.clock import RealClock
from dynamikos.engine.network import RealNetwork
from dynamikos.engine.runner import Rehearsal, Shard

ROWS = 400  # of data, each used once
FIRST_ROW = 1000  # recordings take the first numbers, the load those from here on


@dataclass(frozen=True, slots=True)
class Score:
    """Values of the server that were found of those there are, and what was taken for one and is
    none.
    """

    found: tuple[str, ...]
    missed: tuple[str, ...]
    wrong: tuple[str, ...]
    right: int

    @property
    def recall(self) -> float:
        there = len(self.found) + len(self.missed)
        return len(self.found) / there if there else 1.0

    @property
    def precision(self) -> float:
        taken = self.right + len(self.wrong)
        return self.right / taken if taken else 1.0


def score(app: App, strands: Sequence[Strand]) -> Score:
    found: set[str] = set()
    wrong, right = [], 0
    for strand in strands:
        if strand.kind != "issued" or not strand.proven or strand.followed:
            continue
        places = [f"{use.context} {use.place}" for use in strand.uses]
        names = {
            name
            for name, form in app.issued.items()
            if any(re.search(form, place) for place in places)
        }
        found |= names
        right += bool(names)
        if not names:
            wrong.append(f"{strand.value[:40]} ({places[0]})")
    missed = tuple(name for name in app.issued if name not in found)
    return Score(tuple(sorted(found)), missed, tuple(wrong), right)


def scripted(
    app: App, recordings: Sequence[Recording], strands: Sequence[Strand], origins: Sequence[str]
) -> Journey:
    """The journey after *accept all proven*, with what was typed dealt from columns, as a person
    would replace it.
    """
    first = recordings[0]
    journey = journey_from(first, app.name, list(origins), named(origins))
    typed = {value: f"people.{name}" for name, value in app.user(1).items()}
    typed |= {value: f"visits.{name}" for name, value in app.round(1).items()}
    columns = {
        each.name: typed[each.value]
        for each in strands
        if each.kind == "typed" and each.value in typed
    }
    taken = [each for each in strands if each.name in columns or each.has_evidence]
    taken += [each for each in strands if each.kind == "typed" and each.made_by]
    taken = with_dependents(taken, strands)
    made = accept(journey, taken, first.exchanges, columns=columns).journey
    if app.rounds_from:
        steps = [*made.opening, *made.rounds]
        begin = next(
            i
            for i, s in enumerate(steps)
            if any(
                re.search(app.rounds_from, f"{r.method} {r.address}{r.query or ''}")
                for r in s.requests
            )
        )
        made = replace(made, opening=tuple(steps[:begin]), rounds=tuple(steps[begin:]))
    return made


def named(origins: Sequence[str]) -> dict[str, str]:
    """What each origin is called in the journey: env.app, and env.other_1 and so on."""
    return {each: f"env.other_{at}" if at else "env.app" for at, each in enumerate(origins)}


def written(
    app: App,
    journey: Journey,
    origins: Sequence[str],
    folder: Path,
    *,
    users: int = 5,
    seconds: int = 20,
) -> Path:
    """The plan and what it needs, as files."""
    (folder / "journey.yaml").write_text(write_journey(journey))
    (folder / "environment.yaml").write_text(
        "form: 1\nenvironment: app\naddresses:\n"
        + "".join(f'  {name[4:]}: "{each}"\n' for each, name in named(origins).items())
        + f"agreed: {json.dumps(list(origins))}\nway: {{trust: anything}}\n"
    )
    data, deals = [], []
    for name, words, deal in (
        ("people", app.user, "{when: user, then: leave}"),
        ("visits", app.round, "{when: round, then: leave}"),
    ):
        if words(1):
            with (folder / f"{name}.csv").open("w", newline="") as file:
                rows = csv.DictWriter(file, list(words(1)))
                rows.writeheader()
                rows.writerows(words(FIRST_ROW + number) for number in range(ROWS))
            data.append(f"{name}.csv")
            deals.append(f"  {name}: {deal}")
    plan = folder / "plan.yaml"
    plan.write_text(
        "form: 1\nplan: real\nname: Real\njourney: journey.yaml\nenvironment: environment.yaml\n"
        f"data: [{', '.join(data)}]\ndeals:\n" + "\n".join(deals) + "\nthink_factor: 0.1\n"
        f"profile: [{{stretch: climb, to: {users}, seconds: 1}}, {{stretch: hold, seconds: "
        f"{seconds}}}]\ngrace_s: 15\n"
    )
    return plan


def rehearsed(plan: Path, at: int, rounds: int = 2) -> tuple[str, list[KeptExchange]]:
    """One user on the rows from `at` on, two rounds: how it ended, and all that was exchanged."""
    files = plan_files.load(plan)
    frozen = files.frozen({})
    kept: list[KeptExchange] = []

    async def program() -> str:
        network, clock = RealNetwork(frozen.agreed, way=frozen.way), RealClock()
        rows = {key: table.rows[at:] for key, table in files.tables.items()}
        try:
            shard = Shard(number=0, count=1, frozen=frozen, rows=rows, secrets={})
            return await Rehearsal(shard, 1, rounds=rounds).perform(network, clock, kept.append)
        finally:
            await network.aclose()
            clock.close()

    return asyncio.run(program()), kept


def doubts(kept: Sequence[KeptExchange], recording: Recording) -> list[str]:
    """What speaks against a rehearsal, in words."""
    replays = []
    for each in kept:
        if each.item:
            continue
        answer = Answer(status=each.status, headers=tuple(each.headers), body=each.body.encode())
        sent = Sent(
            method=each.method,
            url=each.url,
            headers=tuple(each.sent_headers),
            body=each.sent_body.encode(),
        )
        replays.append(
            Replay(
                at=f"{each.step}/{each.request}",
                round=each.round,
                recorded=None if each.hop else each.recorded,
                exchange=Exchange(sent=sent, answer=answer),
                captured=each.captured,
            )
        )
    return [f"{each.at}: {each.words}" for each in doubts_on(replays, recording.exchanges)]


def loaded(plan: Path) -> dict[str, Any]:
    """The run's figures, as `./dynamikos run --json` gives them."""
    out = plan.parent / "run.json"
    out.unlink(missing_ok=True)
    command = [sys.executable, "-m", "dynamikos.cli", "run", str(plan), "--json", str(out)]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    (plan.parent / "run.log").write_text(done.stdout + done.stderr)
    if not out.exists():
        raise RuntimeError(done.stdout[-2000:] + done.stderr[-2000:])
    return json.loads(out.read_text())  # type: ignore[no-any-return]
