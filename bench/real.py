"""Real applications: recorded twice in a browser, correlated, rehearsed, loaded; then asked what
they have.
"""

import math
import os
import shutil
import socket
import time
import traceback
from pathlib import Path
from typing import NamedTuple

from bench.apps import ALL, App
from bench.apps.base import Served
from bench.proving import chance, holding
from bench.recording import recorded
from bench.scripting import doubts, loaded, rehearsed, score, scripted, written
from dynamikos.core.correlation import find_strands


class Counts(NamedTuple):
    """Issued values found and missed; taken rightly and wrongly; captures that fail on a third
    recording; short numbers proven by chance, and tried.
    """

    found: int
    missed: int
    right: int
    wrong: int
    fails: int
    by_chance: int
    tried: int


Result = tuple[str, float, str, str, bool]
GOAL = 0.95
USERS = 5


def run() -> list[Result]:
    """Figures of each application and of all."""
    from dynamikos.cli.state import State

    made: list[Result] = []
    counts: list[Counts] = []
    chosen = [app for app in ALL if os.environ.get("APP", app.name) in app.name]
    for app in chosen:
        try:
            rows, counted = measured(app, State.open().folder / "real" / app.name.split()[0])
        except Exception as problem:  # the others are measured all the same
            traceback.print_exception(problem)
            made.append((f"{app.name}: measured", 0, "", "1", False))
            continue
        made += rows
        counts.append(counted)
    if not counts:
        return made
    found, missed, right, wrong, fails, by_chance, tried = map(sum, zip(*counts, strict=True))
    recall, precision = found / max(1, found + missed), right / max(1, right + wrong)
    made.append(("recall over all", recall, "", f"≥ {GOAL}", recall >= GOAL))
    made.append(("precision over all", precision, "", f"≥ {GOAL}", precision >= GOAL))
    made.append(("captures that fail on a third recording", fails, "", "0", not fails))
    share = 100 * by_chance / max(1, tried)
    made.append(
        (f"proven by chance, of {tried} short numbers moved", share, "%", "≤ 2", share <= 2)
    )
    return made


def measured(app: App, folder: Path) -> tuple[list[Result], Counts]:
    folder.mkdir(parents=True, exist_ok=True)
    for each in folder.glob("store-*"):
        shutil.rmtree(each)
    served = Served(app, folder, free_port())
    try:
        *recordings, unseen = [
            recorded(app, served, at, folder, way) for at, way in enumerate(app.ways, 1)
        ]
        if settled(app, served) < len(app.ways):
            raise RuntimeError(f"{app.name}: a recorded visit did not do what it is for")
        strands = find_strands([each.exchanges for each in recordings], origins=served.origins)
        result = score(app, strands)
        for name in result.missed:
            print(f"    {app.name}: missed {name}")
        for name in result.wrong:
            print(f"    {app.name}: taken for issued: {name}")
        holds, fails = holding(strands, recordings[0].exchanges, unseen.exchanges, served.origins)
        for name in fails:
            print(f"    {app.name}: proven, but does not hold on a third recording: {name}")
        by_chance, tried = chance([each.exchanges for each in recordings], served.origins)
        for name in by_chance:
            print(f"    {app.name}: proven by chance: {name}")
        plan = written(
            app,
            scripted(app, recordings, strands, served.origins),
            served.origins,
            folder,
            users=USERS,
        )
        green, took = 0, 0.0
        for turn in (0, 1):
            before = app.created(served.store, served.base)
            begun = time.monotonic()
            state, kept = rehearsed(plan, 300 + 20 * turn)
            took = time.monotonic() - begun
            said = doubts(kept, recordings[0])
            done = settled(app, served) - before
            green += state == "passed" and done == 2 and not said
            if state != "passed" or done != 2:
                print(f"    {app.name}: rehearsal {state}, {done} created by two rounds")
            for each in kept:
                if each.reason.startswith("failed"):
                    failed = f"{each.reason} {each.status} {each.error} {each.expected}"
                    print(f"    {app.name}: {each.step}/{each.request} {failed}")
                    print(
                        f"      {each.method} {each.url} {each.sent_body[:300]} → {each.body[:300]}"
                    )
            for line in said:
                print(f"    {app.name}: doubt {line}")
        before = app.created(served.store, served.base)
        # two rounds of five users on an application that does one thing at a time, at least 20 s
        hold = min(120, max(20, math.ceil(took * USERS)))
        plan.write_text(plan.read_text().replace("seconds: 20}", f"seconds: {hold}}}"))
        figures = loaded(plan)
        done = settled(app, served) - before
        passed = figures["rounds"]["passed_in_all"]
        cut = (
            USERS + figures["rounds"]["failed_in_all"]
        )  # rounds that failed, or were cut off, after the deed
    finally:
        served.close()
    rows = [
        (f"{app.name}: recall", result.recall, "", "", True),
        (f"{app.name}: precision", result.precision, "", "", True),
        (f"{app.name}: captures that hold on a third recording", len(holds), "", "", not fails),
        (f"{app.name}: rehearsals of two rounds green, of two", green, "", "2", green == 2),
        (f"{app.name}: rounds passed with 5 users in {hold} s", passed, "", "≥ 5", passed >= 5),
        (
            f"{app.name}: created, by its own store, less rounds passed",
            done - passed,
            "",
            f"0…{cut}",
            0 <= done - passed <= cut,
        ),
    ]
    counts = Counts(
        len(result.found),
        len(result.missed),
        result.right,
        len(result.wrong),
        len(fails),
        len(by_chance),
        tried,
    )
    return rows, counts


def settled(app: App, served: Served) -> int:
    """What the application has once it stops making more: some work on after they answered."""
    count = -1
    while count != (count := app.created(served.store, served.base)):
        time.sleep(1.5)
    return count


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])
