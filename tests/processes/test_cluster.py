"""A server of ours never takes somebody else's for its own."""

from unittest import TestCase, mock

import psycopg

from dynamikos.cli.cluster import Cluster
from dynamikos.cli.state import State
from tests.processes.support import free_port


class Clusters(TestCase):
    def test_a_port_that_another_takes_at_the_same_moment_is_left_to_it(self) -> None:
        state = State.open()
        ports = [free_port(), free_port()]
        made = [Cluster(state, name=f"pg-twin-{number}", fast=True) for number in (1, 2)]
        for each in made:
            self.addCleanup(each.drop)
        with mock.patch.object(
            State, "port", side_effect=[(ports[0], None), (ports[0], None), (ports[1], None)]
        ):
            made[0].start()
            made[1].start()  # looked at the port before the first one listened
        self.assertEqual([each.port for each in made], ports)
        folders = []
        for each in made:
            with psycopg.connect(each.url("superuser", "postgres")) as link:
                folders.append(link.execute("SHOW data_directory").fetchone()[0])  # type: ignore[index]
        self.assertEqual(folders, [str(each.folder / "data") for each in made])
