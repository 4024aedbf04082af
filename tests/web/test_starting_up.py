"""What keeps an installation from starting is said before anything is done: a newer database, a
lost key.
"""

import tempfile
from pathlib import Path

from django.db import connection
from django.test import TestCase

from dynamikos.cli.starting import CannotStart, refuse_newer, refuse_without_key
from dynamikos.cli.state import State, is_free
from dynamikos.web.environments.models import Environment, Secret
from tests.ports import free_port
from tests.web.support import Sample


class Starts(TestCase):
    def test_a_database_that_newer_code_changed_is_refused_by_name_and_number(self) -> None:
        refuse_newer()
        with connection.cursor() as cursor:
            cursor.execute(
                "INSERT INTO django_migrations (app, name, applied) VALUES ('runs', '9001_later', "
                "now())"
            )
        with self.assertRaises(CannotStart) as caught:
            refuse_newer()
        self.assertIn(
            "it has runs 9001_later, and this code knows runs up to 00", str(caught.exception)
        )

    def test_sealed_secrets_whose_key_is_gone_get_no_new_one(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            key = Path(name) / "sealing.key"
            refuse_without_key(key)
            sample = Sample()
            environment = Environment.objects.filter(project=sample.project).first()
            Secret.objects.create(
                environment=environment, name="token", sealed=b"x", fingerprint="f"
            )
            with self.assertRaises(CannotStart) as caught:
                refuse_without_key(key)
            self.assertIn(f"bring back {key}", str(caught.exception))
            self.assertFalse(key.exists())
            key.write_bytes(b"k")
            refuse_without_key(key)


class Ports(TestCase):
    def test_a_port_that_was_asked_for_is_kept_or_refused_never_ignored(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            state = State(Path(name))
            first, other = free_port(), free_port()
            self.assertEqual(state.port("web", first)[0], first)
            self.assertEqual(state.port("web", other)[0], first)  # as it was
            self.assertEqual(state.port("web", other, is_asked=True)[0], other)
            listening, port, _ = state.listening("web", other, is_asked=True)
            self.addCleanup(listening.close)
            self.assertFalse(is_free(port))
            with self.assertRaises(SystemExit) as caught:
                state.port("web", other, is_asked=True)
            self.assertIn(f"port {other} was asked for and is taken", str(caught.exception))
