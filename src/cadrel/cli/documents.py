"""Documents written from the registry and the schemas; and the kernels' warm-up."""

import json

from cadrel.cli.stack import ROOT
from cadrel.core.parameters import REGISTRY, STEPS, Parameter, has_preset, units_for
from cadrel.core.quantities import CONVENTIONS
from cadrel.exchange import axis_schema, record_keys, record_schema, result_schema, rig_schema


def schema_files() -> dict[str, str]:
    """Return the text of every schema file by its path in docs."""
    made = {"axis": axis_schema(), "rig": rig_schema(), "result": result_schema()}
    made |= {kind: record_schema(kind, tuple(p.key for p in record_keys(kind))) for kind in ("motor", "feedback")}
    return {
        f"docs/formats/{k}.schema.json": json.dumps(s, indent=1, ensure_ascii=False) + "\n" for k, s in made.items()
    }


def write_schemas() -> int:
    """Write the schemas into docs/formats."""
    for path, text in schema_files().items():
        (ROOT / path).write_text(text)
    return 0


def reference_text() -> str:
    """Return the parameter reference."""
    lines = ["# Parameters", "", "Written by `bin/cadrel reference` from the registry.", ""]
    for step in STEPS:
        rows = [p for p in REGISTRY.values() if p.step == step.key]
        if not rows:
            continue
        lines += [f"## {step.title}", ""]
        for p in rows:
            units = ", ".join(u for u in units_for(p) if u) if not p.choices else ", ".join(v for _, v in p.choices)
            conventions = (
                f" Conventions: {', '.join(c.label for c in CONVENTIONS[p.convention])}." if p.convention else ""
            )
            kept = "in the drive" if p.storage == "drive" else "in the project"
            more = (f" CiA 402 object {p.cia402}." if p.cia402 else "") + (" Needs a restart." if p.restart else "")
            lines += [
                f"### {p.label} `{p.key}`",
                "",
                f"{p.help.what} {p.help.choose} Usual mistake: {p.help.mistake}",
                "",
                f"{_asked(p)}Kept {kept}. {'Choices' if p.choices else 'Units'}: {units or 'none'}.{conventions}{more}",
                "",
            ]
    return "\n".join(lines)


def _asked(p: Parameter) -> str:
    """Whether it is needed, and under which choices it is asked for."""
    if p.storage == "drive" and not p.required:
        return ""
    under = " and ".join(
        f"{REGISTRY[key].label.lower()} is {' or '.join(dict(REGISTRY[key].choices)[o] for o in options)}"
        for key, options in p.when
    )
    needed = "Needed" if p.required and not has_preset(p) else "Optional"
    return f"{needed}{f' where {under}' if under else ''}. {p.improves + ' ' if p.improves else ''}"


def write_reference() -> int:
    """Write docs/parameters.md."""
    (ROOT / "docs" / "parameters.md").write_text(reference_text())
    return 0


def warm_up() -> int:
    """Compile every kernel into numba's cache."""
    from cadrel.core.control import Gains, TwoMass, Winding, step_response
    from cadrel.core.motion import move_profile
    from cadrel.core.simulation import RigTruth, SimulatedDrive
    from cadrel.core.twin import Twin

    truth = RigTruth(
        resistance=1,
        inductance_d=1e-3,
        inductance_q=1e-3,
        flux_linkage=0.05,
        pole_pairs=4,
        inertia_motor=1e-4,
        inertia_load=1e-4,
    )
    SimulatedDrive("warm-up", truth).advance(0.01)
    gains = Gains(
        current_gain=1,
        current_reset=1e-3,
        velocity_gain=0.01,
        velocity_reset=0.05,
        feedback_filter_hz=800,
        torque_filter_hz=1200,
    )
    load, winding = TwoMass(inertia_motor=1e-4), Winding(resistance=1, inductance=1e-3)
    step_response("velocity", load, winding, gains, duration=0.01)
    twin = Twin(
        gains=gains, winding=winding, load=load, torque_constant=0.3, pole_pairs=4.0, voltage_limit=100.0,
        current_limit=5.0, velocity_limit=10.0,
    )  # fmt: skip
    twin.run(move_profile(0.1, velocity=10.0, acceleration=100.0, jerk=1e4))
    return 0
