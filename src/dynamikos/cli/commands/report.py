"""./dynamikos report"""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits

if TYPE_CHECKING:
    from dynamikos.core.telling import Report


@click.command()
@click.argument("run")
@click.option(
    "--html",
    type=click.Path(dir_okay=False, path_type=Path),
    help="One file that needs nothing else.",
)
@click.option(
    "--pdf",
    type=click.Path(dir_okay=False, path_type=Path),
    help="The same on pages (needs chromium).",
)
@click.option("--markdown", type=click.Path(dir_okay=False, path_type=Path), help="Its text.")
@click.option(
    "--folder",
    type=click.Path(file_okay=False, path_type=Path),
    help="Its figures as CSV and Parquet.",
)
@click.option(
    "--project",
    help="For a run's number: the project it belongs to, needed only if there are several.",
)
def command(
    run: str,
    html: Path | None,
    pdf: Path | None,
    markdown: Path | None,
    folder: Path | None,
    project: str | None,
) -> None:
    """Tell a run to those who were not there: RUN is a folder of `run --keep`, or the number of a
    project's run. Without a file the text is printed.
    """
    from dynamikos.chromium.printing import printed
    from dynamikos.core.telling import as_html, as_markdown

    try:
        made = report_of(run, project)
        if markdown is not None:
            markdown.write_text(as_markdown(made))
        if html is not None:
            html.write_text(as_html(made))
        if pdf is not None:
            pdf.write_bytes(printed(as_html(made)))
        if folder is not None:
            from dynamikos.core.telling.sheets import as_files, sheets_of

            folder.mkdir(parents=True, exist_ok=True)
            for name, content in (
                ("report.md", as_markdown(made).encode()),
                *as_files(sheets_of(made)),
            ):
                (folder / name).write_bytes(content)
        if not (html or pdf or markdown or folder):
            click.echo(as_markdown(made))
    except (DynamikosError, OSError) as problem:
        refuse("could not tell", problem)
        sys.exit(2)


def report_of(run: str, project: str | None) -> "Report":
    """The report of a folder or a project's run. Raises DynamikosError."""
    if Path(run).is_dir():
        from dynamikos.cli.folder import report

        return report(Path(run))
    number = digits(run)
    if number is None:
        raise DynamikosError(f"{run} is neither a folder of run --keep nor the number of a run")
    from dynamikos.cli.project_run import a_run

    with a_run(number, project) as found:
        from dynamikos.web.runs import telling

        return telling.report(found)
