from typing import Any

from django.db import migrations, models


def withdraw_overrides(apps: Any, schema_editor: Any) -> None:
    """Host overrides that engineers had set are nobody's agreement: they are taken away and named
    in the event table, so that an owner can agree to them as "https://staging.example at 10.0.0.7".
    """
    environments = apps.get_model("environments", "Environment")
    events = apps.get_model("projects", "Event")
    for found in environments.objects.all():
        hosts = found.way.pop("hosts", {})
        found.history = [
            {**state, "way": {k: v for k, v in state.get("way", {}).items() if k != "hosts"}}
            for state in found.history
        ]
        found.save(update_fields=["way", "history"])
        for host, address in hosts.items():
            events.objects.create(
                project_id=found.project_id,
                what="host override withdrawn",
                subject=f"{host} {address}"[:200],
                detail={"environment": found.key},
            )


class Migration(migrations.Migration):
    dependencies = [("environments", "0003_history"), ("projects", "0001_initial")]
    operations = [
        migrations.AddField(
            model_name="agreedtarget",
            name="address",
            field=models.CharField(blank=True, default="", max_length=60),
        ),
        migrations.RunPython(withdraw_overrides, migrations.RunPython.noop),
    ]
