"""A database of its own for a benchmark."""

import os
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def own_database() -> Iterator[None]:
    """A fresh cluster with the product's tables; Django is set up on it."""
    from dynamikos.cli import processes
    from dynamikos.cli.cluster import Cluster
    from dynamikos.cli.state import State

    state = State.open()
    cluster = Cluster(state, name=f"pg-bench-{os.getpid()}", fast=True)
    cluster.start()
    try:
        os.environ["DYNAMIKOS_TESTING"] = "1"
        os.environ["DYNAMIKOS_POOL"] = "16"  # as the web process has it
        processes.use_django(
            state, processes.Addresses(cluster.url(), cluster.url(), cluster.url())
        )
        from django.core.management import call_command
        from django.db import connections

        call_command("migrate", verbosity=0)
        yield
        connections["default"].close_pool()  # type: ignore[attr-defined]
    finally:
        cluster.drop()
