"""Say that a plant part may be what an axis needs to stand still after its moves."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("runs", "0008_chain_part")]  # noqa: RUF012 - as Django has it

    operations = [  # noqa: RUF012
        migrations.AlterField(
            model_name="plantpart",
            name="part",
            field=models.CharField(
                help_text="total, springy, held, rubbed, chain or unrest, of `core.identification.IdentifiedPlant`",
                max_length=10,
            ),
        ),
    ]
