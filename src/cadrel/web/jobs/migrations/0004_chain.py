"""Several procedures under one consent."""

from django.db import migrations, models


class Migration(migrations.Migration):
    """A job knows what follows it."""

    dependencies = [("jobs", "0003_arguments")]
    operations = [
        migrations.AddField(
            model_name="job",
            name="chain",
            field=models.JSONField(default=list, help_text="procedures that follow under the same consent, in order"),
        )
    ]
