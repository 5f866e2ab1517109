"""Loop rates as the drive told them."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0001_initial")]

    operations = [
        migrations.AddField(
            model_name="axis",
            name="current_period",
            field=models.FloatField(blank=True, help_text="drive's current-loop tick [s]", null=True),
        ),
        migrations.AddField(
            model_name="axis",
            name="velocity_period",
            field=models.FloatField(blank=True, help_text="drive's velocity sample [s]", null=True),
        ),
    ]
