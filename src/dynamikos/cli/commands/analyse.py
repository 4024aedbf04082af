"""Looks for findings in a run that is over (started by the coordinator)."""

import click


@click.command(hidden=True)
@click.argument("run")
def command(run: str) -> None:
    """Writes the findings and the capacity of RUN, an id, into it."""
    import django

    django.setup()
    from msgspec import to_builtins

    from dynamikos.core.unsafe_characters import storable
    from dynamikos.fleet.coordinator.stream import say
    from dynamikos.web.runs import analysis, comparing, log
    from dynamikos.web.runs.models import Run

    found = Run.objects.get(pk=run)
    made, capacity = (storable(to_builtins(each)) for each in analysis.look(found))
    figures = storable(to_builtins(comparing.figures(found)))
    differs = storable(log.with_changes(found))
    Run.objects.filter(pk=found.pk).update(
        findings=made, capacity=capacity, figures=figures, differs=differs
    )
    say(found.pk, "findings", str(len(made)))
