"""./dynamikos rehearse"""

import json
import sys
import time
from typing import TYPE_CHECKING

import click

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError, PlanError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from dynamikos.web.journeys.models import Journey
    from dynamikos.web.rehearsals.models import Rehearsal
    from dynamikos.web.rehearsals.queries import Replayed


@click.command()
@click.argument("journey")
@click.option(
    "--project",
    default="",
    help="Name of the project (needed only if several have such a journey).",
)
@click.option(
    "--account",
    default="ada",
    show_default=True,
    help="Who does this; must be engineer or owner there.",
)
@click.option(
    "--json", "as_json", is_flag=True, help="Print everything that was exchanged as JSON."
)
@click.option(
    "--timeout",
    default=120.0,
    show_default=True,
    metavar="SECONDS",
    help="Give up waiting after so long.",
)
def command(journey: str, project: str, account: str, as_json: bool, timeout: float) -> None:
    """Rehearse JOURNEY (its key or name): one user, one round, on a generator, compared with its
    recording.

    Exit code: 0 every check passed, 1 a request failed, 2 could not rehearse.
    """
    from dynamikos.cli import processes
    from dynamikos.cli.state import State

    state = State.open()
    addresses, cluster = processes.database(state)
    supervisor = processes.Supervisor(state)
    try:
        processes.use_django(state, addresses)
        # nothing of ours is running: bring what a rehearsal needs
        if cluster is not None and cluster.process is not None:
            processes.migrate(addresses)
            supervisor.add_generator(addresses)
        code = _rehearse(journey, project, account, as_json, timeout)
    except DynamikosError as problem:
        refuse("could not rehearse", problem, as_json=as_json)
        code = 2
    finally:
        supervisor.end()
        if cluster is not None:
            cluster.stop()
    sys.exit(code)


def _rehearse(name: str, project: str, account: str, as_json: bool, timeout: float) -> int:
    from dynamikos.cli.project_run import membership
    from dynamikos.web.places.queries import living
    from dynamikos.web.rehearsals import actions, queries

    journey = _journey(name, project, account)
    member = membership(journey.project.name, account)
    end = time.monotonic() + timeout
    while not living() and time.monotonic() < end:
        time.sleep(0.1)
    asked = actions.ask(member, journey)
    while not asked.over:
        if time.monotonic() > end:
            raise PlanError(
                f"The rehearsal did not end within {timeout:g} s; it is kept as rehearsal "
                f"{asked.number}."
            )
        time.sleep(0.1)
        asked.refresh_from_db()
    rows = queries.replayed(asked)
    if as_json:
        click.echo(json.dumps(_document(asked, rows), ensure_ascii=False, indent=1))
    else:
        _print(asked, rows)
    return 0 if asked.state == "passed" else 1


def _journey(name: str, project: str, account: str) -> "Journey":
    """The one of that key or name. Raises PlanError."""
    from django.db.models import Q

    from dynamikos.web.journeys.models import Journey

    found = Journey.objects.filter(
        Q(key=name) | Q(name=name), project__memberships__account__username=account
    ).select_related("project")
    if project:
        found = found.filter(project__name=project)
    if found.count() != 1:
        every = Journey.objects.select_related("project")
        known = ", ".join(sorted(f"{each.key} in “{each.project}”" for each in every)) or "none"
        what = "no journey" if not found else "several journeys"
        raise PlanError(f"'{name}' is {what} here: {known}. Name the project with --project.")
    return found.get()


def _print(asked: "Rehearsal", rows: "Sequence[Replayed]") -> None:
    for row in rows:
        kept = row.kept
        click.echo(
            f"{'FAILED' if row.is_bad else 'ok':7}{kept.status or '–':>4}  "
            f"{kept.duration_us / 1000:8.1f} ms  {kept.method} {kept.url}"
        )
        lines = [kept.error] if kept.error else []
        if kept.expected:
            lines.append(f"expected {kept.expected}; actual {kept.actual}")
        lines += [f"looks different from the recording: {line}" for line in row.differences]
        for line in lines:
            click.echo(f"{'':25}{line}")
    why = f" – {asked.reason}" if asked.reason else ""
    click.echo(f"rehearsal {asked.number} of revision {asked.revision.number}: {asked.state}{why}")


def _document(asked, rows) -> dict[str, object]:  # type: ignore[no-untyped-def]
    """docs/strands.md describes it."""
    return {
        "journey": asked.journey.key,
        "rehearsal": asked.number,
        "revision": asked.revision.number,
        "state": asked.state,
        "reason": asked.reason,
        "exchanges": [
            {
                "step": row.kept.step,
                "request": row.kept.request,
                "resource": row.kept.resource,
                "method": row.kept.method,
                "url": row.kept.url,
                "status": row.kept.status,
                "recorded_status": (
                    row.recorded.answer.status
                    if row.recorded is not None and row.recorded.answer is not None
                    else None
                ),
                "duration_us": row.kept.duration_us,
                "size_bytes": row.kept.size_bytes,
                "passed": not row.is_bad,
                "failure": row.kept.failure,
                "error": row.kept.error,
                "expected": row.kept.expected,
                "actual": row.kept.actual,
                "differences": row.differences,
                "captured": row.kept.captured,
                "variables": row.kept.variables,
                "headers": row.kept.headers,
                "body": row.kept.body,
            }
            for row in rows
        ],
    }
