"""The identified plant in typed parts, each with its run; it was one dictionary at the axis."""

import math

import django.db.models.deletion
from django.db import migrations, models

SPRINGY = ("inertia_motor", "inertia_load", "stiffness", "damping", "viscous", "viscous_load")


def move(apps, schema_editor):
    """What has no run cannot be shown, and is left behind."""
    Axis, Run = apps.get_model("projects", "Axis"), apps.get_model("runs", "Run")
    PlantPart = apps.get_model("runs", "PlantPart")
    for axis in Axis.objects.all():
        for part, step, values in (("total", "load", total(axis.model)), ("springy", "velocity", springy(axis.model))):
            run = Run.objects.filter(axis=axis, step=step).order_by("-number").first()
            if run is not None and values is not None:
                PlantPart.objects.create(axis=axis, part=part, values=values, run=run, value_set_id=run.value_set_id)


def total(model):
    """What the load run found, or None."""
    if "inertia" not in model:
        return None
    viscous = model.get("viscous_total", model.get("viscous", 0.0))
    return {"inertia": model["inertia"], "viscous_total": viscous, "coulomb": model.get("coulomb", 0.0)}


def springy(model):
    """What the velocity run found, or None."""
    measured = model.get("plant_measured")
    if not measured or any(k not in model for k in SPRINGY) or "small_signal_resistance" not in model:
        return None
    value = [(10 ** (db / 20), math.radians(deg)) for db, deg in zip(measured["db"], measured["deg"], strict=True)]
    return {
        "load": {k: model[k] for k in SPRINGY},
        "small_signal_resistance": model["small_signal_resistance"],
        "measured": {
            "f": measured["f"],
            "re": [size * math.cos(angle) for size, angle in value],
            "im": [size * math.sin(angle) for size, angle in value],
            "coherence": measured.get("coherence", [1.0] * len(value)),
            "std": [0.0] * len(value),
        },
    }


class Migration(migrations.Migration):
    dependencies = [
        ("projects", "0002_rates"),
        ("runs", "0002_verdicts"),
    ]

    operations = [
        migrations.CreateModel(
            name="PlantPart",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("part", models.CharField(help_text="total or springy, of `core.identification.IdentifiedPlant`", max_length=10)),
                ("values", models.JSONField(help_text="as its `as_dict` gives it")),
                ("retired_because", models.CharField(blank=True, max_length=100)),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("axis", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="plant_parts", to="projects.axis")),
                ("run", models.ForeignKey(on_delete=django.db.models.deletion.CASCADE, related_name="plant_parts", to="runs.run")),
                ("value_set", models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="+", to="projects.valueset")),
            ],
            options={"ordering": ["-pk"]},
        ),
        migrations.AddConstraint(
            model_name="plantpart",
            constraint=models.UniqueConstraint(
                condition=models.Q(("retired_because", "")), fields=("axis", "part"), name="one_plant_part_in_force"
            ),
        ),
        migrations.RunPython(move, migrations.RunPython.noop),
    ]
