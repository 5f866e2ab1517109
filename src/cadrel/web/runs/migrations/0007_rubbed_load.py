"""Say that a plant part may be friction over speed."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0006_proposal_first_run")]  # noqa: RUF012 - as Django has it

    operations = [  # noqa: RUF012
        migrations.AlterField(
            model_name="plantpart",
            name="part",
            field=models.CharField(
                help_text="total, springy, held or rubbed, of `core.identification.IdentifiedPlant`", max_length=10
            ),
        ),
    ]
