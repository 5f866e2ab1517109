"""Say that a plant part may be a chain of masses."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0007_rubbed_load")]  # noqa: RUF012 - as Django has it

    operations = [  # noqa: RUF012
        migrations.AlterField(
            model_name="plantpart",
            name="part",
            field=models.CharField(
                help_text="total, springy, held, rubbed or chain, of `core.identification.IdentifiedPlant`", max_length=10
            ),
        ),
    ]
