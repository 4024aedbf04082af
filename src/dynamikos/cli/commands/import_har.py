"""./dynamikos import"""

import sys
from pathlib import Path

import click

from dynamikos.core.errors import DynamikosError


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--project", required=True, help="Name of the project that gets it.")
@click.option("--journey", default="", help="Name of the journey; the file's name if not given.")
@click.option("--hosts", default="", help="Origins to keep, separated by commas; the first page's own site if not given.")
@click.option("--account", default="ada", show_default=True, help="Who does this; must be engineer or owner there.")
def command(file: Path, project: str, journey: str, hosts: str, account: str) -> None:
    """Read a HAR FILE into a recording and a journey (or a CSV file into a data set) of a project."""
    from dynamikos.cli import processes
    from dynamikos.cli.state import State

    state = State.open()
    addresses, cluster = processes.database(state)
    try:
        processes.use_django(state, addresses)
        processes.migrate(addresses)
        from dynamikos.cli.project_run import membership

        member = membership(project, account)
        if file.suffix.lower() in (".csv", ".tsv"):
            from dynamikos.web.datasets.actions import import_csv

            made = import_csv(member, file.read_bytes(), file.name)
            click.echo(f"data set {made.key}: {made.rows:,} rows")
            return
        from dynamikos.web.journeys.actions import create_from_recording
        from dynamikos.web.recordings.actions import import_har

        recording = import_har(member, file.read_bytes(), file.name)
        for host in recording.hosts:
            click.echo(
                f"{host['count']:6,} exchanges {host['size_bytes']:12,} B  {host['origin']}{'' if host['ours'] else '   (third party, left out)'}"
            )
        wanted = [origin.strip() for origin in hosts.split(",") if origin.strip()] or [
            host["origin"] for host in recording.hosts if host["ours"]
        ]
        found = create_from_recording(member, recording, journey or file.stem.replace("-", " ").capitalize(), wanted)
        click.echo(f"journey {found.key}: revision {found.head.number if found.head else 0}")
    except DynamikosError as problem:
        click.echo(f"could not import: {problem}", err=True)
        sys.exit(2)
    finally:
        if cluster is not None:
            cluster.stop()
