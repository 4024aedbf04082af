"""The sentences that 0024 made values of; apart, since PostgreSQL alters no table whose rows were
just changed.
"""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0024_endings")]

    operations = [
        migrations.RemoveField("run", "ended"),
        migrations.RemoveField("shard", "ended"),
        migrations.RemoveField("command", "why"),
        migrations.AlterField(
            "run",
            "state",
            models.CharField(
                max_length=10,
                default="asked",
                choices=[
                    ("asked", "Asked"),
                    ("running", "Running"),
                    ("ended", "Ended"),
                    ("refused", "Refused"),
                ],
            ),
        ),
    ]
