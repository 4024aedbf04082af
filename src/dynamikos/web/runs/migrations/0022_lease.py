from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0021_by_value_at")]

    operations = [migrations.AddField("run", "lease_until", models.DateTimeField(null=True))]
