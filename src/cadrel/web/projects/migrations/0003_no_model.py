"""The identified plant has moved to parts with their runs."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("projects", "0002_rates"), ("runs", "0003_plant_parts")]

    operations = [migrations.RemoveField(model_name="axis", name="model")]
