"""What was noticed beside a verdict stands with it."""

from django.db import migrations, models


class Migration(migrations.Migration):
    """Add the remarks of verdicts."""

    dependencies = [("runs", "0003_plant_parts")]  # noqa: RUF012 - as Django has it

    operations = [  # noqa: RUF012
        migrations.AddField(model_name="verdict", name="remarks", field=models.JSONField(default=list)),
    ]
