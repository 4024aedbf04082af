"""./dynamikos target"""

import click

from dynamikos.cli.state import State


@click.command()
@click.option("--port", type=int, default=8470, show_default=True)
@click.option("--weather", default="clear", show_default=True, help="clear or small-pool.")
@click.option(
    "--seed", type=int, default=7, show_default=True, help="Fixes every drawn service time."
)
def command(port: int, weather: str, seed: int) -> None:
    """Run the practice target, Brindle Fell Observatory, on loopback until Ctrl-C.

    /truth tells what it can carry, /metrics what it measures, POST /weather/NAME changes its
    weather.
    """
    from observatory.app import Observatory
    from observatory.serving import serve
    from observatory.weather import WEATHER

    if weather not in WEATHER:
        raise click.BadParameter(
            f"there is no weather '{weather}'; choose one of {', '.join(WEATHER)}",
            param_hint="--weather",
        )
    free, note = State.open().port("target", port)
    if note:
        click.echo(note)
    click.echo(
        f"Brindle Fell Observatory, {weather}: http://127.0.0.1:{free}/   what it can carry: "
        f"http://127.0.0.1:{free}/truth"
    )
    serve(Observatory(weather, seed), free)
