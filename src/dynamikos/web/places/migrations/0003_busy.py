from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("places", "0002_public_key")]
    operations = [migrations.AddField("generator", "busy", models.BooleanField(default=False))]
