"""Say that a plant part may be what commutation found of a load."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0004_verdict_remarks")]

    operations = [
        migrations.AlterField(
            model_name="plantpart",
            name="part",
            field=models.CharField(
                help_text="total, springy or held, of `core.identification.IdentifiedPlant`", max_length=10
            ),
        ),
    ]
