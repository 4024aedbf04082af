"""Runs of an earlier day, whose endings were sentences, have them as values."""

import datetime
from typing import Any

from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.test import TransactionTestCase

from tests.web.support import Sample

BEFORE, AFTER = [("runs", "0023_followed")], [("runs", "0025_no_sentences")]


class Migrated(TransactionTestCase):
    def apps_at(self, target: list[tuple[str, str]]) -> Any:
        executor = MigrationExecutor(connection)
        executor.migrate(target)
        return executor.loader.project_state(target).apps

    def test_sentences_become_values(self) -> None:
        sample = Sample("http://127.0.0.1:9")
        self.addCleanup(self.apps_at, AFTER)
        older = self.apps_at(BEFORE)
        told = {
            "finished": {"cause": "finished", "by": ""},
            "stopped gently": {"cause": "stopped", "by": "person", "now": False},
            "stopped now": {"cause": "stopped", "by": "person", "now": True},
            "stopped: objective: p95 of all steps ≤ 5 ms missed": {
                "by": "objective",
                "objective": "p95 of all steps ≤ 5 ms missed",
            },
            "stopped: the disk of dome is full": {
                "by": "disk",
                "detail": "the disk of dome is full",
            },
            "broke: KeyError: 'a'": {"cause": "broke", "detail": "KeyError: 'a'"},
            "no generator was free": {"cause": "refused", "detail": "no generator was free"},
            "": None,
        }
        now = datetime.datetime(2026, 11, 1, tzinfo=datetime.UTC)
        for number, words in enumerate(told, 1):
            run = older.get_model("runs", "Run").objects.create(
                project_id=sample.project.pk,
                number=number,
                name=words,
                frozen=b"",
                sha256="",
                ended=words,
                state="ended" if words else "running",
                asked_at=now,
            )
            older.get_model("runs", "Shard").objects.create(run=run, number=0, ended=words)
        older.get_model("runs", "Command").objects.create(
            run=run, verb="stop-now", why="objective: p95 of all steps ≤ 5 ms missed"
        )
        newer = self.apps_at(AFTER)
        for kind, name in (
            (newer.get_model("runs", "Run"), "name"),
            (newer.get_model("runs", "Shard"), "run__name"),
        ):
            found = dict(kind.objects.values_list(name, "ending"))
            self.assertEqual(len(found), len(told))
            for words, expected in told.items():
                with self.subTest(kind.__name__, words=words):
                    ending = found[words]
                    self.assertEqual(
                        expected, ending and {key: ending[key] for key in expected or ()}
                    )
        (command,) = newer.get_model("runs", "Command").objects.all()
        self.assertEqual(command.ending["objective"], "p95 of all steps ≤ 5 ms missed")
