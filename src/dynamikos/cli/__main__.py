"""The command group. Each command is imported only when it is called, so that `--help` stays
quick.
"""

import importlib
import sys

import click

COMMANDS = {
    "demo": "Start everything with the sample project and print where to look.",
    "test": "Run every check: static, core, web, processes, browser.",
    "compile": "Make the engine's busiest modules machine code: about half as many exchanges more.",
    "run": "Run a load plan and judge it; the exit code says how it went.",
    "import": "Read HAR files into a journey of a project.",
    "change": "Make changes of a journey in its text form.",
    "rehearse": "Rehearse a journey of a project: one user, one round, all shown.",
    "suspects": "Find what moved with a step's time in a window of a run.",
    "compare": "Say whether one run, or set of runs, is worse than another.",
    "report": "Tell a run in one file: HTML, PDF or Markdown.",
    "strands": "Find the values a server issues and a client sends back.",
    "target": "Run the practice target (the stand-in observatory) alone.",
    "generator": "Run a generator that waits for work.",
    "bench": "Measure speed and truth, as ratios taken in one run.",
    "shots": "Take pictures of the main views on the demo data.",
    "shell": "Open Django's shell on this clone's database.",
    "stop": "Stop what this clone has started.",
    "reset": "Stop, then delete this clone's state (asks first).",
}
INSIDE = (
    "analyse",
    "probes",
    "web",
    "coordinator",
    "prober",
    "recorder",
)  # processes that demo starts; not listed


class Commands(click.Group):
    """Finds a command in the module of its name."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS and cmd_name not in INSIDE:
            return None
        module = importlib.import_module(
            f"dynamikos.cli.commands.{cmd_name.replace('import', 'import_har')}"
        )
        command: click.Command = module.command
        return command

    def invoke(self, ctx: click.Context) -> object:
        """What commands don't put into words themselves: a database that is away or full."""
        from dynamikos.cli.starting import DatabaseAway, database_in_words

        try:
            with database_in_words():
                return super().invoke(ctx)
        except DatabaseAway as problem:
            click.echo(f"dynamikos: {problem}", err=True)
            sys.exit(2)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


@click.group(cls=Commands, context_settings={"help_option_names": ["-h", "--help"]})
def main() -> None:
    """Dynamikos: realistic load on applications, judged by objectives."""


if __name__ == "__main__":
    sys.exit(main(prog_name="./dynamikos"))
