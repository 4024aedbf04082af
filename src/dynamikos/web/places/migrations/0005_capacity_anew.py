from django.db import migrations


class Migration(migrations.Migration):
    """What hardly used generators told of their capacity was several times too low; busy ones tell
    it again.
    """

    dependencies = [("places", "0004_before_a_start")]

    operations = [
        migrations.RunSQL("UPDATE places_generator SET capacity = 0", migrations.RunSQL.noop)
    ]
