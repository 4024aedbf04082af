"""./dynamikos run PLAN"""

import dataclasses
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from secrets import randbelow
from typing import TYPE_CHECKING, NamedTuple

import click
import orjson
from msgspec.structs import replace

from dynamikos.cli import summary
from dynamikos.cli.ending import ENDING, Ended
from dynamikos.cli.folder import Result, write
from dynamikos.cli.refusing import refuse
from dynamikos.cli.writing import write_over
from dynamikos.core.errors import DynamikosError, PlanError, in_words, to_json
from dynamikos.core.plans import Plan
from dynamikos.core.plans.crowds import run_ends_s
from dynamikos.core.plans.trial import trial_of
from dynamikos.core.profiles import stretched
from dynamikos.core.values.masking import SHORTEST_SECRET
from dynamikos.core.verdicts import as_json, as_junit, refused_junit
from dynamikos.core.verdicts.states import COULD_NOT_RUN, MET, STOPPED, WORST

if TYPE_CHECKING:
    from dynamikos.cli.plan_files import PlanFiles


def scaled(plan: Plan, users: int | None, seconds: float | None) -> Plan:
    """`plan` with its profiles stretched to another peak of users or another length; shapes keep
    their proportions.
    """
    crowds = plan.everybody()
    if users is not None:
        top = sum(crowd.seats for crowd in crowds)
        if users < 1 or any(not crowd.load.is_scalable for crowd in crowds) or top < 1:
            raise PlanError("--users needs a plan of concurrent users, and at least 1 of them")
        crowds = tuple(
            replace(crowd, profile=stretched(crowd.profile, users / top, 1.0)) for crowd in crowds
        )
    measured = plan.measured
    if seconds is not None:
        total = run_ends_s(crowds)
        if total <= 0 or seconds < 1:
            raise PlanError("--duration needs at least 1 second")
        factor = seconds / total
        crowds = tuple(
            replace(
                crowd,
                starts_s=crowd.starts_s * factor,
                profile=stretched(crowd.profile, 1.0, factor),
            )
            for crowd in crowds
        )
        measured = (measured[0] * factor, measured[1] * factor) if measured is not None else None
    if not plan.crowds:
        return replace(plan, profile=crowds[0].profile, measured=measured)
    return replace(plan, crowds=crowds, measured=measured)


def settings(pairs: tuple[str, ...]) -> dict[str, str]:
    """`--set name=value` as values of the environment."""
    made = {}
    for pair in pairs:
        name, sign, value = pair.partition("=")
        if not sign or not name:
            raise PlanError(f"--set {pair}: write name=value")
        made[name] = value
    return made


@click.command()
@click.argument("plan", required=False)
@click.option(
    "--address",
    metavar="URL",
    help="Instead of a plan: one address, loaded by --users or --arrivals-per-s.",
)
@click.option(
    "--arrivals-per-s", type=float, metavar="R", help="With --address: so many new users a second."
)
@click.option("--seconds", type=float, metavar="S", help="With --address: for how long.")
@click.option(
    "--trust",
    metavar="FILE|anything",
    help="With --address: certificates (PEM) that are trusted, or any certificate.",
)
@click.option(
    "--project",
    help="For a plan kept in the database: the project it belongs to (needed only if the name is "
    "not unique).",
)
@click.option("--environment", help="Another environment than the plan's.")
@click.option(
    "--users",
    type=int,
    help="Another peak of users; the profiles keep their shape. With --address: how many.",
)
@click.option(
    "--duration", type=float, metavar="SECONDS", help="Another length; the profile keeps its shape."
)
@click.option(
    "--set",
    "sets",
    multiple=True,
    metavar="NAME=VALUE",
    help="Another value of the environment. Can be repeated.",
)
@click.option(
    "--trial",
    is_flag=True,
    help="The whole plan, small: one user of each row, two rounds, not judged.",
)
@click.option(
    "--detach",
    is_flag=True,
    help="For a plan kept in the database: start the run, and leave it to itself.",
)
@click.option(
    "--keep",
    type=click.Path(file_okay=False, path_type=Path),
    metavar="FOLDER",
    help="Keep the run in open formats: figures, seconds, probes, exchanges (docs/run-command.md).",
)
@click.option(
    "--junit",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write JUnit XML: one test case an objective.",
)
@click.option(
    "--json",
    "json_file",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write all figures as JSON (docs/run-command.md).",
)
def command(
    plan: str | None,
    address: str | None,
    arrivals_per_s: float | None,
    seconds: float | None,
    trust: str | None,
    project: str | None,
    environment: str | None,
    users: int | None,
    duration: float | None,
    sets: tuple[str, ...],
    trial: bool,
    detach: bool,
    keep: Path | None,
    junit: Path | None,
    json_file: Path | None,
) -> None:
    """Run PLAN, a text file or the key of a plan in a project, and judge it. Or one address,
    without a plan.

    Exit code: 0 objectives met, 1 missed, 2 could not run, 3 not judged, 4 stopped by hand. Secrets
    come from the process environment, under the names the environment lists in secret_from_process.
    """
    # before anything is sent: what can't be written is said, and what an earlier run left is not
    # taken for this one's
    if not _export((json_file, b""), (junit, b"")):
        sys.exit(COULD_NOT_RUN)
    asked = _Asked(plan, address, arrivals_per_s, seconds, trust, project, environment, users,
                   duration, sets, trial, detach)  # fmt: skip
    ENDING.begin()
    try:
        result = asked.run()
        if result is None:
            sys.exit(MET)
    except Ended as ended:
        ENDING.over()
        problem_ = PlanError(f"the command was ended ({ended}) before anything was sent")
        refuse("stopped", problem_)
        _export(
            (json_file, orjson.dumps({**to_json(problem_), "exit_code": STOPPED})),
            (junit, refused_junit(plan or address or "run", in_words(problem_))),
        )
        sys.exit(STOPPED)
    except (DynamikosError, OSError) as problem:
        refuse("could not run", problem)
        _export(
            (json_file, orjson.dumps(to_json(problem))),
            (junit, refused_junit(plan or address or "run", in_words(problem))),
        )
        sys.exit(COULD_NOT_RUN)
    frozen, outcome = result.frozen, result.outcome
    click.echo(summary.table(frozen, outcome))
    for each in result.findings:
        click.echo(f"noticed ({each.about}): {each.sentence}")
    whole = _export(
        (json_file, as_json(frozen, outcome, result.findings, result.capacity)),
        (junit, as_junit(frozen, outcome)),
    )
    if keep is not None:
        try:
            write(keep, result)
        except OSError as problem:
            refuse("could not write", problem)
            whole = False
    sys.exit(outcome.exit_code if whole else COULD_NOT_RUN)


class _Asked(NamedTuple):
    """What the command line said."""

    plan: str | None
    address: str | None
    arrivals_per_s: float | None
    seconds: float | None
    trust: str | None
    project: str | None
    environment: str | None
    users: int | None
    duration: float | None
    sets: tuple[str, ...]
    trial: bool
    detach: bool

    def run(self) -> Result | None:
        """None for a run that goes on by itself. Raises DynamikosError."""
        self._refuse()
        if self.address is not None:
            return _from_address(self)
        assert self.plan is not None
        if Path(self.plan).is_file():
            return _from_file(
                Path(self.plan), self.environment, self.users, self.duration, self.sets, self.trial
            )
        from dynamikos.cli.project_run import run_plan

        return run_plan(
            self.plan,
            project=self.project,
            environment=self.environment,
            change=lambda found: scaled(found, self.users, self.duration),
            values=settings(self.sets),
            tell=click.echo,
            trial=self.trial,
            detach=self.detach,
        )

    def _refuse(self) -> None:
        """Options that don't go together."""
        is_file = self.plan is not None and Path(self.plan).is_file()
        if self.detach and (self.address is not None or is_file):
            raise PlanError(
                "--detach goes with a plan that a project keeps: a run from files ends with its "
                "command"
            )
        if self.address is not None:
            others = {
                "PLAN": self.plan,
                "--project": self.project,
                "--environment": self.environment,
                "--duration": self.duration,
                "--set": self.sets,
                "--trial": self.trial,
            }
            if given := [name for name, value in others.items() if value]:
                raise PlanError(
                    f"{' and '.join(given)} can't go with --address, which says it all: users and "
                    "seconds beside"
                )
        elif self.plan is None:
            raise PlanError(
                "nothing to run: name a plan, or an address with --address, --users and --seconds"
            )
        elif self.arrivals_per_s is not None or self.seconds is not None:
            raise PlanError(
                "--arrivals-per-s and --seconds go with --address; for a plan there is --duration"
            )
        elif self.trust is not None:
            raise PlanError(
                "--trust goes with --address; a plan's environment says whom to trust (way: trust)"
            )


def _export(*files: tuple[Path | None, bytes]) -> bool:
    """Writes what was asked for; whether all of it could be."""
    whole = True
    for file, content in files:
        try:
            if file is not None:
                write_over(file, content)
        except OSError as problem:
            refuse("could not write", problem)
            whole = False
    return whole


def _trusted(given: str | None) -> str:
    """What a Way trusts. Raises PlanError for a file that can't be read."""
    if given is None or given == "anything":
        return given or "system"
    try:
        text = Path(given).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as problem:
        raise PlanError(f"--trust {given}: {problem}") from problem
    if "BEGIN CERTIFICATE" not in text:
        raise PlanError(
            f"--trust {given}: there is no certificate in it; give certificates in PEM, or anything"
        )
    return text


def _from_address(asked: _Asked) -> Result:
    from dynamikos.cli import plan_files
    from dynamikos.cli.file_run import perform
    from dynamikos.core.plans.quick import from_address

    if asked.seconds is None:
        raise PlanError("for how long? Write --seconds")
    assert asked.address is not None
    quick = from_address(
        asked.address,
        asked.seconds,
        users=asked.users,
        arrivals_per_s=asked.arrivals_per_s,
        trust=_trusted(asked.trust),
    )
    journeys = {quick.journey.journey: quick.journey}
    frozen = plan_files.PlanFiles(quick.plan, journeys, quick.environment, {}, {}).frozen({})
    click.echo(
        f"{frozen.plan.name}: {summary.load(frozen)}, {summary.clock(frozen.ends_s)}, seed "
        f"{frozen.seed}"
    )
    return perform(frozen, {}, {}, click.echo)[1]


def _from_file(
    path: Path,
    environment: str | None,
    users: int | None,
    seconds: float | None,
    sets: tuple[str, ...],
    trial: bool,
) -> Result:
    from dynamikos.cli import plan_files
    from dynamikos.cli.practice import practice_for

    files = plan_files.load(path, environment)
    found = files.environment
    values = {**found.values}
    addresses = {**found.addresses}
    for name, value in settings(sets).items():
        (addresses if name in addresses else values)[name] = value
    secrets = _secrets(found.secret_from_process)
    practice = practice_for(replace(found, values=values, addresses=addresses))
    plan = scaled(files.plan, users, seconds)
    files = dataclasses.replace(
        files, plan=trial_of(plan) if trial else plan, environment=practice.environment
    )
    try:
        if practice.said:
            click.echo(practice.said)
        done = _performed(files, secrets, trial=trial)
    finally:
        practice.end()
    if len(done) > 1:
        said = ", ".join(f"{each.outcome.exit_code} (seed {each.frozen.seed})" for each in done)
        click.echo(f"A set of {len(done)} runs, whose word is its worst; their exit codes: {said}.")
    return min(done, key=lambda each: WORST.index(each.outcome.exit_code))  # the worst


def _secrets(names: Sequence[str]) -> dict[str, str]:
    """Those of the process environment, by the names that journeys have for them."""
    missing = [name for name in names if name not in os.environ]
    if missing:
        raise PlanError(
            f"these secrets are not in the process environment: {', '.join(missing)}; export them "
            "and call again"
        )
    short = [name for name in names if len(os.environ[name]) < SHORTEST_SECRET]
    if short:
        raise PlanError(
            f"the secret {short[0]} has fewer than {SHORTEST_SECRET} characters, so it could not "
            "be masked in what is kept; take a longer one"
        )
    return {f"{owner}.{name}": os.environ[name] for name in names for owner in ("env", "secrets")}


def _performed(files: "PlanFiles", secrets: dict[str, str], *, trial: bool) -> list[Result]:
    """One run after the other, as often as the plan says; none after one that was stopped."""
    from dynamikos.cli.file_run import perform

    done: list[Result] = []
    frozen = files.frozen(secrets, trial=trial)
    repeat = frozen.plan.repeat
    times = 1 if trial else repeat.times
    for place in range(1, times + 1):
        if place > 1:
            if not ENDING.sleep(repeat.pause_s):
                break
            ENDING.again()
            seed = randbelow(2**31) if repeat.seed == "new" else done[0].frozen.seed
            frozen = replace(files.frozen(secrets), seed=seed)
        of = f", {place} of {times}" if times > 1 else ""
        load = f"{summary.load(frozen)}, {summary.clock(frozen.ends_s)}, seed {frozen.seed}{of}"
        click.echo(f"{frozen.plan.name}: {load}")
        rows = {key: table.rows for key, table in files.tables.items()}
        outcome, result = perform(frozen, rows, secrets, click.echo)
        done.append(result)
        if outcome.exit_code == STOPPED:
            break
        if place < times:
            click.echo(summary.table(frozen, outcome))
    return done
