"""How runs and shards ended, as values; they were sentences."""

from typing import Any

from django.db import migrations, models


def forward(apps: Any, schema_editor: Any) -> None:
    from dynamikos.core.verdicts.ending import of_words, plain

    for model in ("Run", "Shard"):
        kind = apps.get_model("runs", model)
        over = kind.objects.exclude(ended="").values_list("ended", flat=True).distinct()
        for words in list(over):
            kind.objects.filter(ended=words).update(ending=plain(of_words(words)))
    commands = apps.get_model("runs", "Command").objects
    for words in list(commands.exclude(why="").values_list("why", flat=True).distinct()):
        commands.filter(why=words).update(ending=plain(of_words(f"stopped: {words}")))


class Migration(migrations.Migration):
    dependencies = [("runs", "0023_followed")]

    operations = [
        *(
            migrations.AddField(model, "ending", models.JSONField(null=True))
            for model in ("run", "shard", "command")
        ),
        migrations.RunPython(forward, migrations.RunPython.noop),
    ]
