from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


def keep(apps: Any, schema_editor: Any) -> None:
    """A draft of everybody becomes that of the journey's last author."""
    journeys, drafts = apps.get_model("journeys", "Journey"), apps.get_model("journeys", "Draft")
    for journey in journeys.objects.exclude(draft="").select_related("head"):
        if journey.head is not None and journey.head.author_id is not None:
            drafts.objects.create(
                journey=journey, account_id=journey.head.author_id, text=journey.draft
            )


class Migration(migrations.Migration):
    dependencies = [
        ("journeys", "0003_shared_steps"),
        ("projects", "0003_tabs"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="Draft",
            fields=[
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("parent", models.CharField(blank=True, max_length=60)),
                ("text", models.TextField()),
                ("changed_at", models.DateTimeField(auto_now=True)),
                (
                    "account",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, to=settings.AUTH_USER_MODEL
                    ),
                ),
                (
                    "journey",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="drafts",
                        to="journeys.journey",
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=("journey", "account"), name="own_draft")
                ]
            },
        ),
        migrations.RunPython(keep, migrations.RunPython.noop),
        migrations.RemoveField(model_name="journey", name="draft"),
    ]
