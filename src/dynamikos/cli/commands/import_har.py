"""./dynamikos import"""

import sys
from pathlib import Path

import click

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError


@click.command()
@click.argument(
    "files", nargs=-1, required=True, type=click.Path(exists=True, dir_okay=False, path_type=Path)
)
@click.option(
    "--project",
    default="",
    help="Name of the project that gets it (needed only if there are several).",
)
@click.option(
    "--journey", default="", help="Name of the journey; the first file's name if not given."
)
@click.option(
    "--hosts",
    default="",
    help="Origins to keep, separated by commas; the first page's own site if not given.",
)
@click.option(
    "--accept-proven",
    is_flag=True,
    help="Search for strands and take all that are proven into the journey.",
)
@click.option(
    "--account",
    default="ada",
    show_default=True,
    help="Who does this; must be engineer or owner there.",
)
def command(
    files: tuple[Path, ...],
    project: str,
    journey: str,
    hosts: str,
    accept_proven: bool,
    account: str,
) -> None:
    """Read HAR FILES, recordings of one journey, into a project: the first makes the journey, the
    others are kept to compare.

    A CSV file becomes a data set instead.
    """
    from dynamikos.cli import processes
    from dynamikos.cli.state import State

    state = State.open()
    addresses, cluster = processes.database(state)
    try:
        processes.use_django(state, addresses)
        processes.migrate(addresses)
        from dynamikos.cli.project_run import membership, only_project

        member = membership(project or only_project(account), account)
        for file in files:
            if file.suffix.lower() in (".csv", ".tsv"):
                from dynamikos.web.datasets.uploads import import_csv

                made = import_csv(member, file.read_bytes(), file.name)
                click.echo(f"data set {made.key}: {made.rows:,} rows")
        recordings = [file for file in files if file.suffix.lower() not in (".csv", ".tsv")]
        if recordings:
            _journey(member, recordings, journey, hosts, accept_proven)
    except (DynamikosError, OSError) as problem:
        refuse("could not import", problem)
        sys.exit(2)
    finally:
        if cluster is not None:
            cluster.stop()


def _journey(member, files: list[Path], name: str, hosts: str, accept_proven: bool) -> None:  # type: ignore[no-untyped-def]
    from dynamikos.web.journeys.actions import create_from_recording
    from dynamikos.web.projects.revisions import token
    from dynamikos.web.recordings.actions import import_har
    from dynamikos.web.strands import actions as strands

    recording = import_har(member, files[0].read_bytes(), files[0].name)
    for host in recording.hosts:
        left = "" if host["ours"] else "   (third party, left out)"
        click.echo(
            f"{host['count']:6,} exchanges {host['size_bytes']:12,} B  {host['origin']}{left}"
        )
    wanted = [origin.strip().rstrip("/") for origin in hosts.split(",") if origin.strip()]
    wanted = wanted or [host["origin"] for host in recording.hosts if host["ours"]]
    found = create_from_recording(
        member, recording, name or files[0].stem.replace("-", " ").capitalize(), wanted
    )
    for file in files[1:]:
        strands.add_recording(member, found, file.read_bytes(), file.name, lambda share: None)
    if accept_proven:
        searched = strands.search(member, found, rehearsed=False)
        done, left_over = strands.take(member, found, token(found.head), strands.proven(searched))
        for line in done:
            click.echo(f"  {line}")
        for line in left_over:
            click.echo(f"  left: {line}")
        for each in strands.unproven_makers(searched):
            click.echo(
                f"  {each.name}: stays as recorded; nothing shows that a fresh one is accepted"
            )
        found.refresh_from_db()
    click.echo(f"journey {found.key}: revision {found.head.number if found.head else 0}")
