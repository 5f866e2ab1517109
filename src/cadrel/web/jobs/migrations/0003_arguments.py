"""What a start was given."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("jobs", "0002_workers_and_ends")]

    operations = [migrations.AddField("job", "arguments", models.JSONField(default=dict))]
