"""Notes of drives and axes; projects and axes that are laid aside."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("projects", "0003_no_model")]

    operations = [
        migrations.AlterField("project", "notes", models.TextField(blank=True, max_length=5000)),
        migrations.AddField("project", "archived", models.BooleanField(default=False)),
        migrations.AddField("drive", "notes", models.TextField(blank=True, max_length=5000)),
        migrations.AddField("axis", "notes", models.TextField(blank=True, max_length=5000)),
        migrations.AddField("axis", "archived", models.BooleanField(default=False)),
    ]
