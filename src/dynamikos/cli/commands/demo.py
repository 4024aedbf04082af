"""./dynamikos demo"""

import os
import time
import urllib.request
from pathlib import Path

import click
from click.core import ParameterSource

from dynamikos.chromium import CHROMIUM, unguarded
from dynamikos.cli.starting import CannotStart


@click.command()
@click.option(
    "--port",
    type=int,
    default=8460,
    show_default=True,
    help="Where the web application listens, on loopback.",
)
@click.option(
    "--target-port",
    type=int,
    default=8470,
    show_default=True,
    help="Where the practice target listens.",
)
@click.pass_context
def command(asked: click.Context, port: int, target_port: int) -> None:
    """Start everything on this machine with the sample project, and print where to look.

    Ctrl-C ends everything; a second start finds everything as it was left.
    """
    from dynamikos.cli import processes
    from dynamikos.cli.state import State

    begun = time.monotonic()
    state = State.open()
    if "demo" in state.living():
        raise SystemExit(
            "dynamikos: this clone's demo is running already. ./dynamikos stop ends it."
        )
    state.remember("demo", os.getpid())
    addresses, cluster = processes.database(state)
    supervisor = processes.Supervisor(state)
    try:
        web_socket, web_port, note = state.listening("web", port, is_asked=_is_asked(asked, "port"))
        target_socket, target, target_note = state.listening(
            "target", target_port, is_asked=_is_asked(asked, "target_port")
        )
        for each in (note, target_note):
            if each:
                click.echo(each)
        addresses.own_ports.append(web_port)
        addresses.web_port = web_port
        addresses.practice = f"http://127.0.0.1:{target}"
        processes.use_django(state, addresses)
        made = processes.environment(state, "", addresses)
        supervisor.add("target", ["observatory", "--port", str(target)], made, target_socket)
        try:
            processes.migrate(addresses)
        except CannotStart as problem:
            raise SystemExit(f"dynamikos: {problem}") from problem
        from dynamikos.cli.sample import DEMO_ACCOUNT, load

        password = state.secret("demo-password", 9)
        load(target, password)
        supervisor.add(
            "coordinator",
            ["dynamikos.cli", "coordinator"],
            processes.environment(state, addresses.web, addresses),
        )
        supervisor.add(
            "prober",
            ["dynamikos.cli", "prober"],
            processes.environment(state, addresses.web, addresses),
        )
        supervisor.add_generator(addresses, "--place", "here")
        supervisor.add(
            "recorder",
            ["dynamikos.cli", "recorder"],
            processes.environment(state, addresses.web, addresses),
        )
        supervisor.add(
            "web",
            ["dynamikos.cli", "web", "--port", str(web_port)],
            processes.environment(state, addresses.web, addresses),
            web_socket,
        )
        address = f"http://127.0.0.1:{web_port}/"
        _wait(address, state.log("web"))
        click.echo(
            f"\nDynamikos is ready after {time.monotonic() - begun:.1f} s.\n\n"
            f"  open      {address}\n"
            f"  sign in   {DEMO_ACCOUNT} / {password}\n\n"
            "Try first: open the project “Brindle Fell Observatory”, the journey “Evening "
            "booking”, press Rehearse;\n"
            "the journey “Evening, as recorded”: Strands, Search, Accept all proven, Rehearse;\n"
            "then Load, “Evening, 20 users”, Start run (it asks for two rounds first: rehearse "
            "them, or start all the"
            " same), and watch the tape.\n"
            f"The practice target listens on http://127.0.0.1:{target}/ (what it can carry: "
            "/truth).\n"
            f"Logs and state: {state.folder}\n"
            "Ctrl-C ends everything; the next start finds it as you left it."
        )
        if Path(CHROMIUM).exists() and unguarded():
            click.echo(unguarded())
        supervisor.watch(cluster=cluster)
        click.echo("\nending")
    finally:
        supervisor.end()
        if cluster is not None:
            cluster.stop()
        state.forget("demo")


LONGEST_START_S, SAID_EVERY_S = 600.0, 15.0


def _is_asked(context: click.Context, name: str) -> bool:
    return context.get_parameter_source(name) is ParameterSource.COMMANDLINE


def _wait(address: str, log: Path) -> None:
    """Until the web application answers; on a machine that is busy with others that takes its
    time.
    """
    begun = said = time.monotonic()
    while time.monotonic() - begun < LONGEST_START_S:
        if time.monotonic() - said > SAID_EVERY_S:
            said = time.monotonic()
            click.echo(
                f"waiting for the web application to start ({said - begun:.0f} s); its log is {log}"
            )
        try:
            with urllib.request.urlopen(address + "sign-in/", timeout=2):
                return
        except OSError:
            time.sleep(0.1)
    raise SystemExit(
        f"dynamikos: the web application did not start within {LONGEST_START_S:.0f} s; its log is "
        f"{log}"
    )
