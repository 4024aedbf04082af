from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0002_functions")]

    operations = [
        migrations.AddField(
            model_name="revision", name="tab", field=models.CharField(blank=True, max_length=16)
        )
    ]
