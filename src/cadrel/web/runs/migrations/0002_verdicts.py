"""Verdicts; every finding has its run. What was called proven without a verdict becomes "measured"."""

import django.db.models.deletion
from django.db import migrations, models


def give_runs_and_take_back_proofs(apps, schema_editor):
    """A claim without a run gets the newest one of its step, or goes: it could not be shown."""
    Finding, Run = apps.get_model("runs", "Finding"), apps.get_model("runs", "Run")
    for finding in Finding.objects.filter(run__isnull=True):
        run = Run.objects.filter(axis=finding.axis_id, step=finding.step).order_by("-number").first()
        if run is None:
            finding.delete()
        else:
            finding.run = run
            finding.save(update_fields=["run"])
    Finding.objects.filter(state="proven").update(state="measured")


class Migration(migrations.Migration):
    dependencies = [
        ("projects", "0001_initial"),
        ("runs", "0001_initial"),
    ]

    operations = [
        migrations.CreateModel(
            name="Verdict",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("step", models.CharField(max_length=20)),
                ("claim", models.CharField(max_length=40)),
                ("state", models.CharField(max_length=12)),
                ("reason", models.TextField(blank=True)),
                ("criteria", models.JSONField()),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("axis", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="verdicts", to="projects.axis")),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="verdicts", to="runs.run")),
                ("value_set", models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="projects.valueset")),
            ],
            options={"ordering": ["-pk"]},
        ),
        migrations.AddField(
            model_name="finding",
            name="verdict",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.SET_NULL, related_name="findings", to="runs.verdict"),
        ),
        migrations.RunPython(give_runs_and_take_back_proofs, migrations.RunPython.noop),
        migrations.RunSQL("SET CONSTRAINTS ALL IMMEDIATE", migrations.RunSQL.noop),
        migrations.AlterField(
            model_name="finding",
            name="run",
            field=models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="findings", to="runs.run"),
        ),
    ]
