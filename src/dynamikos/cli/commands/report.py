"""./dynamikos report"""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from dynamikos.cli.refusing import refuse
from dynamikos.core.errors import DynamikosError
from dynamikos.core.figures import digits
from dynamikos.engine.chromium import CHROMIUM, unseen

if TYPE_CHECKING:
    from dynamikos.core.telling import Report

FOOT = (
    '<div style="font-size:8px;width:100%;text-align:center;color:#666">page <span class="pageNumber"></span> of'
    ' <span class="totalPages"></span></div>'
)


@click.command()
@click.argument("run")
@click.option("--html", type=click.Path(dir_okay=False, path_type=Path), help="One file that needs nothing else.")
@click.option("--pdf", type=click.Path(dir_okay=False, path_type=Path), help="The same on pages (needs chromium).")
@click.option("--markdown", type=click.Path(dir_okay=False, path_type=Path), help="Its text.")
@click.option("--project", help="For a run's number: the project it belongs to, needed only if there are several.")
def command(run: str, html: Path | None, pdf: Path | None, markdown: Path | None, project: str | None) -> None:
    """Tell a run to those who were not there: RUN is a folder of `run --keep`, or the number of a project's run.
    Without a file the text is printed.
    """
    from dynamikos.core.telling import as_html, as_markdown

    try:
        made = told(run, project)
        if markdown is not None:
            markdown.write_text(as_markdown(made))
        if html is not None:
            html.write_text(as_html(made))
        if pdf is not None:
            printed(as_html(made), pdf)
        if html is None and pdf is None and markdown is None:
            click.echo(as_markdown(made))
    except (DynamikosError, OSError) as problem:
        refuse("could not tell", problem)
        sys.exit(2)


def told(run: str, project: str | None) -> "Report":
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


def printed(html: str, file: Path) -> None:
    """As pages, by the browser that is there, which is given no network. Raises DynamikosError without one."""
    from playwright.sync_api import Error, sync_playwright

    if not Path(CHROMIUM).exists():
        raise DynamikosError(f"There is no browser at {CHROMIUM} to print with; install Debian's package chromium.")
    try:
        with sync_playwright() as play:
            browser = play.chromium.launch(**unseen())
            page = browser.new_context(offline=True).new_page()
            page.set_content(html)
            page.evaluate("document.querySelectorAll('details').forEach((each) => { each.open = true; })")
            page.pdf(
                path=str(file), format="A4", print_background=True, display_header_footer=True,
                header_template="<span></span>", footer_template=FOOT,
                margin={"top": "14mm", "bottom": "16mm", "left": "12mm", "right": "12mm"},
            )  # fmt: skip
            browser.close()
    except Error as problem:
        raise DynamikosError(f"The browser could not print it: {str(problem).splitlines()[0][:200]}") from problem
